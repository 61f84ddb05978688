package verify

import (
	"bytes"
	"context"
	"io/fs"
	"maps"

	"endeixis/core/measure"
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
		m, err := measure.Bytes(ctx, bytes.NewReader(content), item, w)
		if err != nil {
			return nil, err
		}
		out[item.Path] = m
	}
	return out, nil
}

// A File is one file of a folder with the items that are read with it: its own,
// and those inside it, each after what holds it.
type File struct {
	Path  string
	Items []*survey.Item
	// At are the places of the items in the list that they are from.
	At []int
}

// Files groups items by the files that they are read with, in the order of the
// first item of each.
func Files(items []*survey.Item) []*File {
	var out []*File
	at := map[string]*File{}
	for i, item := range items {
		outer := survey.Outermost(item.Path)
		f := at[outer]
		if f == nil {
			f = &File{Path: outer}
			at[outer] = f
			out = append(out, f)
		}
		f.Items, f.At = append(f.Items, item), append(f.At, i)
	}
	return out
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
	for _, f := range Files(rest) {
		measured, err := measure.Open(ctx, folder, f.Path, f.Items, w, nil)
		if err != nil {
			return nil, err
		}
		maps.Copy(out, measured)
	}
	return out, nil
}
