package keys

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/directories"
	"endeixis/internal/fault"
)

// Asker asks key directories.
type Asker interface {
	Ask(ctx context.Context, q directories.Query) ([]directories.Answer, error)
	All() []directories.Directory
}

// A LookUp is what the directories said about a query, compared.
type LookUp struct {
	Answers []directories.Answer
	// Keys are the keys that were found, each put together from all copies,
	// with what an import would do.
	Keys []FoundKey
	// Notes say what is odd about the answers together.
	Notes []string
}

// A FoundKey is one key that directories had.
type FoundKey struct {
	Imported
	// Directories are the names of those that had it.
	Directories []string
	// Copy is what the directories had of it.
	Copy *openpgp.Certificate
}

// LookUp asks all configured directories, compares what they say, and keeps
// nothing.
func (s *Service) LookUp(ctx context.Context, query string) (LookUp, error) {
	q, err := directories.ParseQuery(query)
	if err != nil {
		return LookUp{}, err
	}
	if err := s.mayAsk(); err != nil {
		return LookUp{}, err
	}
	ring, _, policies, err := s.present(ctx)
	if err != nil {
		return LookUp{}, err
	}
	return s.ask(ctx, q, ring, policies.Rules(s.now()))
}

// mayAsk refuses to look anything up where no directory is configured.
func (s *Service) mayAsk() error {
	if s.asker == nil || len(s.asker.All()) == 0 {
		return fault.New(fault.Conflict, fault.NoDirectories, "No key directory is configured.").
			Advise("The administrator adds them under directories; no other is ever contacted.")
	}
	return nil
}

// ask asks the directories and holds what they say against a keyring.
func (s *Service) ask(
	ctx context.Context, q directories.Query, ring *keyring.Keyring, rules openpgp.Rules,
) (out LookUp, err error) {
	if out.Answers, err = s.asker.Ask(ctx, q); err != nil {
		return LookUp{}, err
	}
	for _, a := range out.Answers {
		for _, c := range a.Certificates {
			i := slices.IndexFunc(out.Keys, func(f FoundKey) bool { return f.Fingerprint == c.Primary.Fingerprint })
			if i < 0 {
				out.Keys = append(out.Keys, FoundKey{Imported: Imported{Fingerprint: c.Primary.Fingerprint}, Copy: c})
				i = len(out.Keys) - 1
			}
			out.Keys[i].Copy, _ = openpgp.Merge(out.Keys[i].Copy, c, decided(ring))
			if name := a.Directory.Name; !slices.Contains(out.Keys[i].Directories, name) {
				out.Keys[i].Directories = append(out.Keys[i].Directories, name)
			}
		}
	}
	for i := range out.Keys {
		out.Keys[i].Imported = arrival(ring, out.Keys[i].Copy, rules)
	}
	out.Notes = disagreements(out, q)
	return out, nil
}

// disagreements say where directories contradict each other: several keys for
// what should be one.
func disagreements(l LookUp, q directories.Query) []string {
	notes := []string{}
	if len(l.Keys) > 1 {
		what := "address"
		if q.KeyID != 0 {
			what = "key ID"
		}
		notes = append(
			notes,
			fmt.Sprintf(
				"There are %d different keys for this %s. Anybody can put a key with any name into a directory: only the full fingerprint, read elsewhere, tells which is the publisher's.",
				len(l.Keys),
				what,
			),
		)
	}
	for _, a := range l.Answers {
		if a.Outcome != directories.Found {
			continue
		}
		for _, f := range l.Keys {
			own := slices.IndexFunc(
				a.Certificates, func(c *openpgp.Certificate) bool { return c.Primary.Fingerprint == f.Fingerprint },
			)
			if own >= 0 && f.Copy.Revocation() != nil && a.Certificates[own].Revocation() == nil {
				notes = append(
					notes,
					fmt.Sprintf("The copy at %s lacks the revocation that another directory has.", a.Directory.Name),
				)
			}
		}
	}
	return notes
}

