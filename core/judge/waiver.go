package judge

import (
	"fmt"
	"path"
	"slices"
	"time"

	"endeixis/core/plain"
)

// A Waiver is a dated, reasoned exception: it lifts one ground for one publisher
// or for names, until a day.
type Waiver struct {
	// Record is the waiver's position in the ledger.
	Record int64 `json:"record"`
	Ground Code  `json:"ground"`
	// Publisher is a slug, or empty for any; Pattern is in the syntax of
	// [path.Match] for the base name of the file that the ground is about,
	// or empty for any. One of them is set.
	Publisher string    `json:"publisher"`
	Pattern   string    `json:"pattern"`
	Reason    string    `json:"reason"`
	By        string    `json:"by"`
	Until     time.Time `json:"until"`
}

// Waivable lists the grounds that a waiver can lift. What refuses is never
// waived, nor is that a key was not admitted: for that there is admission.
func Waivable() []Code {
	return []Code{WeakDigestOnly, ManifestUnsigned, SignatureWeak, SignerExpired}
}

// waiver returns the waiver that lifts a ground for a publisher's file, or nil.
func (b Basis) waiver(ground Code, publisher, file string) *Waiver {
	for i := range b.Waivers {
		w := &b.Waivers[i]
		if w.Ground != ground || !b.Now.Before(w.Until) || w.Publisher != "" && w.Publisher != publisher {
			continue
		}
		if w.Pattern != "" {
			if ok, err := path.Match(w.Pattern, path.Base(file)); err != nil || !ok {
				continue
			}
		}
		return w
	}
	return nil
}

// waiverOver returns the waiver that lifts a ground for a file of which no
// signature says whose it is, or nil.
func (b Basis) waiverOver(ground Code, file string) *Waiver {
	if len(b.Waivers) == 0 {
		return nil // most have none, and whose the file is takes a search
	}
	return b.waiver(ground, b.concerned(file), file)
}

// concerned returns the publisher that a file is expected from, where that is
// one: the one given, or else the one whose scope has its name.
func (b Basis) concerned(file string) string {
	if b.Expected.How == "given" {
		return b.Expected.Publishers[0]
	}
	var found []string
	for _, p := range b.Keyring.Covering(file) {
		if b.Expected.allows(p.Slug) {
			found = append(found, p.Slug)
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	return ""
}

// waive marks links as lifted by a waiver.
func waive(w *Waiver, links ...*Link) {
	for _, l := range links {
		l.State, l.waiver = Waived, w
		if l.Detail != "" {
			l.Detail += "; "
		}
		l.Detail += fmt.Sprintf("waived until %s", w.Until.Format(time.DateOnly))
	}
}

// waivedGrounds names the waivers without which no path would be complete.
func waivedGrounds(paths []ProofPath) []Ground {
	var used []*Waiver
	for _, p := range paths {
		if !p.Complete {
			continue
		}
		var here []*Waiver
		for _, l := range p.Links {
			if l.waiver != nil && !slices.Contains(here, l.waiver) {
				here = append(here, l.waiver)
			}
		}
		if len(here) == 0 {
			return nil
		}
		if used == nil {
			used = here
		}
	}
	var out []Ground
	for _, w := range used {
		out = append(out, Ground{
			Code:   WaivedGround,
			Effect: Supports,
			Waiver: &WaiverFacts{Record: w.Record, Ground: w.Ground, By: w.By, Until: w.Until},
			Sentence: fmt.Sprintf(
				"The ground %s was waived by %s to the end of %s (record %d): %s", w.Ground, plain.Text(w.By),
				LastDay(w.Until), w.Record, plain.Text(w.Reason),
			),
		})
	}
	return out
}

// LastDay is the last day on which a waiver counts that ends at a moment, as 2006-01-02, of UTC.
func LastDay(until time.Time) string { return until.Add(-time.Nanosecond).UTC().Format(time.DateOnly) }
