package wire

import (
	"bytes"
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"sync"
)

// A Missing error says that an answer lacks a member that it must have: what is not said is never
// taken for no, nothing or none.
type Missing struct {
	// Member is its path from the whole answer on, such as “items[3].verdict”.
	Member string
}

// Error names the member.
func (m *Missing) Error() string { return fmt.Sprintf("it does not say “%s”", m.Member) }

// Complete reports whether a JSON text says everything that a value of a type must have: each member
// that is not left out when it is empty. Otherwise it returns a [*Missing], or the error of a text
// that is no JSON.
func Complete(text []byte, of reflect.Type) error {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	var said any
	if err := decoder.Decode(&said); err != nil {
		return err
	}
	if at := lacks(said, of); at != "" {
		return &Missing{strings.TrimPrefix(at, ".")}
	}
	return nil
}

var (
	jsonReader = reflect.TypeFor[json.Unmarshaler]()
	textReader = reflect.TypeFor[encoding.TextUnmarshaler]()
)

// opaque reports whether a type reads its own JSON.
func opaque(t reflect.Type) bool {
	p := reflect.PointerTo(t)
	return p.Implements(jsonReader) || p.Implements(textReader)
}

// lacks returns the path of the first member that a value must have and does not, or nothing.
func lacks(said any, of reflect.Type) string {
	for of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	if said == nil || opaque(of) {
		return ""
	}
	switch of.Kind() {
	case reflect.Slice, reflect.Array:
		elements, _ := said.([]any) // another shape is told when it is decoded
		for i, e := range elements {
			if at := lacks(e, of.Elem()); at != "" {
				return fmt.Sprintf("[%d]%s", i, at)
			}
		}
	case reflect.Map:
		members, _ := said.(map[string]any)
		for name, e := range members {
			if at := lacks(e, of.Elem()); at != "" {
				return "." + name + at
			}
		}
	case reflect.Struct:
		members, ok := said.(map[string]any)
		if !ok {
			return ""
		}
		for _, m := range membersOf(of) {
			value, there := members[m.name]
			if !there && m.needed {
				return "." + m.name
			}
			if there {
				if at := lacks(value, m.of); at != "" {
					return "." + m.name + at
				}
			}
		}
	default: // what has no members
	}
	return ""
}

// A member is one that a struct has in JSON.
type member struct {
	name   string
	of     reflect.Type
	needed bool
}

// known keeps the members of structs that were looked at.
var known sync.Map

// membersOf returns the members of a struct; those of embedded structs are its own.
func membersOf(t reflect.Type) []member {
	if found, ok := known.Load(t); ok {
		if members, ok := found.([]member); ok {
			return members
		}
	}
	var out []member
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case name == "-" || !f.IsExported() && !f.Anonymous:
		case f.Anonymous && name == "":
			embedded := f.Type
			if embedded.Kind() == reflect.Pointer {
				embedded = embedded.Elem()
			}
			if embedded.Kind() == reflect.Struct {
				out = append(out, membersOf(embedded)...)
			}
		default:
			if name == "" {
				name = f.Name
			}
			out = append(
				out,
				member{name, f.Type, !strings.Contains(options, "omitempty") && !strings.Contains(options, "omitzero")},
			)
		}
	}
	known.Store(t, out)
	return out
}
