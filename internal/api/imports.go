package api

import (
	"endeixis/core/openpgp"
	"endeixis/internal/directories"
	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

func importOf(imported []keys.Imported, notes []string, rules openpgp.Rules) wire.Import {
	return wire.Import{Notes: append([]string{}, notes...), Keys: convert(imported, func(k keys.Imported) wire.Imported { return importedOf(k, rules) })}
}

func importedOf(k keys.Imported, rules openpgp.Rules) wire.Imported {
	out := wire.Imported{
		Fingerprint: string(k.Fingerprint), Result: k.Result, Changes: append([]string{}, k.Changes...), UserIDs: namesOf(k.Certificate), State: k.State, Publisher: k.Publisher,
		Algorithm: k.Certificate.Primary.Describe(), Created: k.Certificate.Primary.Created, Subkeys: len(k.Certificate.Subkeys), Revoked: revokedOf(k.Certificate),
	}
	out.Expires, _ = k.Certificate.Expires(rules)
	return out
}

func answersOf(answers []directories.Answer) []wire.DirectoryAnswer {
	return convert(answers, func(a directories.Answer) wire.DirectoryAnswer {
		out := wire.DirectoryAnswer{
			Directory: a.Directory.Name, Kind: a.Directory.Kind, URL: a.Directory.URL, Outcome: a.Outcome, Detail: a.Detail,
			Fingerprints: []string{}, Milliseconds: a.Took.Milliseconds(),
		}
		for _, c := range a.Certificates {
			out.Fingerprints = append(out.Fingerprints, string(c.Primary.Fingerprint))
		}
		return out
	})
}
