package recorded

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"endeixis/internal/store"
)

// A row is one that has to be there, with its columns as [store.BasisTables] lists them.
type row struct {
	key      string
	position int64
	fields   []field
}

// A field is a column's value as the database writes it.
type field struct {
	text string
	null bool
	// structure says that it is JSON, of which another form is the same.
	structure bool
}

func text(s string) field { return field{text: s} }

func list(values []string) field {
	written, _ := json.Marshal(append([]string{}, values...)) // of texts
	return field{text: string(written), structure: true}
}

// moment writes a time as the database does, in UTC.
func moment(t time.Time) field { return text(t.UTC().Format("2006-01-02 15:04:05.999999-07")) }

func momentOrNone(t *time.Time) field {
	if t == nil {
		return field{null: true}
	}
	return moment(*t)
}

func (f field) equals(stored *string) bool {
	if stored == nil || f.null {
		return stored == nil && f.null
	}
	if f.text == *stored || !f.structure {
		return f.text == *stored
	}
	var a, b any
	return json.Unmarshal([]byte(f.text), &a) == nil && json.Unmarshal([]byte(*stored), &b) == nil && reflect.DeepEqual(a, b)
}

// rows returns what has to stand in a table, by its name.
func (b *Basis) rows(table string) []row {
	var out []row
	at := func(position int64, fields ...field) {
		out = append(out, row{strconv.FormatInt(position, 10), position, fields})
	}
	switch table {
	case "policies":
		for _, p := range b.Policies {
			out = append(out, row{strconv.FormatInt(p.Version, 10), p.Position, []field{text(p.Name), {text: string(p.Document), structure: true}, moment(p.CreatedAt), text(p.CreatedBy), text(p.Reason)}})
		}
	case "waivers":
		for _, w := range b.Waivers {
			at(w.Position, text(w.Ground), text(w.Publisher), text(w.Pattern), text(w.Reason), text(w.By), moment(w.CreatedAt), moment(w.Until), momentOrNone(w.EndedAt), text(w.EndedBy), text(w.EndReason))
		}
	case "publishers":
		for _, p := range b.Publishers {
			out = append(out, row{p.Slug, p.Position, []field{text(p.Name), text(p.Contact), list(p.Scope), moment(p.CreatedAt), text(p.CreatedBy)}})
		}
	case "publisher_versions":
		for _, p := range b.PublisherVersions {
			out = append(out, row{fmt.Sprintf("%s %d", p.Slug, p.Position), p.Position, []field{text(p.Name), list(p.Scope)}})
		}
	case "keys":
		for fp, k := range b.Keys {
			out = append(out, row{fp, k.Row.Position, []field{text(k.Digest), text(k.Row.Publisher), text(k.Row.Role), moment(k.Row.ImportedAt), text(k.Row.ImportedBy), text(k.Row.Source)}})
		}
	case "key_versions":
		for _, k := range b.KeyVersions {
			out = append(out, row{fmt.Sprintf("%s %d", digits(k.Row.Fingerprint), k.Row.Position), k.Row.Position, []field{text(k.Digest), text(k.Row.Publisher), text(k.Row.Role)}})
		}
	case "key_changes":
		for _, c := range b.Steps {
			at(c.Position, text(digits(c.Fingerprint)), moment(c.At), text(c.To), text(c.By), text(c.Reason), momentOrNone(c.Until), list(c.RestsOn))
		}
	case "sightings":
		for _, s := range b.Sightings {
			at(s.Position, text(digits(s.Fingerprint)), text(digits(s.Read)), text(s.Channel), text(s.Place), text(s.Note), moment(s.At), text(s.By), text(s.Resolved), text(s.ResolvedBy), momentOrNone(s.ResolvedAt))
		}
	case "proposals":
		for _, p := range b.Proposals {
			at(p.Position, text(digits(p.Fingerprint)), text(p.Publisher), text(p.Role), text(p.Reason), text(p.By), moment(p.At), momentOrNone(p.Until), text(p.Decided))
		}
	}
	return out
}

// namedDifferences bounds how many of one table are named.
const namedDifferences = 5

// Compare holds the rows of a table against the records, both ways, and names the first that
// differ. adoptedAt is where rows of earlier versions were adopted: of those from before, some
// may be missing.
func (b *Basis) Compare(t store.BasisTable, stored []store.StoredRow, adoptedAt int64) []store.Difference {
	var out []store.Difference
	tell := func(position int64, format string, args ...any) {
		out = append(out, store.Difference{Position: position, What: t.Of + ": " + fmt.Sprintf(format, args...)})
	}
	versions := strings.HasSuffix(t.Name, "_versions")
	there := map[string]store.StoredRow{}
	for _, s := range stored {
		if _, twice := there[s.Key]; twice && !(versions && s.Position <= adoptedAt) {
			tell(s.Position, "%s is there twice", s.Key)
		}
		there[s.Key] = s
	}
	for _, want := range b.rows(t.Name) {
		is, ok := there[want.key]
		delete(there, want.key)
		switch {
		case !ok && versions && want.position <= adoptedAt:
		case !ok:
			tell(want.position, "%s: there is no row for the record", want.key)
		case versions && is.Adopted:
		case t.Name != "policies" && is.Position != want.position && !is.Adopted,
			!slices.EqualFunc(want.fields, is.Fields, field.equals):
			tell(want.position, "%s: the row is not as it was decided", want.key)
		}
	}
	for key, s := range there {
		if !versions || !s.Adopted {
			tell(s.Position, "%s: there is no record for the row", key)
		}
	}
	slices.SortStableFunc(out, func(x, y store.Difference) int { return int(max(-1, min(1, x.Position-y.Position))) })
	return out[:min(len(out), namedDifferences)]
}
