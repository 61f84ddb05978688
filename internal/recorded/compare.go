package recorded

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"endeixis/internal/store"
)

// rows returns what has to stand in a table, by its name.
func (b *Basis) rows(table string) []row {
	var out []row
	at := func(position int64, fields ...field) {
		out = append(out, row{key: strconv.FormatInt(position, 10), position: position, fields: fields})
	}
	switch table {
	case "policies":
		for _, p := range b.Policies {
			out = append(
				out,
				row{
					key: strconv.FormatInt(p.Version, 10), position: p.Position,
					fields: []field{
						text(p.Name),
						{text: string(p.Document), structure: true},
						moment(p.CreatedAt),
						text(p.CreatedBy), text(p.Reason),
					},
				},
			)
		}
	case "waivers":
		for _, w := range b.Waivers {
			at(
				w.Position, text(w.Ground), text(w.Publisher), text(w.Pattern), text(w.Reason), text(w.By),
				moment(w.CreatedAt), moment(w.Until), momentOrNone(w.EndedAt), text(w.EndedBy), text(w.EndReason),
			)
		}
	case "publishers":
		for _, p := range b.Publishers {
			out = append(
				out,
				row{
					key: p.Slug, position: p.Position,
					fields: []field{
						text(p.Name), text(p.Contact), list(p.Scope), moment(p.CreatedAt), text(p.CreatedBy),
					},
				},
			)
		}
	case "publisher_versions":
		for _, p := range b.PublisherVersions {
			out = append(
				out,
				row{
					key: fmt.Sprintf("%s %d", p.Slug, p.Position), position: p.Position,
					fields: []field{text(p.Name), list(p.Scope)},
				},
			)
		}
	case "keys":
		for fp, k := range b.Keys {
			out = append(
				out,
				row{
					key: fp, position: k.Row.Position,
					fields: []field{
						text(k.Digest), text(k.Row.Publisher), text(k.Row.Role), moment(k.Row.ImportedAt),
						text(k.Row.ImportedBy), text(k.Row.Source),
					},
				},
			)
		}
	case "key_versions":
		for _, k := range b.KeyVersions {
			out = append(
				out,
				row{
					key: fmt.Sprintf("%s %d", digits(k.Row.Fingerprint), k.Row.Position), position: k.Row.Position,
					fields: []field{text(k.Digest), text(k.Row.Publisher), text(k.Row.Role)},
				},
			)
		}
	case "key_changes":
		for _, c := range b.Steps {
			at(
				c.Position, text(digits(c.Fingerprint)), moment(c.At), text(c.To), text(c.By), text(c.Reason),
				momentOrNone(c.Until), list(c.RestsOn),
			)
		}
	case "sightings":
		for _, s := range b.Sightings {
			at(
				s.Position, text(digits(s.Fingerprint)), text(digits(s.Read)), text(s.Channel), text(s.Place),
				text(s.Note), moment(s.At), text(s.By), text(s.Resolved), text(s.ResolvedBy),
				momentOrNone(s.ResolvedAt),
			)
		}
	case "proposals":
		for _, p := range b.Proposals {
			at(
				p.Position, text(digits(p.Fingerprint)), text(p.Publisher), text(p.Role), text(p.Reason), text(p.By),
				moment(p.At), momentOrNone(p.Until), text(p.Decided),
			)
		}
	}
	return out
}

// namedDifferences bounds how many of one table are named.
const namedDifferences = 5

// found are the differences of one table.
type found struct {
	of  string
	all []store.Discrepancy
}

func (f *found) tell(position int64, format string, args ...any) {
	f.all = append(f.all, store.Discrepancy{Position: position, What: f.of + ": " + fmt.Sprintf(format, args...)})
}

// first returns the first of them.
func (f *found) first() []store.Discrepancy {
	slices.SortStableFunc(f.all, func(x, y store.Discrepancy) int { return cmp.Compare(x.Position, y.Position) })
	return f.all[:min(len(f.all), namedDifferences)]
}

// Compare holds the rows of a table against the records, both ways, and names the first that
// differ. adoptedAt is where rows of earlier versions were adopted: of those from before, some
// may be missing.
func (b *Basis) Compare(t store.WholeTable, stored []store.StoredRow, adoptedAt int64) []store.Discrepancy {
	return compare(t, b.rows(t.Name), stored, adoptedAt)
}

// compare holds the rows of a table against those that have to be there, by their keys.
func compare(t store.WholeTable, wanted []row, stored []store.StoredRow, adoptedAt int64) []store.Discrepancy {
	out := found{of: t.Of}
	versions := strings.HasSuffix(t.Name, "_versions")
	there := map[string]store.StoredRow{}
	for _, s := range stored {
		if _, twice := there[s.Key]; twice && !(versions && s.Position <= adoptedAt) {
			out.tell(s.Position, "%s is there twice", s.Key)
		}
		there[s.Key] = s
	}
	for _, want := range wanted {
		is, ok := there[want.key]
		delete(there, want.key)
		switch {
		case !ok && versions && want.position <= adoptedAt:
		case !ok:
			out.tell(want.position, "%s: there is no row for the record", want.key)
		case versions && is.Adopted:
		case t.Placed && is.Position != want.position && !is.Adopted,
			want.adopted && !is.Adopted,
			!want.equal(is.Fields):
			out.tell(want.position, "%s: the row is not as it was decided", want.key)
		}
	}
	for key, s := range there {
		if !versions || !s.Adopted {
			out.tell(s.Position, "%s: there is no record for the row", key)
		}
	}
	return out.first()
}
