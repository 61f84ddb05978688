package manifest

import (
	"bytes"
	"fmt"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A Contradiction is where a list says two things of one file.
type Contradiction struct {
	// Line says it otherwise than Before does.
	Line   int `json:"line"`
	Before int `json:"before"`
	// Message is for people.
	Message string `json:"message"`
}

// maxContradictions bounds those that are told.
const maxContradictions = 100

// Contradictions returns where the list gives one name two values of one algorithm, or two
// sizes. What is guessed contradicts nothing.
func (m *Manifest) Contradictions() []Contradiction {
	type key struct {
		name      string
		algorithm digest.Algorithm
		length    int
	}
	type said struct {
		line  int
		value digest.Value
	}
	type sized struct {
		line int
		size int64
	}
	values, sizes := map[key]said{}, map[string]sized{}
	var out []Contradiction
	add := func(line, before int, what string, e *Entry) {
		if len(out) < maxContradictions {
			out = append(
				out,
				Contradiction{
					line, before,
					fmt.Sprintf("it states another %s of %s than line %d does", what, plain.Quoted(e.Name), before),
				},
			)
		}
	}
	for _, e := range m.Entries.All() {
		if e.Name == "" || e.Guessed.Has(DigestPart) {
			continue
		}
		k := key{e.Name, e.Algorithm, len(e.Digest)}
		if before, ok := values[k]; !ok {
			values[k] = said{e.Line, e.Digest}
		} else if !bytes.Equal(before.value, e.Digest) {
			what := "value"
			if e.Algorithm != digest.Unknown {
				what = e.Algorithm.String() + " value"
			}
			add(e.Line, before.line, what, &e)
		}
		if e.Size == nil || e.Guessed.Has(SizePart) {
			continue
		}
		if before, ok := sizes[e.Name]; !ok {
			sizes[e.Name] = sized{e.Line, *e.Size}
		} else if before.size != *e.Size && before.line != e.Line {
			add(e.Line, before.line, "size", &e)
		}
	}
	return out
}
