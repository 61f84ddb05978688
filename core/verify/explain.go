package verify

import (
	"context"
	"io"
	"io/fs"
	"slices"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// recalled caches the answers of an [OtherFiles] while one set of items is settled.
type recalled struct {
	from OtherFiles
	// cleared has the answers by SHA-256 in hexadecimal; nil means that nothing was cleared with it.
	cleared map[string]*diagnose.Earlier
}

// otherPlaces is where else the bytes of one measurement are stated or were cleared.
type otherPlaces struct {
	stated  map[string]diagnose.StatedAt
	earlier *diagnose.Earlier
}

// prepare asks one question about all files that no manifest lists, in place of one for each.
func (k *recalled) prepare(ctx context.Context, measured []Item) error {
	var sums []string
	for i := range measured {
		d := &measured[i]
		if len(d.Planned.Listed) == 0 && len(d.Planned.Signatures) == 0 && d.Planned.Role == survey.Artifact {
			sums = append(sums, d.Measurement.Digests[digest.SHA256].String())
		}
	}
	return k.ask(ctx, sums)
}

func (k *recalled) ask(ctx context.Context, sums []string) error {
	if len(sums) == 0 {
		return nil
	}
	found, err := k.from.Cleared(ctx, sums)
	if err != nil {
		return err
	}
	for _, sum := range sums {
		k.cleared[sum] = found[sum]
	}
	return nil
}

func (k *recalled) of(ctx context.Context, m *measure.Measurement) (otherPlaces, error) {
	stated, err := k.from.Stated(ctx)
	if err != nil {
		return otherPlaces{}, err
	}
	sum, ok := m.Digests[digest.SHA256]
	if !ok {
		return otherPlaces{stated: stated}, nil
	}
	if _, asked := k.cleared[sum.String()]; !asked {
		if err := k.ask(ctx, []string{sum.String()}); err != nil {
			return otherPlaces{}, err
		}
	}
	return otherPlaces{stated, k.cleared[sum.String()]}, nil
}

// Stated returns what the manifests of a survey state, by digest in hexadecimal:
// of the files that are here and of those that are not.
func Stated(plan *survey.Survey) map[string]diagnose.StatedAt {
	out := map[string]diagnose.StatedAt{}
	for _, item := range plan.Items {
		for _, l := range item.Listed {
			out[l.Digest.String()] = diagnose.StatedAt{Name: item.Path, Manifest: l.Manifest, Line: l.Line}
		}
	}
	for _, a := range plan.Absent {
		out[a.Digest.String()] = diagnose.StatedAt{Name: a.Name, Manifest: a.Manifest, Line: a.Line}
	}
	return out
}

// explainByOtherPlaces adds a diagnosis to the measurement of a file that no manifest lists, where
// another entry states its digest or an earlier release had the same bytes. It reads no file.
func explainByOtherPlaces(item *survey.Item, m *measure.Measurement, places otherPlaces) {
	var causes []diagnose.Cause
	if found := diagnose.UnderAnotherName(item.Path, m.Digests, places.stated); found != nil {
		causes = append(causes, *found)
	}
	if found := diagnose.KnownRelease(places.earlier); found != nil {
		causes = append(causes, *found)
	}
	if len(causes) > 0 {
		m.Diagnoses = append(m.Diagnoses, diagnose.Diagnosis{Causes: causes})
	}
}

// explain diagnoses why an item does not match an entry, and keeps the result
// with the measurement. r is the file from its beginning; it is read once. A
// file that cannot be read again is left unexplained. Where all else fails,
// files of the folder that by their names may hold this one are read, up to the
// policy's bound; folder may be nil.
func (s *Session) explain(
	ctx context.Context, folder fs.FS, r io.Reader, item *survey.Item, m *measure.Measurement, entry *survey.Entry,
	places otherPlaces,
) error {
	d, err := explained(ctx, folder, r, item.Path, m, entry, places, s.basis.Policy.DiagnosisBytes)
	if err != nil || d == nil {
		return err
	}
	m.Diagnoses = append(m.Diagnoses, *d)
	return nil
}

// explained reads a file once more and says why it does not match an entry; nil where it
// cannot be read.
func explained(
	ctx context.Context, folder fs.FS, r io.Reader, path string, m *measure.Measurement, entry *survey.Entry,
	places otherPlaces, maxBytes int64,
) (*diagnose.Diagnosis, error) {
	at, _ := r.(io.ReaderAt)
	found, err := diagnose.Run(ctx, r, diagnose.Case{
		Name: path, Size: m.Size, Computed: m.Digests, Expected: entry.Digest, Algorithms: entry.Algorithms,
		ExpectedSize: entry.Size, Pieces: entry.Pieces, Known: places.stated, Earlier: places.earlier, At: at,
		Around: holdersOf(folder, path, maxBytes),
	})
	if err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		return nil, nil
	}
	return &diagnose.Diagnosis{Manifest: entry.Manifest, Line: entry.Line, Expected: entry.Digest, Causes: found}, nil
}

// complement adds to a measurer's diagnosis the causes that only the service can find: that the
// bytes are those of another entry, or of an earlier release.
func complement(item *survey.Item, m *measure.Measurement, entry *survey.Entry, places otherPlaces) {
	at := slices.IndexFunc(m.Diagnoses, func(d diagnose.Diagnosis) bool {
		return d.Manifest == entry.Manifest && d.Line == entry.Line && slices.Equal(d.Expected, entry.Digest)
	})
	if at < 0 {
		at = len(m.Diagnoses)
		m.Diagnoses = append(
			m.Diagnoses, diagnose.Diagnosis{Manifest: entry.Manifest, Line: entry.Line, Expected: entry.Digest},
		)
	}
	d := &m.Diagnoses[at]
	for _, found := range []*diagnose.Cause{
		diagnose.UnderAnotherName(item.Path, m.Digests, places.stated),
		diagnose.KnownRelease(places.earlier),
	} {
		if found != nil {
			d.Causes = append(d.Causes, *found)
		}
	}
	if len(d.Causes) > 1 {
		d.Causes = slices.DeleteFunc(d.Causes, func(f diagnose.Cause) bool { return f.Code == diagnose.Altered })
	}
	if len(d.Causes) == 0 {
		m.Diagnoses = slices.Delete(m.Diagnoses, at, at+1)
	}
}

// holdersOf returns the files that by their names may hold the one at path:
// “x.img.gz” and “x.zip” for “x.img”.
func holdersOf(folder fs.FS, path string, maxBytes int64) []diagnose.Holder {
	if folder == nil || container.Outermost(path) != path {
		return nil
	}
	var out []diagnose.Holder
	for _, name := range container.NamesAround(path) {
		info, err := fs.Stat(folder, name)
		if err == nil && info.Mode().IsRegular() && info.Size() <= maxBytes {
			out = append(
				out, diagnose.Holder{Name: name, Open: func() (io.ReadCloser, error) { return folder.Open(name) }},
			)
		}
	}
	return out
}
