// Package batches takes folders through the four stages: survey, measure,
// judge, record. Its steps are driven by the job queue, may be repeated at any
// point, and end with exactly one outcome and one record for each item.
package batches

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Limits size the slices of a batch.
type Limits struct {
	SliceBytes int64
	SliceItems int
}

// Service runs batches.
type Service struct {
	store   *store.Store
	records *records.Service
	keys    *keys.Service
	depots  *depots.Depots
	origins Origins
	jobs    Jobs
	orders  *reassess.Orders
	limits  Limits
	now     func() time.Time
	where   string
}

// Jobs asks for work in the transaction that makes it necessary.
type Jobs interface {
	Survey(ctx context.Context, tx *store.Tx, batch int64, depot string) error
	Slices(ctx context.Context, tx *store.Tx, batch int64, depot string, slices []int) error
	reassess.Jobs
}

// New returns a Service. Measurements will say that they were made by the
// service on this host.
func New(s *store.Store, r *records.Service, k *keys.Service, d *depots.Depots, o Origins, jobs Jobs, limits Limits, now func() time.Time) *Service {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown host"
	}
	return &Service{store: s, records: r, keys: k, depots: d, origins: o, jobs: jobs, orders: reassess.NewOrders(jobs), limits: limits, now: now, where: "service on " + host}
}

// A Request asks for a batch.
type Request struct {
	Depot          string
	Path           string
	Label          string
	Publisher      string
	RequireAll     bool
	IdempotencyKey string
	// Corrections pair signatures and files by hand.
	Corrections []survey.Correction
	// ComesFrom says where manifests of the folder come from, by path, and
	// Copies are others of them.
	ComesFrom map[string]survey.Origin
	Copies    []Copy
}

// Create checks and stores a new batch, or returns the earlier one that was
// made with the same idempotency key.
func (s *Service) Create(ctx context.Context, by string, r Request) (store.Batch, error) {
	clean, err := depots.Clean(r.Path)
	if err != nil {
		return store.Batch{}, err
	}
	folder, err := s.depots.Open(r.Depot, clean)
	if err != nil {
		return store.Batch{}, err
	}
	defer folder.Close()
	if r.Corrections == nil {
		r.Corrections = []survey.Correction{}
	}
	if r.ComesFrom == nil {
		r.ComesFrom = map[string]survey.Origin{}
	}
	copies, given, err := s.copiesOf(r.Copies)
	if err == nil {
		err = checkOrigins(r.ComesFrom)
	}
	if err != nil {
		return store.Batch{}, err
	}
	if len(r.Corrections)+len(r.ComesFrom)+len(copies) > 0 {
		// Found out here, a mistake costs nothing but another try.
		if _, err := s.plan(ctx, r.Depot, clean, survey.Options{Corrections: r.Corrections, Origins: r.ComesFrom, Copies: given}); err != nil {
			return store.Batch{}, err
		}
	}
	corrections, err1 := json.Marshal(r.Corrections)
	comesFrom, err2 := json.Marshal(r.ComesFrom)
	if err := errors.Join(err1, err2); err != nil {
		return store.Batch{}, err
	}
	entries, err := folder.List()
	if err != nil {
		return store.Batch{}, fault.New(fault.Invalid, "folder-unreadable", "The service may not list the folder %s.", plain.Quoted(r.Path)).At("path")
	}
	if len(entries) == 0 {
		return store.Batch{}, fault.New(fault.Invalid, "folder-empty", "The folder %s is empty: there is nothing to verify.", plain.Quoted(r.Path)).
			Advise("Put the artifacts with their manifests and signatures there, under the names they were published with.").At("path")
	}
	if len(r.Label) > 200 || strings.ContainsRune(r.Label, 0) || len(r.IdempotencyKey) > 200 {
		return store.Batch{}, fault.New(fault.Invalid, "long-label", "A label can have at most 200 characters.").At("label")
	}
	if r.Publisher != "" {
		if _, err := s.keys.Publisher(ctx, r.Publisher); err != nil {
			return store.Batch{}, err
		}
	}
	policies, err := s.keys.Policies(ctx, 0)
	if err != nil {
		return store.Batch{}, err
	}
	var id int64
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var added bool
		id, added, err = tx.AddBatch(ctx, store.Batch{
			Label: r.Label, Depot: r.Depot, Path: clean, Publisher: r.Publisher, RequireAll: r.RequireAll,
			PolicyVersion: policies.Version, AskedBy: by, IdempotencyKey: r.IdempotencyKey, CreatedAt: s.now(), Corrections: corrections, Origins: comesFrom,
		})
		if err != nil || !added {
			return err
		}
		if err := tx.AddCopies(ctx, id, copies); err != nil {
			return err
		}
		return s.jobs.Survey(ctx, tx, id, r.Depot)
	})
	if err != nil {
		return store.Batch{}, err
	}
	return s.store.Batch(ctx, id)
}

