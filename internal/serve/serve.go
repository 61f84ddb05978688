// Package serve puts the service together from its parts and runs it.
package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"net/http"
	"time"

	"endeixis/console"
	"endeixis/core/digest"
	"endeixis/core/survey"
	"endeixis/internal/access"
	"endeixis/internal/api"
	"endeixis/internal/attest"
	"endeixis/internal/basis"
	"endeixis/internal/batches"
	"endeixis/internal/config"
	"endeixis/internal/depots"
	"endeixis/internal/devices"
	"endeixis/internal/directories"
	"endeixis/internal/events"
	"endeixis/internal/fault"
	"endeixis/internal/inquiries"
	"endeixis/internal/jobs"
	"endeixis/internal/keys"
	"endeixis/internal/origins"
	"endeixis/internal/outside"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/satchels"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/witness"
)

// Service is the assembled service.
type Service struct {
	config     config.Config
	clock      *store.Clock
	log        *slog.Logger
	store      *store.Store
	records    *records.Service
	access     *access.Service
	publishers *publishers.Service
	policy     *policy.Service
	keys       *keys.Service
	batches    *batches.Service
	reassess   *reassess.Service
	inquiries  *inquiries.Service
	depots     *depots.Depots
	sources    *sources.Sources
	origins    *origins.Origins
	devices    *devices.Service
	satchels   *satchels.Service
	queue      *jobs.Queue
}

// Logger makes the log that the configuration asks for.
func Logger(c config.Log, w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.Level)); err != nil {
		return nil, fmt.Errorf("log.level %q: use debug, info, warn or error", c.Level)
	}
	opts := &slog.HandlerOptions{Level: level}
	switch c.Format {
	case "json":
		return slog.New(slog.NewJSONHandler(w, opts)), nil
	case "text":
		return slog.New(slog.NewTextHandler(w, opts)), nil
	}
	return nil, fmt.Errorf("log.format %q: use text or json", c.Format)
}

// AwaitDatabase waits until the database answers. It fails when ctx ends, and for
// an address that is none.
func AwaitDatabase(ctx context.Context, c config.Config, log *slog.Logger) error {
	s, err := store.Open(ctx, c.Database.URL)
	if err != nil {
		return err
	}
	defer s.Close()
	for said := false; ; said = true {
		err := s.Ping(ctx)
		if err == nil || !fault.Is(err, fault.DatabaseDown) {
			return err
		}
		if !said {
			log.Warn("waiting for the database, which does not answer")
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(2 * time.Second):
		}
	}
}

// Open assembles the service around the database. Close it after use.
func Open(ctx context.Context, c config.Config, log *slog.Logger) (*Service, error) {
	s, err := store.Open(ctx, c.Database.URL)
	if err != nil {
		return nil, err
	}
	out, err := assemble(ctx, s, c, log)
	if err != nil {
		s.Close()
		return nil, err
	}
	return out, nil
}

