package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"unicode/utf8"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A measurer sends a list of the files first: names, sizes, the
// content of those that can be manifests, signatures or keys, and what containers hold.
// It comes in pages, which may be sent again; when it is whole, the batch is surveyed.

// A ListingPage is a part of what there is in a folder. A file or container that has
// been there before is continued: its content, or what it holds, goes on.
type ListingPage = survey.Findings

const (
	// maxListing bounds all pages of a list, in bytes as they are stored.
	maxListing = 256 << 20
	// maxListings bounds how many lists one person is sending at a time.
	maxListings = 20
)

// SendListing stores a page of the list of files of a batch.
func (s *Service) SendListing(ctx context.Context, by string, id int64, n int, page ListingPage) error {
	if err := checkPage(&page); err != nil {
		return err
	}
	body, err := json.Marshal(page)
	if err != nil {
		return err
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if _, err := s.listing(ctx, tx, by, id); err != nil {
			return err
		}
		total, err := tx.AddListingPage(ctx, id, n, body)
		if err != nil {
			return err
		}
		if total > maxListing {
			return fault.New(
				fault.Invalid, fault.ListingTooLarge,
				"The list of files with the content of manifests and signatures is longer than %d MiB.", maxListing>>20,
			).
				Advise("Choose a folder further down.").
				At("files")
		}
		return tx.Heard(ctx, id, s.now())
	})
}

// listing returns a batch whose list of files is being sent by this person.
func (s *Service) listing(ctx context.Context, tx *store.Tx, by string, id int64) (store.Batch, error) {
	now, err := tx.LockBatch(ctx, id)
	if err != nil {
		return store.Batch{}, unknown(id, err)
	}
	b, err := tx.Tally(ctx, id)
	if err != nil {
		return b, err
	}
	if err := mine(b, by); err != nil {
		return b, err
	}
	m, err := tx.LockMeasurer(ctx, id)
	if err == nil && (now != state.BatchWaiting || m.Pages != nil) {
		err = fault.New(fault.Conflict, fault.ListingClosed, "The list of files of batch %d is whole already.", id).
			Advise("Ask what is left to measure.")
	}
	return b, err
}

// mine says that a batch has no measurer, or another person than this.
func mine(b store.Batch, by string) error {
	switch {
	case !sourceOf(b).HasMeasurer():
		return fault.New(fault.Conflict, fault.MeasuredHere, "The files of batch %d are read by the service.", b.ID).
			Advise("There is nothing to send for it.")
	case b.AskedBy != by:
		return fault.New(fault.Denied, fault.NotYours, "Batch %d was asked for by %s, who measures it.", b.ID, b.AskedBy)
	}
	return nil
}

// CloseListing says how many pages the list of files has, and asks for the survey. Said
// again, it does nothing more.
func (s *Service) CloseListing(ctx context.Context, by string, id int64, pages int) (query.Batch, error) {
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if m, err := tx.Measurer(ctx, id); err == nil && m.Pages != nil && *m.Pages == pages {
			b, err := tx.Tally(ctx, id)
			return errors.Join(err, mine(b, by))
		}
		b, err := s.listing(ctx, tx, by, id)
		if err != nil {
			return err
		}
		there, err := tx.CloseListing(ctx, id, pages)
		if err != nil {
			return err
		}
		if there < pages {
			return fault.New(
				fault.Conflict, fault.ListingIncomplete, "Of the %d pages of the list of files, %d are here.", pages,
				there,
			).
				Advise("Send those that are missing, then say again that it is whole.").
				At("pages")
		}
		if err := tx.Heard(ctx, id, s.now()); err != nil {
			return err
		}
		return s.jobs.Survey(ctx, tx, id, sources.Queue(sourceOf(b)))
	})
	if err != nil {
		return query.Batch{}, err
	}
	return s.Get(ctx, id)
}

// checkPage refuses a page that no folder can have.
func checkPage(page *ListingPage) error {
	for i := range page.Files {
		f := &page.Files[i]
		field := fmt.Sprintf("files[%d]", i)
		if err := checkPath(f.Path, field); err != nil {
			return err
		}
		if strings.Contains(f.Path, container.Separator) {
			return badListing(field, "%s has two slashes together", plain.Quoted(f.Path))
		}
		if f.Size > survey.MaxFile {
			return badListing(
				field, "%s is said to be %d bytes long, and no file is longer than %d", plain.Quoted(f.Path), f.Size,
				int64(survey.MaxFile),
			)
		}
		if f.Size < 0 || int64(len(f.Content)) > f.Size {
			return badListing(
				field, "%s is said to be %d bytes long, and more of it was sent", plain.Quoted(f.Path), f.Size,
			)
		}
		if err := checkProblem(f.Problem, field); err != nil {
			return err
		}
		if err := checkGiven(f, field); err != nil {
			return err
		}
	}
	for i := range page.Containers {
		c := &page.Containers[i]
		field := fmt.Sprintf("containers[%d]", i)
		if err := checkPath(strings.ReplaceAll(c.Path, container.Separator, "/"), field); err != nil {
			return err
		}
		c.Trouble = plain.Text(c.Trouble)
		if c.Layout == nil {
			c.Layout = &container.Layout{}
		}
		for k := range c.Layout.Members {
			m := &c.Layout.Members[k]
			if !fs.ValidPath(m.Name) || !utf8.ValidString(m.Name) || m.Size < -1 || m.Size > survey.MaxFile {
				return badListing(field, "%s is no name of a file inside a container", plain.Quoted(m.Name))
			}
		}
		for k := range c.Layout.Problems {
			p := &c.Layout.Problems[k]
			p.Name, p.Message = plain.Text(p.Name), plain.Text(p.Message)
		}
	}
	return nil
}

