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
func Read(ctx context.Context, plan *survey.Survey, w measure.Attribution) (map[string]measure.Measurement, error) {
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
func Of(item *survey.Item, r measure.Reading, w measure.Attribution) measure.Measurement {
	target, over := item.Target()
	return measurementOf(target, over, r, w)
}

// measurementOf puts into words of the plan what came of measuring a target of
// it.
func measurementOf(
	target *measure.Target, over []*survey.SignatureOver, r measure.Reading, w measure.Attribution,
) measure.Measurement {
	m := measure.Measurement{
		Size:               r.Size,
		Unexpanded:         r.Unexpanded,
		Surplus:            r.Surplus,
		CollisionSuspected: r.CollisionSuspected,
		Problem:            r.Problem,
		Readback:           r.Readback,
	}
	m.Sign(w)
	if len(r.Results) != len(target.Tasks) {
		return m
	}
	digests := len(target.Tasks) - len(over)
	m.Digests = make(map[digest.Algorithm]digest.Value, digests)
	for i, task := range target.Tasks[:digests] {
		if !target.Spared(i, r.Results) || r.Results[i].Digest != nil {
			m.Digests[task.Algorithm] = r.Results[i].Digest
		}
	}
	for i, o := range over {
		if result := r.Results[digests+i]; result.Digest != nil {
			m.SignatureHashes = append(
				m.SignatureHashes,
				measure.SignatureHash{File: o.File, Index: o.Index, Digest: result.Digest, NotText: result.NotText},
			)
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
			m.SignatureHashes = append(
				m.SignatureHashes,
				measure.SignatureHash{File: o.File, Index: o.Index, Digest: doc.Digest, NotText: doc.NotText},
			)
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
	return grouped(
		len(items), func(i int) string { return items[i].Path }, func(path string) *File { return &File{Path: path} },
		func(at **File, i int) {
			f, item := *at, items[i]
			target, over := item.Target()
			f.Items, f.At = append(f.Items, item), append(f.At, i)
			f.targets, f.over = append(f.targets, target), append(f.over, over)
		},
	)
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

// Groups puts files into groups that gain by being measured together, and all others
// by themselves.
func Groups(files []*File, gain digest.Gain) [][]*File {
	return inGroups(files, func(f *File) []*measure.Target { return f.targets }, gain, 1)
}

func inGroups[F any](files []F, targets func(F) []*measure.Target, gain digest.Gain, cores int) [][]F {
	numbers := measure.Groups(len(files), func(i int) []*measure.Target { return targets(files[i]) }, gain, cores)
	out := make([][]F, len(numbers))
	for g, members := range numbers {
		for _, i := range members {
			out[g] = append(out[g], files[i])
		}
	}
	return out
}

// Open measures files of a folder, each read once, with what is inside them:
// several of them only if they are one of the [Groups]. The measurements are by path.
// It fails only when ctx ends. progress may be nil, and may be called by several
// goroutines.
func Open(
	ctx context.Context, folder fs.FS, files []*File, w measure.Attribution, gain digest.Gain,
	progress func(total int64),
) (map[string]measure.Measurement, error) {
	readings, err := openGroup(
		ctx, folder, files, func(f *File) (string, []*measure.Target) { return f.Path, f.targets }, gain, progress,
	)
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

func openGroup[F any](
	ctx context.Context, folder fs.FS, files []F, of func(F) (path string, targets []*measure.Target), gain digest.Gain,
	progress func(total int64),
) (map[string]measure.Reading, error) {
	if len(files) == 1 {
		path, targets := of(files[0])
		return measure.Open(ctx, folder, path, targets, progress)
	}
	targets := make([]*measure.Target, len(files))
	for i, f := range files {
		_, own := of(f)
		targets[i] = own[0]
	}
	return measure.OpenMany(ctx, folder, targets, gain, progress)
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
func Measure(
	ctx context.Context, folder fs.FS, plan *survey.Survey, w measure.Attribution, gain digest.Gain,
) (map[string]measure.Measurement, error) {
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
	for _, files := range Groups(Files(rest), gain) {
		measured, err := Open(ctx, folder, files, w, gain, nil)
		if err != nil {
			return nil, err
		}
		for path, m := range measured {
			out[path] = m
		}
	}
	return out, nil
}