// assemble puts the parts together around the database.
func assemble(ctx context.Context, s *store.Store, c config.Config, log *slog.Logger) (*Service, error) {
	clock, err := store.NewClock(ctx, s)
	if err != nil {
		return nil, err
	}
	places, asker, witnesses, err := beyond(c)
	if err != nil {
		return nil, err
	}
	recs := records.New(s, clock.Now)
	recs.WitnessedBy(witnesses)
	queue, err := jobs.NewQueue()
	if err != nil {
		return nil, err
	}
	orders := reassess.NewOrders(queue, recs, clock.Now)
	judgedBy := basis.New(s, recs)
	pub := publishers.New(s, recs)
	pol := policy.New(s, recs, judgedBy, pub, orders, clock.Now)
	k := keys.New(s, recs, judgedBy, pub, pol, asker, orders, clock.Now)
	d := depots.New(c.Depots)
	from := sources.New(d)
	credentials := map[string]devices.Credential{}
	for name, credential := range c.Devices.Credentials {
		credentials[name] = devices.Credential(credential)
	}
	equipment, err := devices.New(
		s, recs, pub,
		devices.Settings{Kinds: c.Devices.Kinds, HostKeys: c.Devices.HostKeys, Credentials: credentials}, log,
		clock.Now,
	)
	if err != nil {
		return nil, err
	}
	b := batches.New(
		s, recs, k, pub, pol, from, places, equipment, queue, orders,
		batches.Limits{SliceBytes: c.Work.SliceBytes, SliceItems: c.Work.SliceItems}, digest.MeasureGain(clock.Now),
		clock.Now,
	)
	again := reassess.New(s, recs, k, pub, pol, b, orders, clock.Now)
	return &Service{
		config:     c,
		log:        log,
		clock:      clock,
		store:      s,
		queue:      queue,
		origins:    places,
		records:    recs,
		publishers: pub,
		policy:     pol,
		keys:       k,
		depots:     d,
		sources:    from,
		devices:    equipment,
		satchels:   satchels.New(s, recs, k, pol, pub, b, clock.Now),
		access:     access.New(s, recs, clock.Now),
		batches:    b,
		reassess:   again,
		inquiries: inquiries.New(s, queue, map[inquiries.Kind]inquiries.Answerer{
			inquiries.Audit: recs.AnswerAudit, inquiries.Reach: again.AnswerReach,
		}, clock.Now),
	}, nil
}

// beyond returns what is asked outside: origins of copies, key directories and witnesses.
func beyond(c config.Config) (*origins.Origins, *directories.Directories, []records.Witness, error) {
	var configured []origins.Origin
	for name, o := range c.Origins {
		configured = append(configured, origins.Origin{Name: name, URL: o.URL, Channel: survey.Channel(o.Channel)})
	}
	places, err := origins.New(configured, outside.Limits{})
	if err != nil {
		return nil, nil, nil, err
	}
	var known []directories.Directory
	for _, d := range c.Directories {
		known = append(
			known, directories.Directory{Name: d.Name, Kind: directories.Kind(d.Kind), URL: d.URL, Domain: d.Domain},
		)
	}
	asker, err := directories.New(known, outside.Limits{})
	if err != nil {
		return nil, nil, nil, err
	}
	var witnesses []records.Witness
	for _, w := range c.Ledger.Witnesses {
		asker, err := witness.NewAsker(witness.Place{URL: w.URL, Key: w.Key})
		if err != nil {
			return nil, nil, nil, err
		}
		witnesses = append(witnesses, asker)
	}
	return places, asker, witnesses, nil
}

// keepTime compares the clocks now and then.
func (s *Service) keepTime(ctx context.Context) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := s.clock.Look(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("the database's clock could not be read", "error", err)
		}
	}
}

