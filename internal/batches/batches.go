// Package batches takes folders through the four stages: survey, measure,
// judge, record. Its steps are driven by the job queue, may be repeated at any
// point, and end with exactly one outcome and one record for each item.
package batches

import (
	"context"
	"errors"
	"os"
	"time"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/version"
)

// Limits size the slices of a batch.
type Limits struct {
	SliceBytes int64
	SliceItems int
}

// Service runs batches.
type Service struct {
	store      *store.Store
	records    *records.Service
	keys       *keys.Service
	publishers *publishers.Service
	policy     *policy.Service
	sources    *sources.Sources
	origins    Origins
	devices    Devices
	ours       ours
	jobs       Jobs
	orders     Orders
	limits     Limits
	gain       digest.Gain
	now        func() time.Time
	where      string
	sessions   sessions
}

// Jobs asks for work in the transaction that makes it necessary.
type Jobs interface {
	Survey(ctx context.Context, tx *store.Tx, batch int64, queue string) error
	Slices(ctx context.Context, tx *store.Tx, batch int64, queue string, slices []store.DueSlice) error
	Close(ctx context.Context, tx *store.Tx, batch int64, queue string) error
	End(ctx context.Context, tx *store.Tx, batch int64) error
}

// Orders has a batch judged again, in the transaction that makes it necessary: at
// once, or by a job.
type Orders interface {
	Begin(
		ctx context.Context, tx *store.Tx, by string, at time.Time, policy int64, sel reassess.Selection, reason string,
	) (*reassess.Run, error)
	Place(
		ctx context.Context, tx *store.Tx, by string, at time.Time, sel reassess.Selection, reason string,
	) (store.Reassessment, error)
}

// New returns a Service. Measurements will say that they were made by the
// service on this host.
func New(
	s *store.Store, r *records.Service, k *keys.Service, pub *publishers.Service, pol *policy.Service,
	d *sources.Sources, o Origins, dev Devices, jobs Jobs, orders Orders, limits Limits, gain digest.Gain,
	now func() time.Time,
) *Service {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown host"
	}
	return &Service{
		store: s, records: r, keys: k, publishers: pub, policy: pol, sources: d, origins: o, devices: dev, jobs: jobs,
		orders: orders, limits: limits, gain: gain, now: now, where: "service on " + host,
	}
}

// Get returns a batch.
func (s *Service) Get(ctx context.Context, id int64) (query.Batch, error) {
	b, err := s.batch(ctx, id)
	return query.BatchOf(b), err
}

// batch returns a batch as it is stored.
func (s *Service) batch(ctx context.Context, id int64) (store.Batch, error) {
	b, err := s.store.Batch(ctx, id)
	return b, unknown(id, err)
}

// unknown says that there is no batch of a number, if that is what err says.
func unknown(id int64, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return fault.New(fault.NotFound, fault.BatchUnknown, "There is no batch %d.", id).
			Advise("“endeixis batch list” shows which there are.")
	}
	return err
}

func (s *Service) witness(by string) measure.Attribution {
	return measure.Attribution{Where: s.where, By: by, At: s.now(), Software: version.Full()}
}

// sourceOf returns where a stored batch's bytes are.
func sourceOf(b store.Batch) sources.Source {
	return sources.Source{Kind: sources.Kind(b.SourceKind), Reference: b.Source}
}
