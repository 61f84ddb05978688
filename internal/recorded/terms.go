package recorded

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"endeixis/core/judge"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// maxTerm bounds a value, in bytes; of a longer one its beginning is found.
const maxTerm = 1000

// speaking are bodies that records are found by.
type speaking interface {
	terms(h Head) []store.Term
}

// Terms returns what a record is found by, in order and each once.
func Terms(h Head, b Body) []store.Term {
	s, ok := b.(speaking)
	if !ok {
		return nil
	}
	out := s.terms(h)
	for i := range out {
		if out[i].Facet == store.KeyFacet {
			out[i].Value = strings.ToUpper(out[i].Value)
		}
		out[i].Value = beginning(out[i].Value)
	}
	out = slices.DeleteFunc(out, func(t store.Term) bool { return t.Value == "" })
	slices.SortFunc(out, store.Term.Compare)
	return slices.Compact(out)
}

// beginning cuts a text where it is too long, and what a database cannot keep.
func beginning(text string) string {
	text = strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "")
	if len(text) <= maxTerm {
		return text
	}
	end := maxTerm
	for !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end]
}

// termsRow is what has to be stored for a record to be found, or nothing.
func termsRow(h Head, b Body) []row {
	terms := Terms(h, b)
	if len(terms) == 0 {
		return nil
	}
	texts := make([]string, len(terms))
	for i, t := range terms {
		texts[i] = t.Facet + ":" + t.Value
	}
	slices.Sort(texts)
	return []row{{
		table: "record_terms", key: "record " + strconv.FormatInt(h.Position, 10), position: h.Position,
		fields: []field{list(texts)},
	}}
}

func term(facet, value string) store.Term { return store.Term{Facet: facet, Value: value} }

// termsAt are those of where bytes are.
func termsAt(source sources.Source) []store.Term {
	out := []store.Term{term(store.PlaceFacet, source.Reference)}
	if source.Kind == sources.Device {
		out = append(out, term(store.DeviceFacet, source.Reference))
	}
	return out
}

// termsOf are those of grounds.
func termsOf(grounds []judge.Ground) []store.Term {
	var out []store.Term
	for i := range grounds {
		g := &grounds[i]
		out = append(out, term(store.GroundFacet, string(g.Code)))
		for j := range g.Causes {
			out = append(out, term(store.CauseFacet, string(g.Causes[j].Code)))
		}
		if g.Waiver != nil {
			out = append(out, term(store.WaiverFacet, strconv.FormatInt(g.Waiver.Record, 10)))
		}
		if s := g.Signature; s != nil {
			out = append(
				out, term(store.KeyFacet, string(s.Key)), term(store.KeyFacet, string(s.MadeBy)),
				term(store.KeyFacet, s.Issuer),
				term(store.PublisherFacet, s.Publisher),
			)
		}
	}
	return out
}

func expectedTerms(e judge.Expectation) []store.Term {
	var out []store.Term
	for _, slug := range e.Publishers {
		out = append(out, term(store.PublisherFacet, slug))
	}
	return out
}

// groundsIn reads grounds as a record has them; what is odd in a record is told elsewhere.
func groundsIn(raw json.RawMessage) []judge.Ground {
	var out []judge.Ground
	if json.Unmarshal(raw, &out) != nil {
		return nil
	}
	return out
}

func (b ItemOutcome) terms(Head) []store.Term {
	out := b.found
	if out == nil {
		// What is odd in a record is told elsewhere.
		if s, err := b.shown(); err == nil {
			out = termsOf(s.grounds)
		}
	}
	return slices.Concat(out, expectedTerms(b.Expected), termsAt(sourceOf(b.Source, b.Depot, b.Folder)))
}

func (b ItemRejudged) terms(Head) []store.Term {
	if b.found != nil {
		return b.found
	}
	return termsOf(groundsIn(b.Grounds))
}

func (b BatchResult) terms(Head) []store.Term {
	out := append(termsAt(b.reference()), term(store.LabelFacet, b.Label))
	if b.Publisher != nil {
		out = append(out, term(store.PublisherFacet, *b.Publisher))
	}
	var expected judge.Expectation
	if json.Unmarshal(b.Expected, &expected) == nil {
		out = append(out, expectedTerms(expected)...)
	}
	return out
}

func (b Drilled) terms(Head) []store.Term { return termsAt(b.Source) }

func (b Reassessed) terms(Head) []store.Term {
	var selection struct {
		Publisher string `json:"publisher"`
		Key       string `json:"key"`
	}
	if json.Unmarshal(b.Selection, &selection) != nil {
		return nil
	}
	return []store.Term{term(store.PublisherFacet, selection.Publisher), term(store.KeyFacet, selection.Key)}
}

func (b KeyImported) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Fingerprint)), term(store.PublisherFacet, b.Publisher)}
}

func (b KeyStep) terms(Head) []store.Term {
	out := []store.Term{term(store.KeyFacet, string(b.Fingerprint)), term(store.PublisherFacet, b.Publisher)}
	for _, anchor := range slices.Concat(b.Anchors, b.RestsOn) {
		out = append(out, term(store.KeyFacet, string(anchor)))
	}
	return out
}

func (b Sighting) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Fingerprint)), term(store.KeyFacet, string(b.Read))}
}

func (b ConflictResolved) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Fingerprint)), term(store.KeyFacet, string(b.Read))}
}

func (b AdmissionProposed) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Fingerprint)), term(store.PublisherFacet, b.Publisher)}
}

func (b ProposalDeclined) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Fingerprint))}
}

func (b PublisherAdded) terms(Head) []store.Term {
	return []store.Term{term(store.PublisherFacet, b.Slug)}
}

func (b PublisherChanged) terms(Head) []store.Term {
	return []store.Term{term(store.PublisherFacet, b.Before.Slug), term(store.PublisherFacet, b.After.Slug)}
}

func (b PolicySet) terms(Head) []store.Term {
	slug, _ := strings.CutPrefix(b.Name, OfPublisher)
	if slug == b.Name {
		slug = ""
	}
	return []store.Term{term(store.PublisherFacet, slug)}
}

func (b WaiverGranted) terms(h Head) []store.Term {
	return []store.Term{
		term(store.WaiverFacet, strconv.FormatInt(h.Position, 10)), term(store.GroundFacet, b.Ground),
		term(store.PublisherFacet, b.Publisher),
	}
}

func (b WaiverEnded) terms(Head) []store.Term {
	return []store.Term{term(store.WaiverFacet, strconv.FormatInt(b.Record, 10))}
}

func (b DeviceSet) terms(Head) []store.Term {
	return []store.Term{term(store.DeviceFacet, b.Device.Name), term(store.PublisherFacet, b.Device.Publisher)}
}
