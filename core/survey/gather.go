package survey

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// Findings are what was looked at of a folder: all that [Plan] needs to know.
type Findings struct {
	Files []Found `json:"files"`
	// Containers are those that were looked into, each before those inside it.
	Containers []Looked `json:"containers"`
}

// Found is one file of the folder.
type Found struct {
	Path    string    `json:"path"`
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	// Changed is when it was last changed in any way, where that is known.
	Changed time.Time `json:"changed,omitzero"`
	// Problem says why it could not be looked at, or not be read.
	Problem *measure.Problem `json:"problem,omitempty"`
	// Promised is the role that the name of a file promises that was not read
	// as one.
	Promised Role `json:"promised,omitempty"`
	// Content is all of a file that can be a manifest, a signature or a key;
	// nil for one that was not read.
	Content []byte `json:"content,omitzero"`
	// Given is set for a text that a person handed over on purpose: it is evidence by that
	// word, whatever it looks like, and never an artifact.
	Given *Given `json:"given,omitempty"`
	// Continued is set in a page of findings whose content goes on from that of the same
	// path before; see [Findings.Pages].
	Continued bool `json:"continued,omitempty"`
}

// A Given says what a text is for that a person handed over on purpose.
type Given struct {
	// For are the paths of the files that it was handed over for; of a text for one file,
	// each value without a name is that file's.
	For []string `json:"for,omitempty"`
	// Values are digests that were given as such. Then the text is only what was typed, and
	// is not read.
	Values []GivenValue `json:"values,omitempty"`
}

// A GivenValue is a digest that was given as such.
type GivenValue struct {
	// Algorithm is what was said of it, or [digest.Unknown].
	Algorithm digest.Algorithm `json:"algorithm"`
	Digest    digest.Value     `json:"digest"`
}

// Give adds a text that was handed over, under a path that no file has.
func (f *Findings) Give(path string, content []byte, given Given) {
	f.Files = slices.DeleteFunc(f.Files, func(file Found) bool { return file.Path == path })
	f.Files = append(f.Files, Found{Path: path, Size: int64(len(content)), Content: content, Given: &given})
	slices.SortFunc(f.Files, func(a, b Found) int { return strings.Compare(a.Path, b.Path) })
}

// Looked is a container that was looked into.
type Looked struct {
	Path   string            `json:"path"`
	Layout *container.Layout `json:"layout,omitempty"`
	// Contents holds, by name, the members that can be manifests, signatures
	// or keys.
	Contents map[string][]byte `json:"contents,omitempty"`
	// Trouble says why it could not be looked into, or is empty.
	Trouble string `json:"trouble,omitempty"`
	// Continued is set in a page of findings that goes on with what is known of the same
	// container before.
	Continued bool `json:"continued,omitempty"`
}

// Limits bound a survey. The zero value means the defaults.
type Limits struct {
	// Files bounds the files of a folder. Default 1 million.
	Files int
	// ControlFile bounds one manifest, signature or key file. Default 64 MiB.
	ControlFile int64
	// ControlTotal bounds all of them together. Default 512 MiB.
	ControlTotal int64
	// Entries bounds the entries of one manifest. Default 2 million.
	Entries int
	// Depth bounds how many containers are looked into that lie in each
	// other. Default 3.
	Depth int
	// Container bounds the look into each, and Bound the time for it, nil not
	// at all: the core has no clock.
	Container container.Limits
	Bound     container.Bound
}

func (l Limits) withDefaults() Limits {
	if l.Files == 0 {
		l.Files = 1_000_000
	}
	if l.ControlFile == 0 {
		l.ControlFile = 64 << 20
	}
	if l.ControlTotal == 0 {
		l.ControlTotal = 512 << 20
	}
	if l.Entries == 0 {
		l.Entries = 2_000_000
	}
	if l.Depth == 0 {
		l.Depth = 3
	}
	return l
}

// A TooManyFilesError reports a folder over the limit.
type TooManyFilesError struct{ Limit int }

// Error says what to do.
func (e *TooManyFilesError) Error() string {
	return fmt.Sprintf("the folder holds more than %d files; choose a folder further down", e.Limit)
}

