package wire

import (
	"encoding/base64"
	"time"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// Measurer is who reads the bytes of a batch that the service does not read: a client
// on somebody's machine, or a console in a browser. docs/formats.md has the whole of
// what it sends and is sent.
type Measurer struct {
	Kind     measure.Maker `json:"kind" enum:"client,console"`
	Host     string        `json:"host" minLength:"1" maxLength:"253" doc:"The machine whose files they are, or the browser."`
	Path     string        `json:"path" minLength:"1" maxLength:"4096" doc:"The folder there, for people."`
	Software string        `json:"software,omitempty" maxLength:"200" doc:"The program that measures, and its version."`
}

// ListingAt sends a page of the list of files.
type ListingAt struct {
	ID   int64 `path:"id" minimum:"1"`
	Page int   `path:"page" minimum:"1" maximum:"100000" doc:"The number of the page, from 1. The same page may be sent again."`
	Body ListingPage
}

// ListingPage is a part of what there is in a folder.
type ListingPage struct {
	Files      []ListedFile      `json:"files" maxItems:"5000"`
	Containers []ListedContainer `json:"containers,omitempty" maxItems:"5000" doc:"Archives, compressed files and disc images that were looked into, each before those inside it."`
}

// ListedFile is a file of the folder.
type ListedFile struct {
	Path    string           `json:"path" maxLength:"4096" doc:"Relative to the folder, with slashes."`
	Size    int64            `json:"size" minimum:"0"`
	ModTime time.Time        `json:"mod_time"`
	Changed *time.Time       `json:"changed,omitempty" doc:"When it was last changed in any way, where that is known."`
	Problem *measure.Problem `json:"problem,omitempty" doc:"Why it could not be looked at, or not be read."`
	// Promised is a role, and Content base64; both may be missing.
	Promised survey.Role `json:"promised,omitempty" doc:"The role that the name of a file promises that was not read as one."`
	Content  *string     `json:"content,omitempty" contentEncoding:"base64" doc:"All of a file that can be a manifest, a signature or a key; such files are read by the service."`
	// Continued is for content that does not fit in a page.
	Continued bool   `json:"continued,omitempty" doc:"The content goes on from that of the same path before."`
	Given     *Given `json:"given,omitempty" doc:"For a text that a person handed over on purpose: it is held against, whatever it looks like, and is no artifact."`
}

// Given says what a text is for that a person handed over on purpose.
type Given struct {
	For    []string     `json:"for,omitempty" maxItems:"1000" doc:"The paths of the files that it was handed over for. Of a text for one file, each value without a name is that file's."`
	Values []GivenValue `json:"values,omitempty" maxItems:"100" doc:"Digests that were given as such. Then the content is only what was typed, and is not read."`
}

// GivenValue is a digest that was given as such.
type GivenValue struct {
	Algorithm string       `json:"algorithm,omitempty" maxLength:"40" doc:"What was said of it, or nothing."`
	Digest    digest.Value `json:"digest" doc:"In hexadecimal."`
}

// GivenOf tells what a text is for.
func GivenOf(g *survey.Given) *Given {
	if g == nil {
		return nil
	}
	out := &Given{For: g.For}
	for _, v := range g.Values {
		label := ""
		if v.Algorithm != digest.Unknown {
			label = v.Algorithm.String()
		}
		out.Values = append(out.Values, GivenValue{Algorithm: label, Digest: v.Digest})
	}
	return out
}

// Survey returns what a text is for, for a survey. It fails for an algorithm that is not
// known.
func (g *Given) Survey() (*survey.Given, error) {
	if g == nil {
		return nil, nil
	}
	out := &survey.Given{For: g.For}
	for _, v := range g.Values {
		a := digest.Unknown
		if v.Algorithm != "" {
			var err error
			if a, err = digest.Parse(v.Algorithm); err != nil {
				return nil, err
			}
		}
		out.Values = append(out.Values, survey.GivenValue{Algorithm: a, Digest: v.Digest})
	}
	return out, nil
}

// ListedContainer is a container that was looked into.
type ListedContainer struct {
	Path      string            `json:"path" maxLength:"8192"`
	Layout    *container.Layout `json:"layout,omitempty"`
	Contents  map[string]string `json:"contents,omitempty" doc:"By name, in base64, the members that can be manifests, signatures or keys."`
	Trouble   string            `json:"trouble,omitempty" maxLength:"2000" doc:"Why it could not be looked into."`
	Continued bool              `json:"continued,omitempty" doc:"Members and contents go on from those of the same path before."`
}

// ListingOf returns a page of findings as it is sent.
func ListingOf(page survey.Findings) ListingPage {
	out := ListingPage{Files: []ListedFile{}}
	for _, f := range page.Files {
		listed := ListedFile{
			Path: f.Path, Size: f.Size, ModTime: f.ModTime, Problem: f.Problem, Promised: f.Promised,
			Given: GivenOf(f.Given), Continued: f.Continued,
		}
		if !f.Changed.IsZero() {
			listed.Changed = &f.Changed
		}
		if f.Content != nil {
			text := base64.StdEncoding.EncodeToString(f.Content)
			listed.Content = &text
		}
		out.Files = append(out.Files, listed)
	}
	for _, c := range page.Containers {
		listed := ListedContainer{Path: c.Path, Layout: c.Layout, Trouble: c.Trouble, Continued: c.Continued}
		for name, content := range c.Contents {
			if listed.Contents == nil {
				listed.Contents = map[string]string{}
			}
			listed.Contents[name] = base64.StdEncoding.EncodeToString(content)
		}
		out.Containers = append(out.Containers, listed)
	}
	return out
}

// ListingEnd says that the list is whole.
type ListingEnd struct {
	ID   int64 `path:"id" minimum:"1"`
	Body ListingPages
}

// ListingPages says how many pages there are.
type ListingPages struct {
	Pages int `json:"pages" minimum:"1" maximum:"100000"`
}

// ListAssignmentsRequest asks for what is left to measure.
type ListAssignmentsRequest struct {
	ID     int64  `path:"id" minimum:"1"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"2000" default:"1000"`
}

// Assignment is an item that is left to measure.
type Assignment struct {
	N int `json:"n" doc:"The item's number."`
	// File is missing in answers of older services.
	File string `json:"file,omitempty" doc:"The file of the folder that is read for it: those of one file are measured and sent together."`
	// Target has what is to be computed.
	Target measure.Target `json:"target"`
	// Expected is there so that a difference can be explained where the bytes are.
	Expected []survey.Stated `json:"expected" doc:"What manifests state about it."`
}

// SendMeasurementsRequest sends measurements.
type SendMeasurementsRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body Measurements
}

