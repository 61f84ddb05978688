package verify

import (
	"bytes"
	"context"
	"io"
	"io/fs"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/survey"
)

// Read measures the items that the survey has read in full, from memory.
func Read(ctx context.Context, plan *survey.Survey, w measure.Witness) (map[string]measure.Measurement, error) {
	out := map[string]measure.Measurement{}
	for i := range plan.Items {
		item := &plan.Items[i]
		content, ok := plan.Contents[item.Path]
		if !ok {
			continue
		}
		target, over := item.Target()
		reading, err := measure.Bytes(ctx, bytes.NewReader(content), target)
		if err != nil {
			return nil, err
		}
		m := measurementOf(target, over, reading, w)
		addFrames(item, content, &m)
		out[item.Path] = m
	}
	return out, nil
}

// Of puts into words of the plan what somebody else read of an item: a reading has the
// results of the item's [survey.Item.Target], in their order, or a problem.
func Of(item *survey.Item, r measure.Reading, w measure.Witness) measure.Measurement {
	target, over := item.Target()
	return measurementOf(target, over, r, w)
}

// measurementOf puts into words of the plan what came of measuring a target of
// it.
func measurementOf(target *measure.Target, over []*survey.SignatureOver, r measure.Reading, w measure.Witness) measure.Measurement {
	m := measure.Measurement{
		Size: r.Size, Unexpanded: r.Unexpanded, Surplus: r.Surplus, CollisionSuspected: r.CollisionSuspected, Problem: r.Problem,
	}
	m.Sign(w)
	if len(r.Results) != len(target.Tasks) {
		return m
	}
	digests := len(target.Tasks) - len(over)
	m.Digests = make(map[digest.Algorithm]digest.Value, digests)
	for i, task := range target.Tasks[:digests] {
		m.Digests[task.Algorithm] = r.Results[i].Digest
	}
	for i, o := range over {
		if result := r.Results[digests+i]; result.Digest != nil {
			m.SignatureHashes = append(m.SignatureHashes, measure.SignatureHash{File: o.File, Index: o.Index, Digest: result.Digest, NotText: result.NotText})
		}
	}
	return m
}

// addFrames adds the hashes for signatures that are around the content itself.
// Finding what they cover takes the reader of such texts, so it is done where
// the content is known and not where files are measured. A signature that covers
// nothing stays without hash.
func addFrames(item *survey.Item, content []byte, m *measure.Measurement) {
	for _, o := range item.Signatures {
		if o.Around == "" || o.Problem != nil || m.Problem != nil {
			continue
		}
		sig, err := openpgp.ParseSignature(o.Raw)
		if err != nil || sig.Unsupported() != nil {
			continue
		}
		if doc, err := framed(o.Around, content, sig); err == nil {
			m.SignatureHashes = append(m.SignatureHashes, measure.SignatureHash{File: o.File, Index: o.Index, Digest: doc.Digest, NotText: doc.NotText})
		}
	}
}

// framed returns what a signature around content is held against.
func framed(around survey.Enclosure, content []byte, sig *openpgp.Signature) (openpgp.Document, error) {
	if around == survey.Message {
		m, err := openpgp.ReadMessage(content)
		if err != nil {
			return openpgp.Document{}, err
		}
		return m.Document(sig)
	}
	c, err := openpgp.ReadCleartext(content)
	if err != nil {
		return openpgp.Document{}, err
	}
	return c.Document(sig)
}

// A File is one file of a folder with the items that are read with it: its own,
// and those inside it, each after what holds it.
type File struct {
	Path  string
	Items []*survey.Item
	// At are the places of the items in the list that they are from.
	At      []int
	targets []*measure.Target
	over    [][]*survey.SignatureOver
}

// Files groups items by the files that they are read with, in the order of the
// first item of each.
func Files(items []*survey.Item) []*File {
	return grouped(len(items), func(i int) string { return items[i].Path }, func(path string) *File { return &File{Path: path} }, func(at **File, i int) {
		f, item := *at, items[i]
		target, over := item.Target()
		f.Items, f.At = append(f.Items, item), append(f.At, i)
		f.targets, f.over = append(f.targets, target), append(f.over, over)
	})
}

// grouped puts what there are n of, each with a path, into groups by the file of the
// folder that the path leads to or into.
func grouped[G any](n int, pathOf func(i int) string, begin func(path string) G, add func(g *G, i int)) []G {
	var out []G
	at := map[string]int{}
	for i := range n {
		outer := container.Outermost(pathOf(i))
		g, ok := at[outer]
		if !ok {
			g = len(out)
			at[outer] = g
			out = append(out, begin(outer))
		}
		add(&out[g], i)
	}
	return out
}

// Together returns how many of the files at the beginning gain by being measured
// side by side, see [measure.OpenMany]: of each only the MD5 is to be computed.
func Together(files []*File) int {
	n := 0
	for n < len(files) && n < 4*digest.StreamCount && measure.OnlyMD5(files[n].targets) {
		n++
	}
	return n
}

// Open measures files of a folder, each read once, with what is inside them:
// several of them only if they go together. The measurements are by path. It
// fails only when ctx ends. progress may be nil, and may be called by several
// goroutines.
func Open(ctx context.Context, folder fs.FS, files []*File, w measure.Witness, progress func(total int64)) (map[string]measure.Measurement, error) {
	var readings map[string]measure.Reading
	var err error
	if len(files) == 1 {
		readings, err = measure.Open(ctx, folder, files[0].Path, files[0].targets, progress)
	} else {
		targets := make([]*measure.Target, len(files))
		for i, f := range files {
			targets[i] = f.targets[0]
		}
		readings, err = measure.OpenMany(ctx, folder, targets, progress)
	}
	if err != nil {
		return nil, err
	}
	out := make(map[string]measure.Measurement, len(readings))
	for _, f := range files {
		for i, target := range f.targets {
			out[target.Path] = measurementOf(target, f.over[i], readings[target.Path], w)
		}
	}
	return out, nil
}

// Content opens the content of an item that may be inside another file, see
// [measure.Content].
func Content(ctx context.Context, folder fs.FS, item *survey.Item, holders []*survey.Item) (io.ReadCloser, error) {
	target, _ := item.Target()
	around := make([]*measure.Target, len(holders))
	for i, h := range holders {
		around[i], _ = h.Target()
	}
	return measure.Content(ctx, folder, target, around)
}

// Measure measures everything of a plan: what the survey has read from memory,
// all other files from the folder, each read once. It fails only when ctx ends.
func Measure(ctx context.Context, folder fs.FS, plan *survey.Survey, w measure.Witness) (map[string]measure.Measurement, error) {
	out, err := Read(ctx, plan, w)
	if err != nil {
		return nil, err
	}
	var rest []*survey.Item
	for i := range plan.Items {
		if _, done := out[plan.Items[i].Path]; !done {
			rest = append(rest, &plan.Items[i])
		}
	}
	for files := Files(rest); len(files) > 0; {
		n := max(1, Together(files))
		measured, err := Open(ctx, folder, files[:n], w, nil)
		if err != nil {
			return nil, err
		}
		for path, m := range measured {
			out[path] = m
		}
		files = files[n:]
	}
	return out, nil
}