// Gather looks at everything below the root of folder. It fails when the folder
// itself cannot be listed, with a [*TooManyFilesError], or when ctx ends; trouble
// with a single file becomes its Problem.
func Gather(ctx context.Context, folder fs.FS, limits Limits) (*Findings, error) {
	g := &gatherer{
		folder: folder, limits: limits.withDefaults(), out: &Findings{Files: []Found{}, Containers: []Looked{}},
	}
	if err := g.walk(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(g.out.Files, func(a, b Found) int { return strings.Compare(a.Path, b.Path) })
	if err := g.lookInside(ctx); err != nil {
		return nil, err
	}
	return g.out, nil
}

type gatherer struct {
	folder fs.FS
	limits Limits
	// kept is the length of all content that was kept.
	kept int64
	out  *Findings
}

func (g *gatherer) walk(ctx context.Context) error {
	return fs.WalkDir(g.folder, ".", func(name string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			if name == "." {
				return err
			}
			g.out.Files = append(
				g.out.Files,
				Found{
					Path: plain.Text(name), Problem: &measure.Problem{Code: measure.Unreadable, Message: reason(err)},
				},
			)
			if entry != nil && entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if entry.IsDir() {
			return nil
		}
		if len(g.out.Files) >= g.limits.Files {
			return &TooManyFilesError{Limit: g.limits.Files}
		}
		g.out.Files = append(g.out.Files, g.look(name, entry))
		return nil
	})
}

// look looks at one file, opening it only if it can be a manifest, a signature
// or a key.
func (g *gatherer) look(name string, entry fs.DirEntry) Found {
	found := Found{Path: name}
	if !utf8.ValidString(name) {
		found.Path = plain.Text(name)
		found.Problem = &measure.Problem{
			Code:    measure.Unreadable,
			Message: "its name is not valid UTF-8, so that no manifest can name it; rename it",
		}
		return found
	}
	link := entry.Type()&fs.ModeSymlink != 0
	info, err := fs.Stat(g.folder, name)
	if err != nil {
		found.Problem = &measure.Problem{Code: measure.Unreadable, Message: reason(err)}
		if link && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
			found.Problem = &measure.Problem{
				Code:    measure.LeavesDepot,
				Message: "it is a symbolic link that leads out of the depot, and was not followed",
			}
		} else if link {
			found.Problem.Message = "it is a symbolic link to a file that is not there or may not be read"
		}
		return found
	}
	found.Size, found.ModTime, found.Changed = info.Size(), info.ModTime().UTC(), measure.ChangeTime(info)
	if !info.Mode().IsRegular() {
		found.Problem = &measure.Problem{
			Code: measure.NotAFile, Message: "it is not a regular file (" + kind(info.Mode()) + "), and was not opened",
		}
		return found
	}
	guess := guessRole(name)
	if guess == "" || guess == maybeText && found.Size > maxText {
		if !g.readable(name, found.Size) {
			return found
		}
		guess = maybeText
	}
	if found.Size > g.limits.ControlFile || g.kept+found.Size > g.limits.ControlTotal {
		if guess != maybeText {
			found.Promised = Role(guess)
			found.Problem = &measure.Problem{
				Code: measure.TooLarge,
				Message: fmt.Sprintf(
					"it is named like a %s and is %d bytes long; more than %d bytes are not read as one", guess,
					found.Size, g.limits.ControlFile,
				),
			}
		}
		return found
	}
	content, err := g.content(name, found.Size)
	if err != nil {
		if guess != maybeText {
			found.Promised = Role(guess)
		}
		found.Problem = &measure.Problem{Code: measure.Unreadable, Message: reason(err)}
		return found
	}
	g.kept += int64(len(content))
	found.Content, found.Size = content, int64(len(content))
	return found
}

func (g *gatherer) content(name string, size int64) ([]byte, error) {
	f, err := g.folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, g.limits.ControlFile+1))
	if err == nil && int64(len(content)) > g.limits.ControlFile {
		err = fmt.Errorf("it grew from %d bytes beyond the limit while it was read", size)
	}
	return content, err
}

