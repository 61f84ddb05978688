package batches

import (
	"context"
	"errors"
	"io"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// A Content is a file that the service hands out, opened. Close it after use.
type Content struct {
	io.ReadSeekCloser
	// Depot is the depot that it lies in.
	Depot string
	// SHA256 is what was measured of it when it was verified. The receiver of the bytes holds
	// them against that: between the check and now they may have changed.
	SHA256 digest.Value
}

// Content opens a file of a batch that lies in a depot: one that is cleared by now, one that
// comes along as a companion, or a list, signature or key, which the user of the file may need.
func (s *Service) Content(ctx context.Context, id int64, n int) (*Content, error) {
	b, found, err := s.measuredItem(ctx, id, n)
	if err != nil {
		return nil, err
	}
	item := found.Planned
	name := plain.Text(item.Path)
	if item.Role == survey.Artifact {
		now, err := s.store.PresentVerdict(ctx, id, n)
		if err != nil {
			return nil, err
		}
		if judge.Verdict(now) != judge.Cleared && judge.Verdict(now) != judge.Companion {
			return nil, fault.New(
				fault.Denied, fault.NotCleared, "%s of batch %d is %s, and only what is cleared is handed out.", name, id,
				now,
			).
				Advise("Its page says what is missing.")
		}
	}
	if sourceOf(b).Kind != sources.Depot || item.Inside != nil {
		return nil, fault.New(
			fault.Conflict, fault.SourceUnreadable,
			"%s of batch %d does not lie in a depot, so that the service cannot hand it out.", name, id,
		)
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), id, item)
	if err != nil {
		return nil, fault.New(fault.Conflict, fault.NoLongerThere, "%s of batch %d cannot be read any more.", name, id).
			Advise("Verify its folder again.")
	}
	file, ok := content.(io.ReadSeekCloser)
	if !ok {
		content.Close()
		return nil, fault.New(fault.Conflict, fault.NoLongerThere, "%s of batch %d is no usual file any more.", name, id).
			Advise("Verify its folder again.")
	}
	depot, _ := sourceOf(b).Folder()
	return &Content{file, depot, found.Measurement.Digests[digest.SHA256]}, nil
}

// measuredItem returns a batch, and an item of it that was measured.
func (s *Service) measuredItem(ctx context.Context, id int64, n int) (b store.Batch, found verify.Item, err error) {
	if b, err = s.batch(ctx, id); err != nil {
		return b, found, err
	}
	found, err = s.stored(ctx, id, n)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.ItemUnknown, "Batch %d has no item %d that was measured.", id, n)
	}
	return b, found, err
}