// ImportFound looks a key up again and imports what the directories have of it.
func (s *Service) ImportFound(ctx context.Context, by, publisher, query, fingerprint string) (Imported, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return Imported{}, err
	}
	l, err := s.LookUp(ctx, query)
	if err != nil {
		return Imported{}, err
	}
	i := slices.IndexFunc(l.Keys, func(f FoundKey) bool { return f.Fingerprint == fp })
	if i < 0 {
		return Imported{}, fault.New(
			fault.NotFound, fault.NotFoundThere, "No directory has the key %s under that name any more.", fp,
		).
			Advise("Look it up again.").
			At("fingerprint")
	}
	done, _, err := s.Import(
		ctx, by, publisher, "key directories: "+strings.Join(l.Keys[i].Directories, ", "), l.Keys[i].Copy.Bytes(), nil,
	)
	if err != nil {
		return Imported{}, err
	}
	return done[0], nil
}

// A LookedUp tells what looking a key up again brought.
type LookedUp struct {
	Imported
	// Asked are the answers of the directories.
	Asked []directories.Answer
}

// lookedUpAtOnce is how many keys are looked up at once: a slow directory costs its
// time-out once for all of them.
const lookedUpAtOnce = 8

// LookUpKnown looks keys up again by their fingerprints, all of them when none is
// named, and merges what is new. A key that no directory has stays as it is.
func (s *Service) LookUpKnown(ctx context.Context, by string, fingerprints []string) ([]LookedUp, error) {
	ring, _, policies, err := s.present(ctx)
	if err != nil {
		return nil, err
	}
	var keys []*keyring.Key
	for _, text := range fingerprints {
		fp, err := parse(text, "fingerprints")
		if err != nil {
			return nil, err
		}
		k := ring.Lookup(fp)
		if k == nil {
			return nil, unknownKey(fp)
		}
		keys = append(keys, k)
	}
	if len(fingerprints) == 0 {
		keys = ring.Keys()
	}
	// The fingerprint of an old key finds nothing that could be relied on.
	keys = slices.DeleteFunc(slices.Clone(keys), func(k *keyring.Key) bool { return k.Certificate.Primary.Version < 4 })
	if len(keys) == 0 {
		return nil, nil
	}
	if err := s.mayAsk(); err != nil {
		return nil, err
	}
	looked := make([]LookUp, len(keys))
	failed := make([]error, len(keys))
	var wg sync.WaitGroup
	slot := make(chan struct{}, lookedUpAtOnce)
	for i, k := range keys {
		wg.Go(func() {
			slot <- struct{}{}
			defer func() { <-slot }()
			looked[i], failed[i] = s.ask(
				ctx, directories.Query{Fingerprint: k.Certificate.Primary.Fingerprint}, ring, policies.Rules(s.now()),
			)
		})
	}
	wg.Wait()
	var out []LookedUp
	for n, k := range keys {
		fp := k.Certificate.Primary.Fingerprint
		l := looked[n]
		if failed[n] != nil {
			return out, failed[n]
		}
		key := LookedUp{
			Asked: l.Answers,
			Imported: Imported{
				Fingerprint: fp, Result: keyring.Unchanged, Certificate: k.Certificate, State: k.StateAt(s.now()),
				Publisher: k.Publisher,
			},
		}
		if i := slices.IndexFunc(l.Keys, func(f FoundKey) bool { return f.Fingerprint == fp }); i >= 0 &&
			l.Keys[i].Result == keyring.Updated {
			done, _, err := s.Import(
				ctx, by, "", "key directories: "+strings.Join(l.Keys[i].Directories, ", "), l.Keys[i].Copy.Bytes(), nil,
			)
			if err != nil {
				return out, err
			}
			state := key.State
			key.Imported = done[0]
			key.State = state
		}
		out = append(out, key)
	}
	return out, nil
}
