// Package consolecore is what the console and the core in its worker say to each other: the
// core is compiled for browsers by cmd/endeixis-core, and is called by the functions that are
// listed here, in JSON. The console's types are made from this package.
package consolecore

import (
	"encoding/json"
	"reflect"
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// A File is one that was given to the page, by its path in the folder that was given.
type File struct {
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	// Pasted is set for a text that somebody handed over on purpose.
	Pasted bool `json:"pasted,omitempty" doc:"Set for a text that was pasted: it is held against the files, whatever it looks like."`
}

// Files are all files that were given.
type Files struct {
	Files []File `json:"files"`
}

// Listing is what there is to know of the files that were given, in pages that are sent to the
// service as they are.
type Listing struct {
	Pages []survey.Findings `json:"pages"`
}

// Text is a text that somebody pasted.
type Text struct {
	Text string `json:"text"`
}

// An Assignment is an item that is to be measured, as the service asks for it.
type Assignment struct {
	N        int             `json:"n"`
	Target   measure.Target  `json:"target"`
	Expected []survey.Stated `json:"expected"`
}

// Verify returns the assignment as it is carried out.
func (a *Assignment) Verify() verify.Assignment {
	return verify.Assignment{Target: &a.Target, Expected: survey.EntriesOf(a.Expected)}
}

// Assignments are what is asked for of one batch.
type Assignments struct {
	Assignments []Assignment `json:"assignments"`
}

// Submissions are what came of measuring.
type Submissions struct {
	Measured []Submission `json:"measured"`
}

// A Submission is what came of measuring an item, as the service takes it.
type Submission struct {
	N         int                  `json:"n"`
	Reading   measure.Reading      `json:"reading"`
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
}

// Unexplained is an item that was measured, and is to be explained where it differs from what
// is expected.
type Unexplained struct {
	Assignment Assignment      `json:"assignment"`
	Reading    measure.Reading `json:"reading"`
}

// Explanation says why what was measured is not what is expected; without diagnoses, nothing
// differs.
type Explanation struct {
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
}

// Drill is a file that is to be read with alterations, none of which is written.
type Drill struct {
	Target      measure.Target      `json:"target"`
	Alterations []verify.Alteration `json:"alterations"`
}

// Drilled has what the altered forms of a file measure, in the order of the alterations.
type Drilled struct {
	Readings []measure.Reading `json:"readings"`
}

// Nothing is what a function answers that has nothing to tell.
type Nothing struct{}

// A Function of the core takes one value and answers with another.
type Function[In, Out any] struct{ Name string }

// The functions of the core.
var (
	// Hold takes the files that were given; Gather does too, and looks at them.
	Hold   = Function[Files, Nothing]{"hold"}
	Gather = Function[Files, Listing]{"gather"}
	// Recognise tells what a pasted text is.
	Recognise = Function[Text, survey.Recognised]{"recognise"}
	// Measure carries assignments out.
	Measure = Function[Assignments, Submissions]{"measure"}
	// Explain says why a file differs from what is expected.
	Explain = Function[Unexplained, Explanation]{"explain"}
	// Alter reads a file with alterations, for a drill.
	Alter = Function[Drill, Drilled]{"alter"}
)

// A Shaped is a function, whatever it takes and answers.
type Shaped interface {
	Shape() (name string, in, out reflect.Type)
}

// Functions lists them all.
func Functions() []Shaped {
	return []Shaped{Hold, Gather, Recognise, Measure, Explain, Alter}
}

// Shape returns what a function is called, and the types of what it takes and answers.
func (f Function[In, Out]) Shape() (name string, in, out reflect.Type) {
	return f.Name, reflect.TypeFor[In](), reflect.TypeFor[Out]()
}

// A Handler is what carries a function out: it takes and answers JSON.
type Handler func(in []byte) (out []byte, err error)

// Handle returns the handler of a function that f carries out.
func (Function[In, Out]) Handle(f func(In) (Out, error)) Handler {
	return func(in []byte) ([]byte, error) {
		var input In
		if err := json.Unmarshal(in, &input); err != nil {
			return nil, err
		}
		out, err := f(input)
		if err != nil {
			return nil, err
		}
		return json.Marshal(out)
	}
}

// Failed is answered where a function fails.
type Failed struct {
	Error string `json:"error"`
}
