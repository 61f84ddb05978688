package batches

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/origins"
	"endeixis/internal/store"
)

// Origins are the places from which copies of manifests can be fetched.
type Origins interface {
	// Where returns channel and address of a file, or a fault.
	Where(origin, path string) (survey.Provenance, error)
	// Fetch gets it. Trouble with the place is an [*origins.FetchError].
	Fetch(ctx context.Context, origin, path string) ([]byte, error)
}

// A GivenCopy is a copy of a manifest that a batch is to be held against: either
// fetched from a configured origin, or given as text with where it is from.
type GivenCopy struct {
	Of string
	// Origin and Path say where to fetch it.
	Origin, Path string
	// From and Text are a copy that is given.
	From survey.Provenance
	Text string
}

const (
	// maxCopies and maxCopyText bound what comes with one request.
	maxCopies   = 16
	maxCopyText = 4 << 20
)

// copiesOf checks the copies of a request. given are those whose content is
// known; for the others it says where they are to come from.
func (s *Service) copiesOf(copies []GivenCopy) (rows []store.Copy, given []survey.Copy, err error) {
	if len(copies) > maxCopies {
		return nil, nil, fault.New(
			fault.Invalid, fault.TooManyCopies, "A batch can be held against at most %d copies of manifests.", maxCopies,
		).
			At("copies")
	}
	for n, c := range copies {
		from := c.From
		row := store.Copy{N: n, Of: c.Of}
		switch {
		case (c.Origin == "") == (c.Text == ""):
			return nil, nil, fault.New(
				fault.Invalid, fault.BadCopy,
				"A copy is either fetched from an origin or given as text; this one is neither or both.",
			).
				At("copies")
		case c.Origin != "":
			if from, err = s.origins.Where(c.Origin, c.Path); err != nil {
				return nil, nil, err
			}
			row.Origin, row.Path = c.Origin, c.Path
		case len(c.Text) > maxCopyText:
			return nil, nil, fault.New(
				fault.Invalid, fault.CopyTooLarge, "A copy that is given can have at most %d bytes.", maxCopyText,
			).
				At("copies")
		default:
			row.Content = []byte(c.Text)
		}
		if err := checkOrigins(map[string]survey.Provenance{c.Of: from}); err != nil {
			return nil, nil, err
		}
		row.Channel, row.Place = string(from.Channel), from.Place
		rows = append(rows, row)
		given = append(given, survey.Copy{Of: c.Of, Provenance: from, Content: row.Content})
	}
	return rows, given, nil
}

// checkOrigins returns a fault for a channel that does not exist or a place
// that cannot be kept.
func checkOrigins(from map[string]survey.Provenance) error {
	for of, o := range from {
		if !slices.Contains(survey.Channels(), o.Channel) {
			return fault.New(fault.Invalid, fault.ChannelUnknown, "%s is not a channel.", plain.Quoted(string(o.Channel))).
				Advise("Channels: %s.", origins.ChannelNames()).
				At("origins")
		}
		if len(o.Place) > 500 || strings.ContainsRune(o.Place, 0) || len(of) > 4096 {
			return fault.New(
				fault.Invalid, fault.BadPlace, "The place where a manifest comes from can have at most 500 characters.",
			).
				At("origins")
		}
	}
	return nil
}

// fetchCopies gets the copies of a batch. One that cannot be had keeps the
// reason; the batch goes on without it.
func (s *Service) fetchCopies(ctx context.Context, batch int64) ([]survey.Copy, error) {
	rows, err := s.store.Copies(ctx, batch)
	if err != nil {
		return nil, err
	}
	out := make([]survey.Copy, len(rows))
	var g errgroup.Group
	for i, row := range rows {
		out[i] = survey.Copy{
			Of: row.Of, Provenance: survey.Provenance{Channel: survey.Channel(row.Channel), Place: row.Place},
			Content: row.Content,
		}
		if row.Content != nil {
			continue
		}
		g.Go(func() error {
			var err error
			out[i].Content, err = s.origins.Fetch(ctx, row.Origin, row.Path)
			var trouble *origins.FetchError
			var gone *fault.Fault
			switch {
			case errors.As(err, &trouble):
				out[i].Trouble = trouble.Reason
			case errors.As(err, &gone): // it was configured when the batch was asked for
				out[i].Trouble = gone.Sentence
			case err != nil:
				return err
			}
			return nil
		})
	}
	return out, g.Wait()
}

// keepCopies stores what was had of the copies and how each compares.
func keepCopies(ctx context.Context, tx *store.Tx, batch int64, copies []survey.Copy, read []survey.CopyRead) error {
	for n := range read {
		summary, err := json.Marshal(read[n])
		if err != nil {
			return err
		}
		if err := tx.CopyRead(ctx, batch, n, copies[n].Content, summary); err != nil {
			return err
		}
	}
	return nil
}

// sameCopies refuses a repeated request that gives other copies than the batch
// was asked for with. What was fetched since is no part of the request.
func sameCopies(ctx context.Context, tx *store.Tx, batch int64, given []store.Copy) error {
	earlier, err := tx.Copies(ctx, batch)
	if err != nil {
		return err
	}
	if !slices.EqualFunc(earlier, given, func(a, b store.Copy) bool {
		return a.Of == b.Of && a.Channel == b.Channel && a.Place == b.Place && a.Origin == b.Origin &&
			a.Path == b.Path &&
			(a.Origin != "" || bytes.Equal(a.Content, b.Content))
	}) {
		return store.KeyReused(batch)
	}
	return nil
}