// every does something at once, and again so often, until ctx ends.
func every(ctx context.Context, period time.Duration, do func()) {
	tick := time.NewTicker(period)
	defer tick.Stop()
	for {
		do()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// endSilent ends batches whose measurer was not heard of for long.
func (s *Service) endSilent(ctx context.Context) {
	every(ctx, time.Minute, func() {
		if err := s.batches.Lapse(ctx, time.Duration(s.config.Work.MeasurerHours)*time.Hour); err != nil &&
			ctx.Err() == nil {
			s.log.Warn("batches of silent measurers could not be looked after", "error", err)
		}
	})
}

// auditOnSchedule has the ledger audited as often as is configured.
func (s *Service) auditOnSchedule(ctx context.Context) {
	if s.config.Ledger.AuditHours == 0 {
		return
	}
	full := time.Duration(s.config.Ledger.AuditDays) * 24 * time.Hour
	if full == 0 {
		full = math.MaxInt64
	}
	every(ctx, 10*time.Minute, func() {
		if due, whole := s.records.Due(time.Duration(s.config.Ledger.AuditHours)*time.Hour, full); due {
			_, err := s.inquiries.Ask(
				ctx, "endeixisd", inquiries.Audit, records.AuditQuestion{Full: whole, Scheduled: true},
			)
			if err != nil && ctx.Err() == nil {
				s.log.Warn("the audit that is due could not be asked for", "error", err)
			}
		}
		if failed := s.records.Audits().Failed; failed != nil {
			s.log.Error("an audit of the ledger did not hold", "found", failed.Found, "at", failed.At)
		}
	})
}

// noticeExpiring warns once of each key at each of the stages before it expires.
func (s *Service) noticeExpiring(ctx context.Context) {
	noticed := map[string]int{}
	every(ctx, time.Hour, func() {
		expiring, err := s.keys.Expiring(ctx)
		if err != nil && ctx.Err() == nil {
			s.log.Warn("expiring keys could not be looked for", "error", err)
		}
		for _, e := range expiring {
			fp := string(e.Key.Certificate.Primary.Fingerprint)
			if noticed[fp] != e.Stage {
				noticed[fp] = e.Stage
				s.log.Warn(
					"a key expires soon", "fingerprint", fp, "publisher", e.Key.Publisher, "on",
					e.Expires.Format(time.DateOnly), "within_days", e.Stage,
				)
			}
		}
	})
}

// lookUpKnown looks every key up again, on the configured schedule, and warns of
// keys that expire.
func (s *Service) lookUpKnown(ctx context.Context) {
	if s.config.LookupHours == 0 {
		return
	}
	tick := time.NewTicker(time.Duration(s.config.LookupHours) * time.Hour)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		known, err := s.keys.LookUpKnown(ctx, "endeixisd", nil)
		if err != nil {
			s.log.Warn("keys could not be looked up again", "error", err)
		}
		for _, r := range known {
			if r.Result == "updated" {
				s.log.Info(
					"a key was completed from the directories", "fingerprint", string(r.Fingerprint), "changes",
					r.Changes,
				)
			}
		}
	}
}

// Close lets go of the database.
func (s *Service) Close() { s.store.Close() }

// Migrate brings the database to this version.
func (s *Service) Migrate(ctx context.Context) error { return s.store.Migrate(ctx) }

// Grant lets a role of the database that owns nothing run the service.
func (s *Service) Grant(ctx context.Context, role string) error { return s.store.Grant(ctx, role) }

// A Beginning is what Init made.
type Beginning struct {
	// Created is false when everything was there already.
	Created bool
	// Administrator and Token are empty when there are people already. The
	// token can be shown this once.
	Administrator, Token string
	PublicKey            string
}

// Init makes the first administrator, the signing key and the first policy on
// an empty database. Repeated, it makes what is missing and nothing twice.
// password is asked only when there is nobody yet.
func (s *Service) Init(ctx context.Context, name string, password func() (string, error)) (Beginning, error) {
	var b Beginning
	if err := s.Migrate(ctx); err != nil {
		return b, err
	}
	created, err := s.records.Init(ctx, s.config.Ledger.KeyFile, s.config.Name)
	if err != nil {
		return b, err
	}
	b.Created, b.PublicKey = created, s.records.PublicKey()
	if err := s.records.Resume(ctx); err != nil {
		return b, err
	}
	if err := s.adopt(ctx); err != nil {
		return b, err
	}
	if err := s.policy.Init(ctx, name); err != nil {
		return b, err
	}
	users, err := s.store.Users(ctx)
	if err != nil || len(users) > 0 {
		return b, err
	}
	secret, err := password()
	if err != nil {
		return b, err
	}
	if _, err := s.access.AddUser(
		ctx, name, access.NewUser{Name: name, FullName: "Administrator", Role: roles.Administrator, Password: secret},
	); err != nil {
		return b, err
	}
	p, err := s.access.BySession(ctx, name, s.clock.Now())
	if err != nil {
		return b, err
	}
	b.Token, _, err = s.access.IssueToken(
		ctx, p, access.NewToken{Label: "first token, from endeixisd init", Life: 24 * time.Hour},
	)
	b.Created, b.Administrator = true, name
	return b, err
}

// adopt takes what an earlier version has left without a record and without a MAC, once.
func (s *Service) adopt(ctx context.Context) error {
	due, err := s.records.AdoptionDue(ctx)
	if err != nil {
		return err
	}
	if due || s.records.FromEarlier() {
		if err := s.access.Seal(ctx); err != nil {
			return err
		}
	}
	if !due {
		return nil
	}
	return s.records.Adopt(ctx)
}

// A Start says how the service begins.
type Start struct {
	// AfterRestore: the database was restored from a backup that is older than what is known
	// beside the ledger's key. It goes on from there, and that is put on record.
	AfterRestore bool
	// Ready is called with the address when requests are taken.
	Ready func(address string)
}

// Serve serves people, and works on batches, until ctx ends.
func (s *Service) Serve(ctx context.Context, start Start) error {
	if err := s.prepare(ctx, start); err != nil {
		return err
	}
	runner, err := jobs.New(
		s.store, jobs.Work{Batches: s.batches, Reassessments: s.reassess, Inquiries: s.inquiries}, s.queue,
		s.sources.Queues(), jobs.Sizes{Workers: s.config.Work.Workers, Devices: s.config.Devices.AtOnce}, s.log,
	)
	if err != nil {
		return err
	}
	if err := runner.Start(ctx); err != nil {
		return err
	}
	hub := events.NewHub()
	background, stopBackground := context.WithCancel(context.WithoutCancel(ctx))
	defer stopBackground()
	go hub.Run(background, s.store, s.log)
	go s.keepTime(background)
	go s.signCheckpoints(background)
	go s.lookUpKnown(background)
	go s.noticeExpiring(background)
	go s.endSilent(background)
	go s.auditOnSchedule(background)

	stopping := make(chan struct{})
	requests, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	defer giveUp()
	server := s.server(s.handler(hub, stopping), requests)
	listener, err := net.Listen("tcp", s.config.Listen)
	if err != nil {
		return errors.Join(err, runner.Stop(ctx))
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	s.log.Info("ready", "address", "http://"+listener.Addr().String(), "depots", s.depots.Names())
	start.Ready(listener.Addr().String())
	select {
	case err = <-failed:
	case <-ctx.Done():
		s.log.Info("stopping")
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
	defer cancel()
	// Streams would never end by themselves. What was asked before is answered.
	close(stopping)
	err = errors.Join(err, server.Shutdown(last))
	giveUp()
	stopBackground()
	return errors.Join(err, runner.Stop(last))
}

// prepare brings database, ledger and decisions into the state that this program works with.
func (s *Service) prepare(ctx context.Context, start Start) error {
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	if err := s.records.LoadKey(ctx, s.config.Ledger.KeyFile); err != nil {
		return err
	}
	resume := s.records.Resume
	if start.AfterRestore {
		resume = s.records.ResumeRestored
	}
	if err := resume(ctx); err != nil {
		return err
	}
	if err := s.adopt(ctx); err != nil {
		return err
	}
	if err := s.records.CatchUp(ctx); err != nil {
		return err
	}
	if err := s.reassess.CatchUp(ctx); err != nil {
		return err
	}
	if differences, err := s.store.StructureDiscrepancies(ctx); err != nil {
		return err
	} else if len(differences) > 0 {
		s.log.Error(
			"the database is not as this program has made it; /readyz and audits say so until it is", "first",
			differences[0].What, "differences", len(differences),
		)
	}
	return nil
}

// handler answers requests; stopping is closed when no more are answered.
func (s *Service) handler(hub *events.Hub, stopping <-chan struct{}) http.Handler {
	return api.New(api.Parts{
		Access:         s.access,
		Publishers:     s.publishers,
		Policy:         s.policy,
		Keys:           s.keys,
		Batches:        s.batches,
		Reassess:       s.reassess,
		Inquiries:      s.inquiries,
		Query:          query.New(s.store),
		Records:        s.records,
		Depots:         s.depots,
		Origins:        s.origins,
		Devices:        s.devices,
		Satchels:       s.satchels,
		Attest:         attest.New(s.records, s.config.Name, s.clock.Now),
		Hub:            hub,
		Console:        console.Files(),
		Log:            s.log,
		Now:            s.clock.Now,
		Clock:          s.clock,
		Stopping:       stopping,
		SecureCookies:  s.config.SecureCookies,
		OpenLog:        s.config.Ledger.Open,
		TrustedProxies: s.config.TrustedProxies,
	}).Handler()
}

// server takes requests, which end with the context.
func (s *Service) server(handler http.Handler, requests context.Context) *http.Server {
	return &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       2 * time.Minute,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
		BaseContext:       func(net.Listener) context.Context { return requests },
	}
}

// loadWritersKey reads the key by which a process seals what it records that signs nothing: that
// of its own file, or the one that comes from the ledger's key where that is on this host.
func (s *Service) loadWritersKey(ctx context.Context) error {
	if s.config.Ledger.WritersKeyFile != "" {
		return s.records.LoadWritersKey(s.config.Ledger.WritersKeyFile)
	}
	err := s.records.LoadKey(ctx, s.config.Ledger.KeyFile)
	if errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Conflict, fault.WritersKeyMissing, "This host has no key to seal records with.").
			Advise(
				"Print it with “endeixisd writers-key” on the service's host, keep it in a file that only this program can read, and name that with ledger.writers_key_file.",
			)
	}
	return err
}

