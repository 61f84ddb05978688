package batches

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

	"endeixis/core/compare"
	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/query"
)

// A Comparison tells what differs between two batches.
type Comparison struct {
	Before, After Compared
	Files         []compare.Change
	Packages      []PackageLists
}

// A Compared is one of the two batches.
type Compared struct {
	query.Batch
	// Keys are those by whose signatures something of it is cleared.
	Keys []openpgp.Fingerprint
}

// PackageLists are two lists of packages, one of each batch, that differ. Trouble says why they are not compared.
type PackageLists struct {
	Before, After string
	Changes       []compare.PackageChange
	Trouble       string
}

// maxPackageLists bounds how many lists of packages are read at once.
const maxPackageLists = 20

// Compare tells what differs between two batches that have ended. The packages that lists among their files name are
// compared only where wanted: those are read once more, and have to be what was verified.
func (s *Service) Compare(ctx context.Context, before, after int64, packages bool) (Comparison, error) {
	var out Comparison
	was, err := s.compared(ctx, before, &out.Before)
	if err != nil {
		return out, err
	}
	now, err := s.compared(ctx, after, &out.After)
	if err != nil {
		return out, err
	}
	out.Files = compare.Files(was, now)
	if !packages {
		return out, nil
	}
	for _, c := range out.Files {
		lists := c.Kind == manifest.Changed || c.Kind == manifest.Replaced
		if !lists || !compare.NamesPackages(c.Before.Path) || !compare.NamesPackages(c.After.Path) {
			continue
		}
		pair := PackageLists{Before: c.Before.Path, After: c.After.Path}
		if len(out.Packages) == maxPackageLists {
			pair.Trouble = fmt.Sprintf("No more than %d lists of packages are compared at once.", maxPackageLists)
			out.Packages = append(out.Packages, pair)
			break
		}
		if pair.Changes, pair.Trouble, err = s.comparePackages(ctx, before, after, c); err != nil {
			return out, err
		}
		out.Packages = append(out.Packages, pair)
	}
	return out, nil
}

// compared returns the files of a batch that has ended, and says which it is.
func (s *Service) compared(ctx context.Context, id int64, into *Compared) ([]compare.File, error) {
	var err error
	if into.Batch, err = s.Get(ctx, id); err != nil {
		return nil, err
	}
	if !into.State.Ended() {
		return nil, fault.New(fault.Conflict, fault.BatchNotDone, "Batch %d has not ended yet.", id).
			Advise("“endeixis batch follow %d” tells when it has.", id)
	}
	signers, err := s.store.SignersOf(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, k := range signers {
		into.Keys = append(into.Keys, openpgp.Fingerprint(k))
	}
	rows, err := s.store.ComparedItems(ctx, id)
	out := make([]compare.File, len(rows))
	for i, r := range rows {
		out[i] = compare.File{N: r.N, Path: r.Path, Size: r.Size, SHA256: r.SHA256}
		if r.Verdict != nil {
			out[i].Verdict = judge.Verdict(*r.Verdict)
		}
	}
	return out, err
}

// comparePackages compares what two lists name; trouble says why that cannot be.
func (s *Service) comparePackages(
	ctx context.Context, before, after int64, c compare.Change,
) (changes []compare.PackageChange, trouble string, err error) {
	was, trouble, err := s.packages(ctx, before, c.Before)
	if err != nil || trouble != "" {
		return nil, trouble, err
	}
	now, trouble, err := s.packages(ctx, after, c.After)
	if err != nil || trouble != "" {
		return nil, trouble, err
	}
	return was.Changes(now), "", nil
}

func (s *Service) packages(ctx context.Context, batch int64, f *compare.File) (compare.Packages, string, error) {
	name := fmt.Sprintf("%s of batch %d", plain.Text(f.Path), batch)
	if f.Size > compare.MaxPackageList {
		return nil, name + " is too large to be read as a list of packages.", nil
	}
	content, err := s.Content(ctx, batch, f.N)
	var told *fault.Fault
	if errors.As(err, &told) {
		return nil, told.Sentence + " Its packages are not compared.", nil
	}
	if err != nil {
		return nil, "", err
	}
	defer content.Close()
	text, err := io.ReadAll(io.LimitReader(content, compare.MaxPackageList+1))
	if sum := sha256.Sum256(text); err != nil || !bytes.Equal(sum[:], f.SHA256) {
		return nil, name + " is not any more what was verified, and is not compared.", nil //nolint:nilerr // told
	}
	out, err := compare.ReadPackages(text)
	if err != nil {
		return nil, fmt.Sprintf("%s is not understood as a list of packages: %s.", name, err), nil
	}
	return out, "", nil
}
