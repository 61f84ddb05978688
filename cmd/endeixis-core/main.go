//go:build js && wasm

// Endeixis-core is the core compiled for a browser's worker: it looks at files that were
// given to the page, measures what hashing alone does not, explains differences, and
// drills. Files are read in slices by the worker; nothing leaves it but what the page
// sends.
//
// It sets the functions of [consolecore] in the global object “endeixis”, each of which takes
// and returns JSON.
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

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/consolecore"
)

func main() {
	handlers := map[string]consolecore.Handler{
		consolecore.Hold.Name:      consolecore.Hold.Handle(hold),
		consolecore.Gather.Name:    consolecore.Gather.Handle(gather),
		consolecore.Recognise.Name: consolecore.Recognise.Handle(recognise),
		consolecore.Measure.Name:   consolecore.Measure.Handle(measured),
		consolecore.Explain.Name:   consolecore.Explain.Handle(explain),
		consolecore.Alter.Name:     consolecore.Alter.Handle(alter),
	}
	object := js.Global().Get("Object").New()
	for name, handler := range handlers {
		object.Set(name, js.FuncOf(func(_ js.Value, args []js.Value) any {
			in := args[0].String()
			return js.Global().Get("Promise").New(js.FuncOf(func(_ js.Value, settle []js.Value) any {
				go func() { settle[0].Invoke(answer(handler([]byte(in)))) }()
				return nil
			}))
		}))
	}
	js.Global().Set("endeixis", object)
	js.Global().Call("endeixisReady")
	select {}
}

// answer is what a function returns, in JSON.
func answer(out []byte, err error) string {
	if err == nil {
		return string(out)
	}
	text, err := json.Marshal(consolecore.Failed{Error: err.Error()})
	if err != nil {
		return `{"error": "the answer cannot be written"}`
	}
	return string(text)
}

// folder are the files that were given, which the worker reads slices of.
type folder struct {
	files map[string]consolecore.File
	dirs  map[string][]fs.DirEntry
}

var current = newFolder(nil)

func newFolder(files []consolecore.File) *folder {
	f := &folder{files: map[string]consolecore.File{}, dirs: map[string][]fs.DirEntry{}}
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
		return &file{one: consolecore.File{Path: name}, dir: true}, nil
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
	one consolecore.File
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

type info struct{ one consolecore.File }

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
func hold(in consolecore.Files) (consolecore.Nothing, error) {
	current = newFolder(in.Files)
	return consolecore.Nothing{}, nil
}

// gather takes the files that were given, and returns what there is to know of them.
func gather(in consolecore.Files) (consolecore.Listing, error) {
	current = newFolder(in.Files)
	found, err := survey.Gather(context.Background(), current, survey.Limits{ControlTotal: 128 << 20})
	if err != nil {
		return consolecore.Listing{}, err
	}
	for name, file := range current.files {
		if !file.Pasted {
			continue
		}
		text, err := fs.ReadFile(current, name)
		if err != nil {
			return consolecore.Listing{}, err
		}
		found.Give(name, text, survey.Given{For: current.others(name)})
	}
	return consolecore.Listing{Pages: slices.Collect(found.Pages(survey.PageLimits{}))}, nil
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
func recognise(in consolecore.Text) (survey.Recognised, error) {
	return survey.Recognise([]byte(in.Text))
}

var explainBelow = judge.DefaultPolicy().DiagnosisBytes

// measured carries assignments out.
func measured(in consolecore.Assignments) (consolecore.Submissions, error) {
	out := consolecore.Submissions{Measured: []consolecore.Submission{}}
	list := make([]verify.Assignment, len(in.Assignments))
	for i := range in.Assignments {
		list[i] = in.Assignments[i].Verify()
	}
	for _, part := range verify.Parts(list) {
		results, err := verify.MeasureParts(
			context.Background(), current, []verify.Part{part}, digest.Gain{}, explainBelow,
			func(total int64) {
				js.Global().Call("endeixisProgress", part.Path, float64(total))
			},
		)
		if err != nil {
			return consolecore.Submissions{}, err
		}
		for i, d := range results[0] {
			out.Measured = append(out.Measured, consolecore.Submission{
				N: in.Assignments[part.At[i]].N, Reading: d.Reading, Diagnoses: d.Diagnoses,
			})
		}
	}
	return out, nil
}

// explain says why what was measured is not what is expected.
func explain(in consolecore.Unexplained) (consolecore.Explanation, error) {
	found, err := verify.Explain(context.Background(), current, in.Assignment.Verify(), in.Reading, explainBelow)
	return consolecore.Explanation{Diagnoses: found}, err
}

// alter reads a file with alterations.
func alter(in consolecore.Drill) (consolecore.Drilled, error) {
	readings, err := verify.AlterFile(context.Background(), current, &in.Target, in.Alterations)
	return consolecore.Drilled{Readings: readings}, err
}
