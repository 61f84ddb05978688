package batches

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"path"
	"slices"
	"sync"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/core/release"
	"endeixis/core/survey"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

const (
	// comparedBatches is how many batches before are looked at for files that came with each, and
	// leastBatches how many there have to be for that to say anything.
	comparedBatches = 3
	leastBatches    = 2
	// maxCompared is the most files of a batch that is looked at for that.
	maxCompared = 5000
)

// predecessors know what the library has of the time before a batch. It implements
// [verify.Predecessors].
type predecessors struct {
	reads  store.Reads
	batch  int64
	depot  bool
	before int64

	mu sync.Mutex
	// folders are the files of batches by their stems, and gone what is missing of those that came with each of
	// some batches.
	folders map[int64]map[string]store.BatchFile
	gone    map[[comparedBatches]int64][]judge.Companionship
}

// predecessorsOf returns what was known before a batch was asked for: nothing, where an earlier version
// has not noted when that was. From within a transaction, reads are those of that.
func predecessorsOf(b store.Batch, reads store.Reads) *predecessors {
	out := &predecessors{
		reads: reads, batch: b.ID, depot: sourceOf(b).Kind == sources.Depot,
		folders: map[int64]map[string]store.BatchFile{}, gone: map[[comparedBatches]int64][]judge.Companionship{},
	}
	if b.LedgerSize != nil {
		out.before = *b.LedgerSize
	}
	return out
}

// here says which files lie in the folder of the batch, before that is stored.
func (p *predecessors) here(items []survey.Item) {
	p.folders[p.batch] = map[string]store.BatchFile{}
	if len(items) > maxCompared {
		return
	}
	for i := range items {
		p.put(store.BatchFile{Batch: p.batch, Path: items[i].Path})
	}
}

func (p *predecessors) put(f store.BatchFile) {
	if name := release.Of(container.Outermost(f.Path)); name.Telling() {
		p.folders[f.Batch][name.Stem] = f
	}
}

// Before returns what is known of the time before some files.
func (p *predecessors) Before(ctx context.Context, paths []string) (map[string]*judge.Before, error) {
	var stems, names []string
	for _, file := range paths {
		names = append(names, path.Base(file))
		if n := release.Of(file); n.Telling() {
			stems = append(stems, n.Stem)
		}
	}
	rows, err := p.reads.Remembered(ctx, distinct(stems), distinct(names), p.before, p.batch)
	if err != nil {
		return nil, err
	}
	byStem, byName := map[string][]judge.Predecessor{}, map[string][]judge.Predecessor{}
	for _, row := range rows {
		one, err := predecessorOf(row)
		if err != nil {
			return nil, err
		}
		byName[one.File] = append(byName[one.File], one)
		byStem[row.Stem] = append(byStem[row.Stem], one)
	}
	out := map[string]*judge.Before{}
	for _, file := range paths {
		name := release.Of(file)
		files := byName[path.Base(file)]
		if name.Telling() {
			files = byStem[name.Stem] // with those of its name
		}
		if len(files) == 0 {
			continue
		}
		missing, err := p.missing(ctx, files)
		if err != nil {
			return nil, err
		}
		out[file] = &judge.Before{Files: files, Missing: missing}
	}
	return out, nil
}

func distinct(list []string) []string {
	slices.Sort(list)
	return append([]string{}, slices.Compact(list)...)
}

func predecessorOf(row store.Remembered) (judge.Predecessor, error) {
	out := judge.Predecessor{
		Record: row.Position, Batch: row.Batch, At: row.At, File: row.File, SHA256: row.SHA256,
		Support: judge.Support{Publisher: row.Publisher, Signed: row.SignedAt},
	}
	var keys []openpgp.Fingerprint
	var algorithms []digest.Algorithm
	err := errors.Join(json.Unmarshal(row.Signers, &keys), json.Unmarshal(row.Algorithms, &algorithms))
	out.Keys, out.Algorithms = keys, algorithms
	return out, err
}

// missing are the files that came with some others each time, and are not in this batch.
func (p *predecessors) missing(ctx context.Context, files []judge.Predecessor) ([]judge.Companionship, error) {
	if !p.depot {
		return nil, nil
	}
	var batches []int64
	for _, f := range files {
		if !slices.Contains(batches, f.Batch) && len(batches) < comparedBatches {
			batches = append(batches, f.Batch)
		}
	}
	if len(batches) < leastBatches {
		return nil, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	var of [comparedBatches]int64
	copy(of[:], batches)
	if known, ok := p.gone[of]; ok {
		return known, nil
	}
	if err := p.read(ctx, append(slices.Clone(batches), p.batch)); err != nil {
		return nil, err
	}
	today := p.folders[p.batch]
	if len(today) == 0 {
		return nil, nil
	}
	var out []judge.Companionship
	for stem, last := range p.folders[batches[0]] {
		// That a signature is missing is told by itself.
		always := !slices.ContainsFunc(batches, func(b int64) bool {
			_, came := p.folders[b][stem]
			return !came
		})
		if _, came := today[stem]; came || !always || last.Record == nil || last.At == nil ||
			survey.Role(last.Role) == survey.Signature || survey.Role(last.Role) == survey.Key {
			continue
		}
		out = append(out, judge.Companionship{
			File: path.Base(last.Path), Batch: last.Batch, Record: *last.Record, At: *last.At, Times: len(batches),
		})
	}
	slices.SortFunc(out, func(x, y judge.Companionship) int { return cmp.Compare(x.Record, y.Record) })
	p.gone[of] = out
	return out, nil
}

// read reads the files of batches that were not read yet.
func (p *predecessors) read(ctx context.Context, batches []int64) error {
	batches = slices.DeleteFunc(batches, func(b int64) bool { return p.folders[b] != nil })
	if len(batches) == 0 {
		return nil
	}
	files, err := p.reads.FilesOf(ctx, batches, container.Separator, maxCompared)
	if err != nil {
		return err
	}
	for _, b := range batches {
		p.folders[b] = map[string]store.BatchFile{}
	}
	for _, f := range files {
		p.put(f)
	}
	return nil
}
