//go:build js && wasm

// Endeixis-core is the core compiled for a browser's worker: it looks at files that were
// given to the page, measures what hashing alone does not, explains differences, and
// drills. Files are read in slices by the worker; nothing leaves it but what the page
// sends.
//
// It sets functions of the global object “endeixis”, each of which takes and returns JSON;
// “error” is set in what is returned where something failed.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"syscall/js"
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

func main() {
	functions := map[string]func(string) (any, error){
		"hold": hold, "gather": gather, "recognise": recognise, "measure": measured, "explain": explain,
		"drill": drill,
	}
	object := js.Global().Get("Object").New()
	for name, f := range functions {
		object.Set(name, js.FuncOf(func(_ js.Value, args []js.Value) any {
			in := args[0].String()
			return js.Global().Get("Promise").New(js.FuncOf(func(_ js.Value, settle []js.Value) any {
				go func() { settle[0].Invoke(answer(f(in))) }()
				return nil
			}))
		}))
	}
	js.Global().Set("endeixis", object)
	js.Global().Call("endeixisReady")
	select {}
}

// answer is what a function returns, in JSON.
func answer(out any, err error) string {
	if err != nil {
		out = map[string]string{"error": err.Error()}
	}
	text, err := json.Marshal(out)
	if err != nil {
		return `{"error": "the answer cannot be written"}`
	}
	return string(text)
}

// given is a file that the page has, by its path in the folder that was given to it.
type given struct {
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	// Pasted is set for a text that somebody handed over on purpose.
	Pasted bool `json:"pasted"`
}

// folder are the files that were given, which the worker reads slices of.
type folder struct {
	files map[string]given
	dirs  map[string][]fs.DirEntry
}

var current = newFolder(nil)

