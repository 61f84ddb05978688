package batches

import (
	"context"
	"encoding/json"
	"errors"

	"endeixis/core/container"
	"endeixis/core/measure"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// Visit makes a batch of what was verified on site, to be judged again: what manifests,
// signatures and keys say is read again here, and of the other files there is what was
// measured there. keep stores what belongs to it in the same transaction.
func (s *Service) Visit(
	ctx context.Context, by string, e *satchel.Entry, against *survey.Against,
	keep func(ctx context.Context, tx *store.Tx, batch int64) error,
) (query.Batch, error) {
	source, err := sources.OfMeasurer(sources.Client, e.Host, e.Path)
	if err != nil {
		return query.Batch{}, err
	}
	if err := checkPage(e.Findings); err != nil {
		return query.Batch{}, err
	}
	page, err := json.Marshal(e.Findings)
	if err != nil {
		return query.Batch{}, err
	}
	var held []byte
	if against != nil {
		if held, err = json.Marshal(against); err != nil {
			return query.Batch{}, err
		}
	}
	r := Request{
		Source: source, Label: e.Label, Publisher: e.Publisher, RequireAll: e.RequireAll, Corrections: e.Corrections,
		Companions: e.Companions, ComesFrom: map[string]survey.Provenance{},
	}
	if r.Corrections == nil {
		r.Corrections = []survey.Correction{}
	}
	if len(e.Software) > 200 {
		return query.Batch{}, fault.New(fault.Invalid, fault.BadMeasurer, "The name of the measuring program is too long.")
	}
	return s.create(ctx, by, r, nil, func(ctx context.Context, tx *store.Tx, id int64) error {
		if err := tx.AddMeasurer(
			ctx, store.Measurer{Batch: id, Software: e.Software, HeardAt: s.now(), Against: held},
		); err != nil {
			return err
		}
		if _, err := tx.AddListingPage(ctx, id, 1, page); err != nil {
			return err
		}
		if _, err := tx.CloseListing(ctx, id, 1); err != nil {
			return err
		}
		return errors.Join(s.jobs.Survey(ctx, tx, id, sources.Queue(source)), keep(ctx, tx, id))
	})
}

// AgainstAs returns what a medium is read back against, by a record or a digest, or as an
// item of a batch.
func (s *Service) AgainstAs(ctx context.Context, given GivenAgainst) (*survey.Against, error) {
	out, err := s.against(ctx, given)
	if err != nil {
		return nil, err
	}
	return out, s.form(ctx, out, given.Forms)
}

// AgainstItem returns an item of a batch as what a medium is read back against; forms are
// what is in it, as its measurer says.
func (s *Service) AgainstItem(
	ctx context.Context, batch int64, path string, forms []survey.Form,
) (*survey.Against, error) {
	at, err := s.store.ItemNumbers(ctx, batch, []string{path})
	if err != nil {
		return nil, err
	}
	n, ok := at[path]
	if !ok {
		return nil, fault.New(fault.Conflict, fault.NotJudgedYet, "The image is not judged again yet.").
			Advise("Return the outcomes once more in a moment; what is here already is not taken twice.")
	}
	out, err := s.verified(ctx, store.Verified{Batch: batch, N: n}, nil)
	if err != nil {
		return nil, err
	}
	return out, s.form(ctx, out, forms)
}

// visitOf returns what was read on site of a batch, or nil.
func (s *Service) visitOf(ctx context.Context, batch int64) (*satchel.Entry, error) {
	v, err := s.store.Visit(ctx, batch)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var e satchel.Entry
	return &e, json.Unmarshal(v.Content, &e)
}

// visited adds what was read on site to what the survey has read. What was not read there,
// or not as it is asked for, is not measured: nobody can be asked for it any more.
func visited(plan *survey.Survey, e *satchel.Entry, measured map[string]measure.Measurement, w measure.Attribution) {
	whole := map[string]bool{}
	for i := range plan.Items {
		item := &plan.Items[i]
		if _, read := measured[item.Path]; read {
			continue
		}
		outer := container.Outermost(item.Path)
		if _, seen := whole[outer]; !seen {
			whole[outer] = true
		}
		m, ok := e.Measured[item.Path]
		target, _ := item.Target()
		if !ok || fits(target, &m.Reading) != "" {
			// What lies inside a file is measured with it, or not at all.
			whole[outer] = false
		}
	}
	for i := range plan.Items {
		item := &plan.Items[i]
		if _, read := measured[item.Path]; read {
			continue
		}
		if !whole[container.Outermost(item.Path)] {
			m := measure.Measurement{
				Problem: &measure.Problem{
					Code: measure.NotMeasured, Message: "what was read of it on site is not what is asked for",
				},
			}
			m.Sign(w)
			measured[item.Path] = m
			continue
		}
		done := e.Measured[item.Path]
		target, _ := item.Target()
		fits(target, &done.Reading) // makes what is said in it harmless
		m := verify.FromMeasurer(item, done.Reading, w)
		m.Diagnoses = believed(item, done.Diagnoses)
		measured[item.Path] = m
	}
}