// RotateKey has the ledger go on with a new key, which the old one signs, and returns it. The
// service, and every worker, is to be stopped.
func (s *Service) RotateKey(ctx context.Context) (string, error) {
	if err := s.Migrate(ctx); err != nil {
		return "", err
	}
	return s.records.Rotate(ctx, s.config.Ledger.KeyFile, s.reseal)
}

// DeclareKeyLost has the ledger go on with a new key that nothing has signed, and returns it. It
// is otherwise as [Service.RotateKey].
func (s *Service) DeclareKeyLost(ctx context.Context) (string, error) {
	if err := s.Migrate(ctx); err != nil {
		return "", err
	}
	return s.records.DeclareLost(ctx, s.config.Ledger.KeyFile, s.reseal)
}

// reseal seals people and tokens by the next key.
func (s *Service) reseal(ctx context.Context, tx *store.Tx, next *records.Service) error {
	return access.New(s.store, next, s.clock.Now).Reseal(ctx, tx)
}

// WritersKey returns the key for hosts that work on batches and sign nothing.
func (s *Service) WritersKey(ctx context.Context) (string, error) {
	if err := s.records.LoadKey(ctx, s.config.Ledger.KeyFile); err != nil {
		return "", err
	}
	return s.records.WritersKey()
}

// Work works on batches, without serving people, until ctx ends.
func (s *Service) Work(ctx context.Context) error {
	if err := s.loadWritersKey(ctx); err != nil {
		return err
	}
	sizes := jobs.Sizes{Workers: s.config.Work.Workers}
	if s.config.Devices.HostKeys != "" {
		// A process that knows no device would only say so of each.
		sizes.Devices = s.config.Devices.AtOnce
	}
	runner, err := jobs.New(
		s.store, jobs.Work{Batches: s.batches, Reassessments: s.reassess}, s.queue, s.sources.Queues(), sizes, s.log,
	)
	if err != nil {
		return err
	}
	if err := runner.Start(ctx); err != nil {
		return err
	}
	background, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	go s.keepTime(background)
	s.log.Info("working", "depots", s.depots.Names())
	<-ctx.Done()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
	defer cancel()
	return runner.Stop(last)
}

// signCheckpoints signs a checkpoint a moment after the ledger has grown.
func (s *Service) signCheckpoints(ctx context.Context) {
	grown := make(chan struct{}, 1)
	signal := func() {
		select {
		case grown <- struct{}{}:
		default:
		}
	}
	go events.Follow(ctx, s.store, store.NotifyLedger, s.log, signal, func(string) { signal() })
	for {
		select {
		case <-ctx.Done():
			return
		case <-grown:
		}
		if _, _, err := s.records.Sign(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("signing a checkpoint", "error", err)
		}
		if err := s.records.Countersign(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("a checkpoint was not countersigned by every witness", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}