func newFolder(files []given) *folder {
	f := &folder{files: map[string]given{}, dirs: map[string][]fs.DirEntry{}}
	seen := map[string]bool{}
	for _, file := range files {
		if !fs.ValidPath(file.Path) || file.Path == "." {
			continue
		}
		f.files[file.Path] = file
		for child, entry := file.Path, fs.FileInfo(info{file}); ; {
			dir := "."
			if at := strings.LastIndexByte(child, '/'); at >= 0 {
				dir = child[:at]
			}
			if !seen[child] {
				seen[child] = true
				f.dirs[dir] = append(f.dirs[dir], fs.FileInfoToDirEntry(entry))
			}
			if dir == "." {
				break
			}
			child, entry = dir, dirInfo(dir)
		}
	}
	for dir := range f.dirs {
		slices.SortFunc(f.dirs[dir], func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	}
	return f
}

func (f *folder) Open(name string) (fs.File, error) {
	if found, ok := f.files[name]; ok {
		return &file{one: found}, nil
	}
	if _, ok := f.dirs[name]; ok || name == "." {
		return &file{one: given{Path: name}, dir: true}, nil
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

func (f *folder) Stat(name string) (fs.FileInfo, error) {
	if file, ok := f.files[name]; ok {
		return info{file}, nil
	}
	if _, ok := f.dirs[name]; ok || name == "." {
		return dirInfo(name), nil
	}
	return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

func (f *folder) ReadDir(name string) ([]fs.DirEntry, error) { return f.dirs[name], nil }

// file reads slices of a file of the page.
type file struct {
	one given
	at  int64
	dir bool
}

func (f *file) Stat() (fs.FileInfo, error) {
	if f.dir {
		return dirInfo(f.one.Path), nil
	}
	return info{f.one}, nil
}

func (f *file) Close() error { return nil }

func (f *file) Read(p []byte) (int, error) {
	n, err := f.ReadAt(p, f.at)
	f.at += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

func (f *file) ReadAt(p []byte, at int64) (int, error) {
	if at >= f.one.Size {
		return 0, io.EOF
	}
	want := min(int64(len(p)), f.one.Size-at)
	slice := js.Global().Call("endeixisRead", f.one.Path, float64(at), float64(want))
	if slice.IsNull() {
		return 0, errors.New("the browser cannot read it any more: it was changed or moved")
	}
	n := js.CopyBytesToGo(p, slice)
	if int64(n) < int64(len(p)) {
		return n, io.EOF
	}
	return n, nil
}

type info struct{ one given }

func (i info) Name() string       { return i.one.Path[strings.LastIndexByte(i.one.Path, '/')+1:] }
func (i info) Size() int64        { return i.one.Size }
func (i info) Mode() fs.FileMode  { return 0o444 }
func (i info) ModTime() time.Time { return i.one.ModTime }
func (i info) IsDir() bool        { return false }
func (i info) Sys() any           { return nil }

type dirInfo string

func (d dirInfo) Name() string     { return string(d[strings.LastIndexByte(string(d), '/')+1:]) }
func (dirInfo) Size() int64        { return 0 }
func (dirInfo) Mode() fs.FileMode  { return fs.ModeDir | 0o555 }
func (dirInfo) ModTime() time.Time { return time.Time{} }
func (dirInfo) IsDir() bool        { return true }
func (dirInfo) Sys() any           { return nil }

// hold takes the files that were given.
func hold(in string) (any, error) {
	var files []given
	if err := json.Unmarshal([]byte(in), &files); err != nil {
		return nil, err
	}
	current = newFolder(files)
	return struct{}{}, nil
}

// gather takes the files that were given, and returns what there is to know of them.
func gather(in string) (any, error) {
	if _, err := hold(in); err != nil {
		return nil, err
	}
	found, err := survey.Gather(context.Background(), current, survey.Limits{ControlTotal: 128 << 20})
	if err != nil {
		return nil, err
	}
	for name, file := range current.files {
		if !file.Pasted {
			continue
		}
		text, err := fs.ReadFile(current, name)
		if err != nil {
			return nil, err
		}
		found.Give(name, text, survey.Given{For: current.others(name)})
	}
	return found, nil
}

// others returns the files that were given beside one.
func (f *folder) others(name string) []string {
	var out []string
	for other, file := range f.files {
		if other != name && !file.Pasted {
			out = append(out, other)
		}
	}
	slices.Sort(out)
	return out
}

// recognise tells what a text is.
func recognise(text string) (any, error) { return survey.Recognise([]byte(text)) }

// assignment is an item that is to be measured, as the service asks for it.
type assignment struct {
	N        int            `json:"n"`
	Target   measure.Target `json:"target"`
	Expected []survey.Entry `json:"expected"`
	// Reading is what was measured of it, where it is to be explained.
	Reading *measure.Reading `json:"reading,omitempty"`
}

type done struct {
	N         int                  `json:"n"`
	Reading   measure.Reading      `json:"reading"`
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
}

var explainBelow = judge.DefaultPolicy().DiagnosisBytes

// measured does the assignments of one file.
func measured(in string) (any, error) {
	var assignments []assignment
	if err := json.Unmarshal([]byte(in), &assignments); err != nil {
		return nil, err
	}
	list := make([]verify.Assignment, len(assignments))
	for i := range assignments {
		list[i] = verify.Assignment{Target: &assignments[i].Target, Expected: assignments[i].Expected}
	}
	out := []done{}
	for _, part := range verify.Parts(list) {
		results, err := verify.MeasureParts(
			context.Background(), current, []verify.Part{part}, digest.Gain{}, explainBelow,
			func(total int64) {
				js.Global().Call("endeixisProgress", part.Path, float64(total))
			},
		)
		if err != nil {
			return nil, err
		}
		for i, d := range results[0] {
			out = append(out, done{assignments[part.At[i]].N, d.Reading, d.Diagnoses})
		}
	}
	return out, nil
}

// explain says why what was measured is not what is expected.
func explain(in string) (any, error) {
	var c assignment
	if err := json.Unmarshal([]byte(in), &c); err != nil {
		return nil, err
	}
	found, err := verify.Explain(
		context.Background(), current, verify.Assignment{Target: &c.Target, Expected: c.Expected}, *c.Reading,
		explainBelow,
	)
	return map[string]any{"diagnoses": found}, err
}

// drill measures a file with everything altered.
func drill(in string) (any, error) {
	var c struct {
		Target      measure.Target      `json:"target"`
		Alterations []verify.Alteration `json:"alterations"`
	}
	if err := json.Unmarshal([]byte(in), &c); err != nil {
		return nil, err
	}
	readings, err := verify.AlterFile(context.Background(), current, &c.Target, c.Alterations)
	return map[string]any{"readings": readings}, err
}