// Plan surveys a folder without verifying anything.
func (s *Service) Plan(ctx context.Context, depot, path string, corrections []survey.Correction) (*survey.Survey, error) {
	return s.plan(ctx, depot, path, survey.Options{Corrections: corrections})
}

func (s *Service) plan(ctx context.Context, depot, path string, opts survey.Options) (*survey.Survey, error) {
	folder, err := s.depots.Open(depot, path)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	opts.Limits.Bound = lookFor
	plan, err := survey.Run(ctx, folder.FS(), opts)
	var wrong *survey.CorrectionError
	var many *survey.TooManyFilesError
	var origin *survey.OriginError
	switch {
	case errors.As(err, &origin):
		return nil, fault.New(fault.Invalid, "bad-origin", "%s.", origin).Advise("“endeixis batch survey” names the manifests that are there.").At("copies")
	case errors.As(err, &wrong):
		return nil, fault.New(fault.Invalid, "bad-correction", "%s.", wrong).Advise("Give a signature and the file it is over, both as the survey names them.").At("corrections")
	case errors.As(err, &many):
		return nil, fault.New(fault.Invalid, "folder-too-large", "%s.", many).At("path")
	}
	return plan, err
}

// looking is how long one container is looked into.
const looking = 5 * time.Minute

// lookFor bounds the look into one container.
func lookFor(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, looking, &container.LimitError{What: looking.String() + " of reading"})
}

// Get returns a batch.
func (s *Service) Get(ctx context.Context, id int64) (store.Batch, error) {
	b, err := s.store.Batch(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return b, fault.New(fault.NotFound, "batch-unknown", "There is no batch %d.", id).Advise("“endeixis batch list” shows which there are.")
	}
	return b, err
}

// Survey makes the plan of a waiting batch and stores it, together with the
// outcomes of the files that the survey has read in full and the jobs for the
// slices that are left to measure, which it returns. Called again, it does nothing more.
func (s *Service) Survey(ctx context.Context, id int64) ([]int, error) {
	b, err := s.Get(ctx, id)
	if err != nil || b.State != "waiting" {
		return nil, err
	}
	folder, err := s.depots.Open(b.Depot, b.Path)
	if err != nil {
		return nil, s.fail(ctx, b, err)
	}
	defer folder.Close()
	var opts survey.Options
	if err := errors.Join(json.Unmarshal(b.Corrections, &opts.Corrections), json.Unmarshal(b.Origins, &opts.Origins)); err != nil {
		return nil, err
	}
	if opts.Copies, err = s.fetchCopies(ctx, id); err != nil {
		return nil, err
	}
	opts.Limits.Bound = lookFor
	plan, err := survey.Run(ctx, folder.FS(), opts)
	if err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		return nil, s.fail(ctx, b, err)
	}
	measured, err := verify.Read(ctx, plan, s.witness(b.AskedBy))
	if err != nil {
		return nil, err
	}
	ring, err := s.keys.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	basis, err := s.basis(ctx, b, ring)
	if err != nil {
		return nil, err
	}
	basis.Expected = judge.Expect(b.Publisher, ring, plan.Items)
	expected, err := json.Marshal(basis.Expected)
	if err != nil {
		return nil, err
	}
	session := verify.New(basis)
	for i := range plan.Items {
		if item := &plan.Items[i]; item.Role == survey.Manifest {
			if m, ok := measured[item.Path]; ok {
				session.Manifest(item, &m)
			}
		}
	}

	slices, rows, err := s.cut(plan, measured)
	if err != nil {
		return nil, err
	}
	var open []int
	for _, slice := range slices {
		if slice.N > 0 {
			open = append(open, slice.N)
		}
	}
	var absents []store.Absent
	for i, a := range plan.Absent {
		absents = append(absents, store.Absent{N: i, Name: strings.ToValidUTF8(a.Name, "\ufffd"), Manifest: a.Manifest, Line: a.Line, Digest: a.Digest.String()})
	}
	var done []verify.Settled
	for i := range plan.Items {
		item := &plan.Items[i]
		if m, ok := measured[item.Path]; ok {
			done = append(done, verify.Settled{N: rows[i].N, Item: item, Measurement: m})
		}
	}
	known := memory{s.store, id, func() (map[string]diagnose.Elsewhere, error) { return verify.Stated(plan), nil }}
	if err := session.Settle(ctx, done, verify.Bytes{Folder: folder.FS(), Again: func(d *verify.Settled) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(plan.Contents[d.Item.Path])), nil
	}}, known); err != nil {
		return nil, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		state, err := tx.LockBatch(ctx, id)
		if err != nil || state != "waiting" {
			return err
		}
		if err := tx.Surveyed(ctx, id, expected, slices, rows, absents); err != nil {
			return err
		}
		if err := keepCopies(ctx, tx, id, opts.Copies, plan.Copies); err != nil {
			return err
		}
		if len(measured) > 0 {
			// What the survey has read is the slice with number 0.
			if err := tx.SliceDone(ctx, id, 0); err != nil {
				return err
			}
		}
		if err := s.jobs.Slices(ctx, tx, id, b.Depot, open); err != nil {
			return err
		}
		if err := tx.Announce(ctx, id); err != nil {
			return err
		}
		return s.settle(ctx, tx, b, basis.Expected, done)
	})
	if err != nil {
		return nil, err
	}
	return open, nil
}