// checkGiven refuses a text that was handed over and is not there, or values that no
// algorithm has.
func checkGiven(f *survey.Found, field string) error {
	if f.Given == nil {
		return nil
	}
	if f.Content == nil {
		return badListing(field, "%s was handed over, and nothing of it was sent", plain.Quoted(f.Path))
	}
	for _, v := range f.Given.Values {
		of := digest.OfSize(len(v.Digest))
		if of == nil || v.Algorithm != digest.Unknown && v.Algorithm.Size() != len(v.Digest) {
			return badListing(field, "a value of %d bytes is no digest of that kind", len(v.Digest))
		}
	}
	return nil
}

func checkPath(p, field string) error {
	if !fs.ValidPath(p) || p == "." || !utf8.ValidString(p) || strings.ContainsRune(p, 0) {
		return badListing(field, "%s is no path below a folder", plain.Quoted(p))
	}
	return nil
}

func badListing(field, format string, args ...any) error {
	return fault.New(
		fault.Invalid, fault.BadListing, "The list of files cannot be used: %s.", fmt.Sprintf(format, args...),
	).
		At(field)
}

// maxMessage bounds what a measurer says about a file, in bytes.
const maxMessage = 2000

// checkProblem makes what a measurer says about a file safe to show.
func checkProblem(p *measure.Problem, field string) error {
	if p == nil {
		return nil
	}
	switch p.Code {
	case measure.Unreadable,
		measure.LeavesDepot,
		measure.NotAFile,
		measure.TooLarge,
		measure.ChangedWhileReading,
		measure.NotMeasured:
	default:
		return badListing(field, "%s is no problem that a measurer can have", plain.Quoted(string(p.Code)))
	}
	p.Message = plain.Text(clipped(p.Message))
	return nil
}

// clipped shortens what a measurer says, at the end of a character.
func clipped(text string) string {
	most := maxMessage
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most] + "…"
}

// findings puts the pages of a list together.
func (s *Service) findings(ctx context.Context, id int64, pages int) (*survey.Findings, error) {
	out := &survey.Findings{Files: []survey.Found{}, Containers: []survey.Looked{}}
	files, containers := map[string]int{}, map[string]int{}
	for n := 1; n <= pages; n++ {
		body, err := s.store.ListingPage(ctx, id, n)
		if err != nil {
			return nil, err
		}
		var page ListingPage
		if err := json.Unmarshal(body, &page); err != nil {
			return nil, err
		}
		for _, f := range page.Files {
			at, again := files[f.Path]
			if !again {
				files[f.Path] = len(out.Files)
				out.Files = append(out.Files, f)
				continue
			}
			before := &out.Files[at]
			if before.Content == nil || f.Content == nil || f.Size != before.Size ||
				int64(len(before.Content)+len(f.Content)) > before.Size {
				return nil, badListing("files", "%s is in it twice", plain.Quoted(f.Path))
			}
			before.Content = append(before.Content, f.Content...)
		}
		for _, c := range page.Containers {
			at, again := containers[c.Path]
			if !again {
				containers[c.Path] = len(out.Containers)
				out.Containers = append(out.Containers, c)
				continue
			}
			before := &out.Containers[at]
			before.Layout.Members = append(before.Layout.Members, c.Layout.Members...)
			for name, content := range c.Contents {
				if before.Contents == nil {
					before.Contents = map[string][]byte{}
				}
				before.Contents[name] = append(before.Contents[name], content...)
			}
		}
	}
	for i := range out.Files {
		f := &out.Files[i]
		if f.Content != nil && int64(len(f.Content)) != f.Size {
			return nil, badListing(
				"files", "of %s, %d of %d bytes were sent", plain.Quoted(f.Path), len(f.Content), f.Size,
			)
		}
	}
	for i := range out.Containers {
		outer := container.Outermost(out.Containers[i].Path)
		if _, ok := files[outer]; !ok {
			return nil, badListing("containers", "%s is not among the files", plain.Quoted(outer))
		}
	}
	return out, nil
}
