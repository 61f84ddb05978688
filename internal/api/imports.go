package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/directories"
	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

// importKeys adds the keys of a file as candidates.
func (a *API) importKeys(
	ctx context.Context, publisher, source string, data []byte, progress keys.Progress,
) (wire.Import, error) {
	p, _ := principal(ctx)
	imported, report, err := a.Keys.Import(ctx, p.Name, publisher, source, data, progress)
	if err != nil {
		return wire.Import{}, err
	}
	rules, err := a.rules(ctx)
	return importOf(imported, report, rules), err
}

// previewImport tells what that would do, and asks what rests on keys that would
// change.
func (a *API) previewImport(ctx context.Context, data []byte, progress keys.Progress) (wire.Import, error) {
	imported, report, err := a.Keys.Preview(ctx, data, progress)
	if err != nil {
		return wire.Import{}, err
	}
	rules, err := a.rules(ctx)
	if err != nil {
		return wire.Import{}, err
	}
	out := importOf(imported, report, rules)
	for i, k := range imported {
		if len(k.Less) > 0 && k.State == keyring.Admitted {
			asked, err := a.askReach(ctx, string(k.Fingerprint), k.Certificate)
			if err != nil {
				return wire.Import{}, err
			}
			out.Keys[i].Reach = &asked
		}
	}
	return out, nil
}

// tellEvery is how often the progress of an import is sent.
const tellEvery = 200 * time.Millisecond

// loading registers an operation that works on a key file and tells how far it has
// come, in server-sent events.
func loading[In any](
	a *API, o wire.Operation[In, wire.Import],
	f func(ctx context.Context, in *In, progress keys.Progress) (wire.Import, error),
) {
	events := map[string]any{"progress": wire.ImportProgress{}, "import": wire.Import{}, "problem": Problem{}}
	sse.Register(a.huma, describe(o), events, func(ctx context.Context, in *In, send sse.Sender) {
		p, _ := principal(ctx)
		err := within(p, o.Role, *in)
		var out wire.Import
		if err == nil {
			var last time.Time
			out, err = f(ctx, in, func(done, total int) {
				if now := time.Now(); now.Sub(last) >= tellEvery {
					last = now
					//nolint:errcheck // the import goes on all the same
					send(sse.Message{Data: wire.ImportProgress{Done: done, Total: total}})
				}
			})
		}
		if err != nil {
			send(sse.Message{Data: *problemOf(ctx, a.Log, err)}) //nolint:errcheck // the other side is gone
			return
		}
		send(sse.Message{Data: out}) //nolint:errcheck // the other side is gone
	})
	// What an empty file lacks is told by the reader of keys.
	a.huma.OpenAPI().Paths[wire.Base+o.Path].Post.RequestBody.Required = false
}

// maxNamedKeys bounds the keys that are named with some packets.
const maxNamedKeys = 20

func importOf(imported []keys.Imported, report keys.ImportReport, rules openpgp.Rules) wire.Import {
	return wire.Import{
		Keys:  convert(imported, func(k keys.Imported) wire.Imported { return importedOf(k, rules) }),
		Notes: append([]string{}, report.Notes...),
		Packets: convert(report.Packets, func(p keys.Packets) wire.ImportedPackets {
			return wire.ImportedPackets{
				Packets: p.Packets,
				Became:  p.Became,
				Why:     p.Why,
				Keys:    len(p.Keys),
				Fingerprints: convert(
					p.Keys[:min(len(p.Keys), maxNamedKeys)], func(fp openpgp.Fingerprint) string { return string(fp) },
				),
			}
		}),
	}
}

func importedOf(k keys.Imported, rules openpgp.Rules) wire.Imported {
	out := wire.Imported{
		Fingerprint: string(k.Fingerprint),
		Result:      k.Result, Changes: append([]string{}, k.Changes...),
		UserIDs: namesOf(k.Certificate), State: k.State,
		Publisher: k.Publisher, Algorithm: k.Certificate.Primary.Describe(), Created: k.Certificate.Primary.Created,
		Subkeys: len(k.Certificate.Subkeys), Revoked: revokedOf(k.Certificate), Reassessment: someRun(k.Reassessment),
	}
	out.Expires, _ = k.Certificate.Expires(rules)
	return out
}

func answersOf(answers []directories.Answer) []wire.DirectoryAnswer {
	return convert(answers, func(a directories.Answer) wire.DirectoryAnswer {
		out := wire.DirectoryAnswer{
			Directory:    a.Directory.Name,
			Kind:         a.Directory.Kind,
			URL:          a.Directory.URL,
			Outcome:      a.Outcome,
			Detail:       a.Detail,
			Fingerprints: []string{},
			Milliseconds: a.Took.Milliseconds(),
		}
		for _, c := range a.Certificates {
			out.Fingerprints = append(out.Fingerprints, string(c.Primary.Fingerprint))
		}
		return out
	})
}