func (s *Service) witness(by string) measure.Witness {
	return measure.Witness{Where: s.where, By: by, At: s.now()}
}

// cut divides the items into slices bounded by bytes and count. Slice 0 holds
// what is measured already.
func (s *Service) cut(plan *survey.Survey, measured map[string]measure.Measurement) ([]store.Slice, []store.Item, error) {
	rows := make([]store.Item, len(plan.Items))
	read := store.Slice{N: 0}
	var rest []store.Slice
	// What lies inside a file is measured with it, in the same read.
	sliceOf := map[string]int{}
	for i := range plan.Items {
		item := &plan.Items[i]
		text, err := json.Marshal(item)
		if err != nil {
			return nil, nil, err
		}
		rows[i] = store.Item{N: i, Path: item.Path, Role: string(item.Role), Size: item.Size, Survey: text}
		slice := &read
		bytes := item.Size
		if _, ok := measured[item.Path]; ok {
		} else if item.Inside != nil {
			slice = &rest[sliceOf[survey.Outermost(item.Path)]]
			bytes = 0
		} else {
			last := len(rest) - 1
			if last < 0 || rest[last].Items >= s.limits.SliceItems || rest[last].Bytes > 0 && rest[last].Bytes+item.Size > s.limits.SliceBytes {
				rest = append(rest, store.Slice{N: len(rest) + 1})
				last++
			}
			slice = &rest[last]
			sliceOf[item.Path] = last
		}
		slice.Items++
		slice.Bytes += bytes
		rows[i].Slice = slice.N
	}
	if read.Items > 0 {
		rest = append([]store.Slice{read}, rest...)
	}
	return rest, rows, nil
}

// basis returns what the items of a batch are judged by.
func (s *Service) basis(ctx context.Context, b store.Batch, ring *keyring.Keyring) (judge.Basis, error) {
	policies, err := s.keys.Policies(ctx, b.PolicyVersion)
	if err != nil {
		return judge.Basis{}, err
	}
	waivers, err := s.keys.WaiversAsOf(ctx, b.JudgedAsOf)
	if err != nil {
		return judge.Basis{}, err
	}
	return judge.Basis{Waivers: waivers, Keyring: ring, Policy: policies.Policy, Own: policies.Own, Now: b.JudgedAsOf}, nil
}

// resume returns a session for a batch that is surveyed, with its manifests
// judged again from what is stored, so that its artifacts can rest on them.
func (s *Service) resume(ctx context.Context, b store.Batch, ring *keyring.Keyring) (*verify.Session, error) {
	basis, err := s.basis(ctx, b, ring)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b.Expected, &basis.Expected); err != nil {
		return nil, err
	}
	session := verify.New(basis)
	manifests, err := s.store.Items(ctx, b.ID, store.ItemFilter{Role: string(survey.Manifest), After: -1, Limit: 1_000_000})
	if err != nil {
		return nil, err
	}
	for _, row := range manifests {
		if row.Measurement == nil {
			continue // too large to be read as one: it is measured like an artifact
		}
		var item survey.Item
		var m measure.Measurement
		if err := errors.Join(json.Unmarshal(row.Survey, &item), json.Unmarshal(row.Measurement, &m)); err != nil {
			return nil, err
		}
		session.Manifest(&item, &m)
	}
	return session, nil
}

