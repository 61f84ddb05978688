package recorded

import (
	"encoding/json"
	"reflect"
	"slices"
	"strconv"
	"time"
)

// A row is one that has to be there, with its columns as the table's question lists them.
type row struct {
	// table is that of a row which follows from one record; key names the row, for people too.
	table    string
	key      string
	position int64
	fields   []field
	// adopted says that the record does not say all of the row, which was adopted.
	adopted bool
	// odd says why the record does not say what has to be there.
	odd error
}

// A field is a column's value as the database writes it, or what it has to be like.
type field struct {
	text string
	null bool
	// structure says that it is JSON, of which another form is the same.
	structure bool
	// near is a time that may differ by what a text rounds.
	near *time.Time
	// unsaid is what the record does not say: records of earlier versions lack some members.
	unsaid bool
	// oneOf are the texts of which it is one.
	oneOf []string
}

func text(s string) field { return field{text: s} }

func number[T ~int | ~int32 | ~int64](n T) field { return text(strconv.FormatInt(int64(n), 10)) }

func numberOrNone(n *int64) field {
	if n == nil {
		return field{null: true}
	}
	return number(*n)
}

func truth(b bool) field { return text(strconv.FormatBool(b)) }

// textOrNone is a text that is stored as none where it is empty.
func textOrNone(s string) field { return field{text: s, null: s == ""} }

func list(values []string) field {
	written, _ := json.Marshal(append([]string{}, values...)) // of texts
	return field{text: string(written), structure: true}
}

// form is a member as the record has it; one that it does not have is none.
func form(raw json.RawMessage) field {
	if raw == nil {
		return text("null").formed()
	}
	return text(string(raw)).formed()
}

func (f field) formed() field {
	f.structure = true
	return f
}

// moment writes a time as the database does, in UTC.
func moment(t time.Time) field { return text(t.UTC().Format("2006-01-02 15:04:05.999999-07")) }

func momentOrNone(t *time.Time) field {
	if t == nil {
		return field{null: true}
	}
	return moment(*t)
}

// nearly is a time that a text may have rounded.
func nearly(t time.Time) field { return field{near: &t} }

const rounded = time.Millisecond

func (f field) equals(stored *string) bool {
	switch {
	case f.unsaid:
		return true
	case stored == nil || f.null:
		return stored == nil && f.null
	case f.oneOf != nil:
		return slices.Contains(f.oneOf, *stored)
	case f.near != nil:
		t, err := time.Parse("2006-01-02 15:04:05.999999-07", *stored)
		return err == nil && t.Sub(*f.near).Abs() <= rounded
	case f.text == *stored || !f.structure:
		return f.text == *stored
	}
	var a, b any
	return json.Unmarshal([]byte(f.text), &a) == nil && json.Unmarshal([]byte(*stored), &b) == nil &&
		reflect.DeepEqual(a, b)
}

// equal reports whether a stored row is as it has to be.
func (r row) equal(fields []*string) bool { return slices.EqualFunc(r.fields, fields, field.equals) }