// Measurements are results of tasks.
type Measurements struct {
	Measured []Submission `json:"measured" maxItems:"100000" doc:"In any order; those of a file and of what is inside it together."`
}

// Submission is what came of measuring an item.
type Submission struct {
	N       int             `json:"n" minimum:"0" maximum:"2147483647"`
	Reading measure.Reading `json:"reading" doc:"The results in the order of the tasks, or a problem."`
	// Diagnoses are optional.
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty" maxItems:"64" doc:"Why it differs from what is expected, where that was established."`
}

// Taken says what became of measurements.
type Taken struct {
	Taken int `json:"taken" doc:"How many were judged and recorded."`
	Known int `json:"known" doc:"How many had been sent before, the same."`
	// Declined are those that changed nothing.
	Declined []Declined `json:"declined" doc:"Those that were not used, and why."`
	Left     int        `json:"left" doc:"How many items are left to measure."`
}

// Declined is a measurement that was not used.
type Declined struct {
	N      int    `json:"n"`
	Code   string `json:"code" enum:"not-asked,measured-otherwise,wrong-shape,incomplete-file"`
	Reason string `json:"reason"`
}

// DrillAssignment is what a measurer is to measure for the drill of an item.
type DrillAssignment struct {
	N           int                 `json:"n"`
	Target      measure.Target      `json:"target"`
	Alterations []verify.Alteration `json:"alterations" doc:"Each alters the stream of bytes; the target's tasks are done once for each."`
}

// DrillRequest asks for a drill.
type DrillRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body NewDrill
}

// NewDrill says which items are drilled.
type NewDrill struct {
	Items []DrillItem `json:"items,omitempty" maxItems:"10" doc:"Without any: the first cleared artifacts of the batch."`
}

// DrillItem is an item that is drilled.
type DrillItem struct {
	N        int               `json:"n" minimum:"0" maximum:"2147483647"`
	Readings []measure.Reading `json:"readings,omitempty" maxItems:"32" doc:"Those of the alterations, in their order, where a measurer has the bytes."`
}

// Drill is what came of a drill.
type Drill struct {
	Batch  int64         `json:"batch"`
	Record int64         `json:"record"`
	Passed bool          `json:"passed" doc:"Nothing that was altered was cleared."`
	Items  []DrilledItem `json:"items"`
}

// DrilledItem is what became of an item with each alteration.
type DrilledItem struct {
	N     int              `json:"n"`
	Shown string           `json:"shown"`
	Rows  []verify.Drilled `json:"rows"`
}