// memory is what is known of other files than those of one batch.
type memory struct {
	store  *store.Store
	batch  int64
	stated func() (map[string]diagnose.Elsewhere, error)
}

// Stated returns what the manifests of the batch state.
func (k memory) Stated(context.Context) (map[string]diagnose.Elsewhere, error) { return k.stated() }

// Cleared looks for what was cleared in earlier batches.
func (k memory) Cleared(ctx context.Context, sums []string) (map[string]*diagnose.Earlier, error) {
	found, err := k.store.ClearedWith(ctx, k.batch, sums)
	out := make(map[string]*diagnose.Earlier, len(found))
	for sum, c := range found {
		out[sum] = &diagnose.Earlier{Name: c.Path, Folder: c.Depot + ":" + c.Folder, Label: c.Label, Batch: c.Batch, On: c.At.UTC()}
	}
	return out, err
}

// stated is [verify.Stated] for a survey that is stored.
func (s *Service) stated(ctx context.Context, batch int64) (map[string]diagnose.Elsewhere, error) {
	rows, err := s.store.Stated(ctx, batch)
	out := make(map[string]diagnose.Elsewhere, len(rows))
	for _, r := range rows {
		out[r.Digest] = diagnose.Elsewhere{Name: r.Name, Manifest: r.Manifest, Line: r.Line}
	}
	return out, err
}

const (
	// flushEvery bounds the work that a killed worker has to repeat.
	flushEvery = 2 * time.Second
	// progressEvery bounds how often progress inside a file is announced.
	progressEvery = 250 * time.Millisecond
)

// Measure works on one slice of a batch: it measures, judges and records the
// items that have no outcome yet, a few at a time.
func (s *Service) Measure(ctx context.Context, id int64, slice int) error {
	b, err := s.Get(ctx, id)
	if err != nil || b.State != "measuring" {
		return err
	}
	rows, err := s.store.SliceItems(ctx, id, slice)
	if err != nil {
		return err
	}
	ring, err := s.keys.Snapshot(ctx)
	if err != nil {
		return err
	}
	session, err := s.resume(ctx, b, ring)
	if err != nil {
		return err
	}
	folder, err := s.depots.Open(b.Depot, b.Path)
	if err != nil {
		return s.fail(ctx, b, err)
	}
	defer folder.Close()
	fsys := folder.FS()
	known := memory{s.store, id, sync.OnceValues(func() (map[string]diagnose.Elsewhere, error) { return s.stated(ctx, id) })}
	content := verify.Bytes{Folder: fsys, Again: func(d *verify.Settled) (io.ReadCloser, error) {
		return measure.Content(ctx, fsys, d.Item, d.Holders)
	}}

	var batch []verify.Settled
	read := int64(0)
	lastFlush, lastProgress := time.Now(), time.Time{}
	items, err := itemsOf(rows)
	if err != nil {
		return err
	}
	files := verify.Files(items)
	flush := func(last bool) error {
		if err := session.Settle(ctx, batch, content, known); err != nil {
			return err
		}
		err := s.flush(ctx, b, slice, batch, last)
		batch, lastFlush = nil, time.Now()
		return err
	}
	var shown sync.Mutex
	progress := func(total int64) {
		shown.Lock()
		defer shown.Unlock()
		if time.Since(lastProgress) >= progressEvery {
			lastProgress = time.Now()
			s.store.SliceProgress(ctx, id, slice, read+total) //nolint:errcheck // only for the eye
		}
	}
	var together map[string]measure.Measurement
	for at, file := range files {
		measured := together
		if _, ok := together[file.Path]; !ok {
			if md5s := onlyMD5(files[at:]); len(md5s) > 1 {
				together, err = measure.OpenMany(ctx, fsys, md5s, s.witness(b.AskedBy), progress)
				measured = together
			} else {
				measured, err = measure.Open(ctx, fsys, file.Path, file.Items, s.witness(b.AskedBy), progress)
			}
		}
		if err != nil {
			return err
		}
		read += measured[file.Path].Size
		for i, item := range file.Items {
			batch = append(batch, verify.Settled{N: rows[file.At[i]].N, Item: item, Measurement: measured[item.Path], Holders: file.Items[:i]})
		}
		// A file and what it holds are stored together.
		if time.Since(lastFlush) >= flushEvery || len(batch) >= s.limits.SliceItems {
			if err := flush(false); err != nil {
				return err
			}
		}
	}
	return flush(true)
}