// lookInside lists the containers of the folder.
func (g *gatherer) lookInside(ctx context.Context) error {
	// Asked only for what would have to be read through: most folders hold
	// no such thing, and manifests can be long.
	folder := *g.out
	askedFor := sync.OnceValues(func() (map[string]bool, bool) { return newPlanner(&folder, g.limits).spokenOf() })
	for i := range g.out.Files {
		found := &g.out.Files[i]
		possible, wholeRead := container.Named(found.Path)
		if !possible || found.Content != nil || found.Promised != "" || found.Problem != nil || found.Size == 0 {
			continue
		}
		if wholeRead {
			if spoken, wanting := askedFor(); spoken[found.Path] && !wanting {
				continue
			}
		}
		f, err := g.folder.Open(found.Path)
		if err != nil {
			continue // measuring it will say so
		}
		if r, ok := f.(io.ReaderAt); ok {
			err = g.list(ctx, found.Path, r, found.Size, 1)
		}
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// list looks into one container and, in turn, into those inside it.
func (g *gatherer) list(ctx context.Context, p string, r io.ReaderAt, size int64, depth int) error {
	nested := func(name string) bool { return depth < g.limits.Depth && nests(name) }
	bounded, cancel := g.limits.Bound.Of(ctx)
	defer cancel()
	layout, err := container.List(bounded, r, size, path.Base(p), container.Options{
		Limits: g.limits.Container,
		Keep: func(name string, size int64) bool {
			if nested(name) {
				return true
			}
			guess := guessRole(name)
			return guess != "" && (guess != maybeText || size <= maxText) && size <= g.limits.ControlFile &&
				g.kept+size <= g.limits.ControlTotal
		},
	})
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	if errors.Is(err, container.ErrNotContainer) {
		return nil
	}
	at := len(g.out.Containers)
	g.out.Containers = append(g.out.Containers, Looked{Path: p, Layout: layout})
	if err != nil {
		g.out.Containers[at].Layout, g.out.Containers[at].Trouble = &container.Layout{}, plain.Text(err.Error())
		return nil
	}
	contents := map[string][]byte{}
	for n := range layout.Members {
		m := &layout.Members[n]
		content := m.Content
		m.Content = nil
		if content == nil {
			continue
		}
		if nested(m.Name) {
			if err := g.list(
				ctx, p+container.Separator+m.Name, bytes.NewReader(content), int64(len(content)), depth+1,
			); err != nil {
				return err
			}
			continue
		}
		g.kept += int64(len(content))
		contents[m.Name] = content
	}
	g.out.Containers[at].Contents = contents
	return nil
}

// nests reports whether a member is looked into by itself. Inside an archive,
// what is called .img is firmware, not a disc.
func nests(name string) bool {
	possible, _ := container.Named(name)
	return possible && !strings.EqualFold(path.Ext(name), ".img")
}

// opaque are the endings of files that are no text, and are not looked into to see
// whether they are signed ones.
var opaque = []string{
	".img",
	".bin",
	".iso",
	".zip",
	".tar",
	".tgz",
	".exe",
	".msi",
	".deb",
	".rpm",
	".apk",
	".dmg",
	".jar",
	".whl",
	".ko",
	".so",
	".elf",
	".uf2",
	".rom",
	".fw",
	".pdf",
	".png",
	".jpg",
}

// textHead is how much of a file is looked at to tell whether it is a text, and
// framedHead how far into it the frame around a signed one has to begin.
const (
	textHead   = 4096
	framedHead = 2048
)

// readable reports whether a file whose name promises nothing can be a list all the
// same: a text of bounded size, or one with signatures around it.
func (g *gatherer) readable(name string, size int64) bool {
	ext := strings.ToLower(path.Ext(name))
	if _, _, compressed := container.OfName(
		name,
	); compressed || slices.Contains(opaque, ext) || size > g.limits.ControlFile ||
		size == 0 {
		return false
	}
	f, err := g.folder.Open(name)
	if err != nil {
		return false // it is told when it is measured
	}
	defer f.Close()
	head, _ := io.ReadAll(io.LimitReader(f, textHead))
	return openpgp.IsCleartext(head[:min(len(head), framedHead)]) || size <= maxText && manifest.IsText(head)
}

// maybeText is the guess for a file whose name says nothing and whose content
// may be a manifest.
const maybeText = "text"

// maxText bounds what is read of a file whose name does not announce a
// manifest.
const maxText = 1 << 20

// signatureSuffixes are the usual endings of detached signatures.
var signatureSuffixes = []string{".sig", ".asc", ".sign", ".pgp", ".gpg"}

// guessRole says what a name promises: a role, maybeText, or nothing.
func guessRole(name string) string {
	base := path.Base(name)
	ext := strings.ToLower(path.Ext(base))
	switch {
	case slices.Contains(signatureSuffixes, ext):
		return string(Signature)
	case manifest.NamedLikeOne(base):
		return string(Manifest)
	case ext == ".key" || ext == ".pub":
		return string(Key)
	case ext == ".meta4" || ext == ".metalink" || ext == ".spdx":
		return string(Manifest)
	case ext == ".txt" || ext == "" || ext == ".json" || ext == ".csv" || ext == ".tsv":
		return maybeText
	}
	return ""
}

// reason words an error without the path, which is shown beside it.
func reason(err error) string {
	var pathErr *fs.PathError
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "the permissions do not allow reading it"
	case errors.Is(err, fs.ErrNotExist):
		return "it is no longer there"
	case errors.As(err, &pathErr):
		return plain.Text(pathErr.Err.Error())
	}
	return plain.Text(err.Error())
}

func kind(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a link to a directory"
	case mode&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "a special file"
}