// onlyMD5 returns the items of the files at the beginning of which only the MD5
// is to be computed, as many as are worth reading side by side.
func onlyMD5(files []*verify.File) []*survey.Item {
	var out []*survey.Item
	for _, f := range files {
		if !measure.OnlyMD5(f.Items) || len(out) >= 4*digest.StreamCount {
			break
		}
		out = append(out, f.Items[0])
	}
	return out
}

func itemsOf(rows []store.Item) ([]*survey.Item, error) {
	out := make([]*survey.Item, len(rows))
	for i := range rows {
		if err := json.Unmarshal(rows[i].Survey, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// flush stores outcomes and their records in one transaction. Outcomes that
// another worker has stored meanwhile are left out.
func (s *Service) flush(ctx context.Context, b store.Batch, slice int, batch []verify.Settled, last bool) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var expected judge.Expectation
		if err := json.Unmarshal(b.Expected, &expected); err != nil {
			return err
		}
		var ns []int
		for i := range batch {
			ns = append(ns, batch[i].N)
		}
		open, err := tx.LockSlice(ctx, b.ID, slice, ns)
		if err != nil {
			return err
		}
		var mine []verify.Settled
		for _, d := range batch {
			if open[d.N] {
				mine = append(mine, d)
			}
		}
		if last {
			if err := tx.SliceDone(ctx, b.ID, slice); err != nil {
				return err
			}
		}
		if err := tx.Announce(ctx, b.ID); err != nil {
			return err
		}
		return s.settle(ctx, tx, b, expected, mine)
	})
}

// outcomeRecord is what the ledger keeps of an item's outcome: enough to judge
// it again, and to be read by a person without us.
type outcomeRecord struct {
	Batch       int64               `json:"batch"`
	Depot       string              `json:"depot"`
	Folder      string              `json:"folder"`
	Item        string              `json:"item"`
	Role        survey.Role         `json:"role"`
	Size        int64               `json:"size"`
	Verdict     judge.Verdict       `json:"verdict"`
	Expected    judge.Expectation   `json:"expected_publishers"`
	Survey      *survey.Item        `json:"survey"`
	Measurement measure.Measurement `json:"measurement"`
	Grounds     []judge.Ground      `json:"grounds"`
	Paths       []judge.ProofPath   `json:"paths"`
	Policy      int64               `json:"policy"`
	JudgedAsOf  time.Time           `json:"judged_as_of"`
}

// settle writes records and outcomes.
func (s *Service) settle(ctx context.Context, tx *store.Tx, b store.Batch, expected judge.Expectation, done []verify.Settled) error {
	if len(done) == 0 {
		return nil
	}
	entries := make([]records.Entry, len(done))
	rows := make([]store.Outcome, len(done))
	for i, d := range done {
		entries[i] = records.Entry{
			Kind: records.ItemOutcome, By: b.AskedBy, Subject: d.Item.Path, Verdict: string(d.Outcome.Verdict), Batch: b.ID,
			Body: outcomeRecord{
				Batch: b.ID, Depot: b.Depot, Folder: b.Path, Item: d.Item.Path, Role: d.Item.Role, Size: d.Measurement.Size, Verdict: d.Outcome.Verdict,
				Expected: expected, Survey: d.Item, Measurement: d.Measurement, Grounds: d.Outcome.Grounds, Paths: d.Outcome.Paths,
				Policy: b.PolicyVersion, JudgedAsOf: b.JudgedAsOf,
			},
		}
		measurement, err1 := json.Marshal(d.Measurement)
		grounds, err2 := json.Marshal(d.Outcome.Grounds)
		paths, err3 := json.Marshal(d.Outcome.Paths)
		if err := errors.Join(err1, err2, err3); err != nil {
			return err
		}
		rows[i] = store.Outcome{N: d.N, Measurement: measurement, Grounds: grounds, Paths: paths}
		if d.Outcome.Verdict != "" {
			verdict := string(d.Outcome.Verdict)
			rows[i].Verdict = &verdict
		}
	}
	first, err := s.records.Append(ctx, tx, entries...)
	if err != nil {
		return err
	}
	for i := range rows {
		rows[i].Position = first + int64(i)
	}
	return tx.AddOutcomes(ctx, b.ID, rows)
}

// batchRecord is what the ledger keeps of a batch.
type batchRecord struct {
	Batch      int64         `json:"batch"`
	Label      string        `json:"label"`
	Depot      string        `json:"depot"`
	Folder     string        `json:"folder"`
	State      string        `json:"state"`
	Verdict    judge.Verdict `json:"verdict"`
	Items      int           `json:"items"`
	Bytes      int64         `json:"bytes"`
	Cleared    int           `json:"cleared"`
	Unproven   int           `json:"unproven"`
	Refused    int           `json:"refused"`
	Absent     int           `json:"absent"`
	RequireAll bool          `json:"require_all"`
	Note       string        `json:"note"`
	Policy     int64         `json:"policy"`
	// Corrections are the pairs that the person who asked set by hand.
	Corrections json.RawMessage `json:"corrections"`
	// Origins say where manifests come from, and Copies how others of them
	// compare.
	Origins json.RawMessage   `json:"origins"`
	Copies  []json.RawMessage `json:"copies"`
}

// Finish closes a batch when all its slices are done, with its verdict and
// record. It reports whether the batch is closed now.
func (s *Service) Finish(ctx context.Context, id int64) (bool, error) {
	closed := false
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		state, err := tx.LockBatch(ctx, id)
		if err != nil || state != "measuring" {
			closed = err == nil && state != "waiting"
			return err
		}
		if open, err := tx.OpenSlices(ctx, id); err != nil || open > 0 {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil {
			return err
		}
		verdict := judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll)
		note := ""
		switch {
		case b.Cleared+b.Unproven+b.Refused == 0:
			note = "The folder holds no artifact, so there is nothing that could be cleared."
		case b.RequireAll && b.Absent > 0 && b.Refused == 0:
			note = fmt.Sprintf("All entries were asked for, and %d of them have no file here.", b.Absent)
		}
		closed = true
		return s.close(ctx, tx, b, "done", verdict, note)
	})
	return closed, err
}

func (s *Service) close(ctx context.Context, tx *store.Tx, b store.Batch, state string, verdict judge.Verdict, note string) error {
	if err := tx.Announce(ctx, b.ID); err != nil {
		return err
	}
	copies, err := tx.Copies(ctx, b.ID)
	if err != nil {
		return err
	}
	summaries := []json.RawMessage{}
	for _, c := range copies {
		if c.Summary != nil {
			summaries = append(summaries, c.Summary)
		}
	}
	position, err := s.records.Append(ctx, tx, records.Entry{
		Kind: records.BatchResult, By: b.AskedBy, Subject: b.Depot + ":" + b.Path, Verdict: string(verdict), Batch: b.ID,
		Body: batchRecord{
			Batch: b.ID, Label: b.Label, Depot: b.Depot, Folder: b.Path, State: state, Verdict: verdict, Items: b.Items, Bytes: b.Bytes,
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent, RequireAll: b.RequireAll, Note: note, Policy: b.PolicyVersion, Corrections: b.Corrections,
			Origins: b.Origins, Copies: summaries,
		},
	})
	if err != nil {
		return err
	}
	var v *string
	if verdict != "" {
		text := string(verdict)
		v = &text
	}
	return tx.Finish(ctx, b.ID, state, v, note, position, s.now())
}

// Abandon closes a batch of which a step has failed each time it was tried.
func (s *Service) Abandon(ctx context.Context, id int64, cause error) error {
	b, err := s.Get(ctx, id)
	if err != nil {
		return err
	}
	return s.fail(ctx, b, errors.New(abandoned(cause)))
}

// abandoned says why work was given up.
func abandoned(cause error) string {
	return "It could not be carried out, however often it was tried: " + plain.Text(cause.Error())
}

// fail closes a batch that cannot be carried out. Trouble with the database is
// no such reason: then the error is returned and the step is tried again.
func (s *Service) fail(ctx context.Context, b store.Batch, cause error) error {
	if fault.Is(cause, "database-down") {
		return cause
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		state, err := tx.LockBatch(ctx, b.ID)
		if err != nil || state == "done" || state == "failed" {
			return err
		}
		return s.close(ctx, tx, b, "failed", "", plain.Text(cause.Error()))
	})
}
