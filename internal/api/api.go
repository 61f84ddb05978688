// Package api is the HTTP interface of the service: resources under /api/v1
// described by OpenAPI 3.1, the console's files, and the addresses by which
// the service is watched.
package api

import (
	"cmp"
	"context"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"path"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"endeixis/core/plain"
	"endeixis/internal/access"
	"endeixis/internal/attest"
	"endeixis/internal/batches"
	"endeixis/internal/depots"
	"endeixis/internal/devices"
	"endeixis/internal/events"
	"endeixis/internal/fault"
	"endeixis/internal/inquiries"
	"endeixis/internal/keys"
	"endeixis/internal/origins"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/satchels"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// Parts are the services that the API puts in front of people.
type Parts struct {
	Access     *access.Service
	Publishers *publishers.Service
	Policy     *policy.Service
	Keys       *keys.Service
	Batches    *batches.Service
	Reassess   *reassess.Service
	Inquiries  *inquiries.Service
	Query      *query.Service
	Records    *records.Service
	Attest     *attest.Service
	Depots     *depots.Depots
	Origins    *origins.Origins
	Devices    *devices.Service
	Satchels   *satchels.Service
	Hub        *events.Hub
	Console    fs.FS
	Log        *slog.Logger
	Now        func() time.Time
	// Clock tells how far the database's time is from this host's.
	Clock interface{ Ahead() time.Duration }
	// Stopping is closed when the service is about to end: streams end then, and
	// what was asked is answered still.
	Stopping <-chan struct{}
	// OpenLog: the ledger's checkpoint and hashes are shown to anybody, as tiles.
	OpenLog bool
	// SecureCookies marks cookies for HTTPS only.
	SecureCookies bool
	// TrustedProxies are the addresses and networks whose X-Forwarded-For is
	// believed.
	TrustedProxies []string
}

// API serves requests.
type API struct {
	Parts
	engine   *gin.Engine
	huma     huma.API
	sessions *scs.SessionManager
	requests *prometheus.HistogramVec
	// streams counts who follows how many batches, and underway who waits for
	// how many answers.
	streams, underway counter
	// loads counts who has a large key file worked on.
	loads counter
	// pieces counts who has pieces of files hashed, which reads the files.
	pieces counter
}

const sessionCookie = "endeixis_session"

// New returns the whole interface as one handler.
func New(parts Parts) *API {
	gin.SetMode(gin.ReleaseMode)
	huma.NewError = newProblem
	huma.DefaultArrayNullable = false // our lists are never null
	a := &API{Parts: parts, engine: gin.New(), sessions: scs.New()}
	if parts.Access != nil {
		a.sessions.Store = parts.Access.Sessions()
	}
	a.sessions.Lifetime = 12 * time.Hour
	a.streams.most, a.underway.most, a.loads.most, a.pieces.most = maxStreams, maxUnderway, 1, maxPieces
	if err := a.engine.SetTrustedProxies(parts.TrustedProxies); err != nil {
		panic(err) // the configuration was checked
	}
	a.requests = prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name:    "endeixis_http_request_seconds",
		Help:    "Duration of requests by route and status.",
		Buckets: prometheus.DefBuckets,
	}, []string{"route", "status"})
	registry := prometheus.NewRegistry()
	registry.MustRegister(
		a.requests, figures(), collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)

	a.engine.Use(a.observe, a.harden, gin.CustomRecoveryWithWriter(nil, a.recovered))
	a.engine.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	a.engine.GET("/readyz", a.ready)
	a.engine.GET("/metrics", gin.WrapH(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))
	a.engine.Use(noStore, a.levelled, a.legible, a.identify, a.moderate)
	a.huma = humagin.New(a.engine, Describe())
	speak(a.huma.OpenAPI().Components.Schemas, vocabularies)
	a.huma.UseMiddleware(a.authorise)
	a.register()
	settleNulls(a.huma.OpenAPI().Components.Schemas)
	a.engine.GET("/api/v1/docs", a.docs)
	a.engine.GET(logBase+"*path", a.log)
	a.engine.NoRoute(a.console)
	return a
}

// figures says which program this is, so that who watches a service that nobody has
// asked anything yet is told more than nothing.
func figures() prometheus.Collector {
	return prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name:        "endeixis_build_info",
		Help:        "Always 1; the label says what is running.",
		ConstLabels: prometheus.Labels{"version": version.Full()},
	}, func() float64 { return 1 })
}

// Describe returns the head of the OpenAPI document.
func Describe() huma.Config {
	c := huma.DefaultConfig("Endeixis", version.Version)
	c.OpenAPIPath = "/api/v1/openapi"
	c.DocsPath = "" // our own page, see docs.go
	c.SchemasPath = "/api/v1/schemas"
	c.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	c.CreateHooks = nil // no $schema fields in the answers
	c.Formats = map[string]huma.Format{"application/json": bodyFormat, "json": bodyFormat}
	c.Info.Description = "Verify release artifacts and firmware images against checksum manifests and OpenPGP signatures, and keep every outcome on record."
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A token, as made by “endeixis login”."},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "The console's session."},
	}
	return c
}

// Document returns the OpenAPI document in YAML.
func Document() ([]byte, error) { return New(Parts{}).huma.OpenAPI().YAML() }

// Handler returns the handler to be served. Requests that change something
// and come from another site are turned away.
func (a *API) Handler() http.Handler {
	protection := http.NewCrossOriginProtection()
	protection.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.write(
			w, r,
			fault.New(fault.Denied, fault.CrossSite, "This request comes from another site and was not carried out."),
		)
	}))
	return protection.Handler(a.engine)
}

func (a *API) write(w http.ResponseWriter, r *http.Request, err error) {
	p := problemOf(r.Context(), a.Log, err)
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	a.huma.Marshal(w, "application/json", p) //nolint:errcheck // the other side is gone
}

// observe logs and counts every request.
func (a *API) observe(c *gin.Context) {
	start := time.Now()
	c.Next()
	if c.Writer.Status() == http.StatusRequestEntityTooLarge {
		drain(c)
	}
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	took := time.Since(start)
	status := c.Writer.Status()
	a.requests.WithLabelValues(route, http.StatusText(status)).Observe(took.Seconds())
	who := ""
	if p, ok := principal(c.Request.Context()); ok {
		who = p.Name
	}
	a.Log.Debug(
		"request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", status, "took",
		took.Round(time.Microsecond), "by", who,
	)
}

const (
	// maxDrained and drainFor bound what is still taken of a body that is too long.
	maxDrained = 512 << 20
	drainFor   = 20 * time.Second
)

// drain takes the rest of a body that is not wanted: a client that is still sending would
// have the connection broken, and never see why.
func drain(c *gin.Context) {
	c.Writer.Flush()
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(drainFor))
	_, _ = io.CopyN(io.Discard, c.Request.Body, maxDrained)
}

// harden sets the headers that keep browsers from doing more than they need.
func (a *API) harden(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=(), payment=(), usb=()")
	h.Set(
		"Content-Security-Policy",
		"default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; worker-src 'self'; img-src 'self' data:; style-src 'self'; object-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
	)
	c.Next()
}

func (a *API) recovered(c *gin.Context, err any) {
	a.Log.Error("request panicked", "path", c.Request.URL.Path, "panic", err)
	a.write(
		c.Writer, c.Request,
		fault.New(fault.Kind(-1), fault.Internal, "Something went wrong in the service.").
			Advise("The administrator finds the details in the service's log."),
	)
	c.Abort()
}

// maxAhead is how far the clocks may be apart: whatever is signed is held against
// this time.
const maxAhead = 5 * time.Minute

func (a *API) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 3*time.Second)
	defer cancel()
	if err := a.Query.Answers(ctx); err != nil {
		c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		return
	}
	if _, _, err := a.Records.Sign(ctx); err != nil {
		c.String(http.StatusServiceUnavailable, "no checkpoint can be signed: %s\n", plain.Text(err.Error()))
		return
	}
	if failed := a.Records.AuditFailed(); failed != "" {
		c.String(http.StatusServiceUnavailable, "%s\n", plain.Text(failed))
		return
	}
	if keys, err := a.Keys.Unreadable(ctx); err != nil || len(keys) > 0 {
		c.String(
			http.StatusServiceUnavailable, "%d stored keys cannot be read, and count for nothing: %s\n", len(keys),
			strings.Join(keys, ", "),
		)
		return
	}
	if a.Query.Full() {
		c.String(http.StatusServiceUnavailable, "the database has no space left: nothing can be stored\n")
		return
	}
	if differences, err := a.Query.Structure(ctx); err != nil || len(differences) > 0 {
		c.String(
			http.StatusServiceUnavailable, "the database is not as this program has made it: %s\n",
			strings.Join(differences, "; "),
		)
		return
	}
	lead := a.Clock.Ahead()
	if lead.Abs() > maxAhead {
		c.String(
			http.StatusServiceUnavailable,
			"the clocks of this host and of the database are %s apart; at most %s can be allowed\n",
			lead.Abs().Round(time.Millisecond), maxAhead,
		)
		return
	}
	c.String(http.StatusOK, "ready\nthe database's clock is %s from this host's\n", lead.Round(time.Millisecond))
}

// who is what identify found out: a principal, or why there is none.
type who struct {
	principal access.Principal
	err       error
	// address is that of the other end of the connection.
	address string
	// again finds out whether that is still so.
	again func(ctx context.Context) error
}

func addressOf(ctx context.Context) string {
	w, _ := ctx.Value(whoKey{}).(who)
	return w.address
}

type whoKey struct{}

func principal(ctx context.Context) (access.Principal, bool) {
	w, _ := ctx.Value(whoKey{}).(who)
	return w.principal, w.err == nil && w.principal.Name != ""
}

// identify finds out who is asking, by token or session. Whether that suffices
// is for authorise.
func (a *API) identify(c *gin.Context) {
	ctx := c.Request.Context()
	w := who{
		err: fault.New(fault.Unauthenticated, fault.NotSignedIn, "You are not signed in.").
			Advise("Sign in first; in the client with “endeixis login”."),
	}
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		w.principal, w.err = a.Access.ByToken(ctx, token)
		w.again = func(ctx context.Context) error { _, err := a.Access.ByToken(ctx, token); return err }
	} else if cookie, err := c.Cookie(sessionCookie); err == nil && cookie != "" {
		w.principal, w.err = a.bySession(ctx, cookie)
		w.again = func(ctx context.Context) error { _, err := a.bySession(ctx, cookie); return err }
	}
	w.address = c.ClientIP()
	c.Request = c.Request.WithContext(context.WithValue(ctx, whoKey{}, w))
	c.Next()
}

func (a *API) bySession(ctx context.Context, cookie string) (access.Principal, error) {
	if len(cookie) > 200 {
		return access.Principal{}, fault.New(fault.Unauthenticated, fault.SessionEnded, "This session has ended.").
			Advise("Sign in again.")
	}
	loaded, err := a.sessions.Load(ctx, cookie)
	if err != nil {
		return access.Principal{}, err
	}
	name := a.sessions.GetString(loaded, sessionUser)
	if name == "" {
		return access.Principal{}, fault.New(fault.Unauthenticated, fault.SessionEnded, "This session has ended.").
			Advise("Sign in again.")
	}
	return a.Access.BySession(ctx, name, time.UnixMicro(a.sessions.GetInt64(loaded, sessionBegun)))
}

// moderate bounds how many requests of one client are under way at once: one that is
// signed in is counted by its name, any other by its address.
func (a *API) moderate(c *gin.Context) {
	w, _ := c.Request.Context().Value(whoKey{}).(who)
	name := "address " + w.address
	if w.err == nil && w.principal.Name != "" {
		name = w.principal.Name
	}
	if strings.HasSuffix(c.FullPath(), "/events") || strings.HasSuffix(c.FullPath(), "/content") {
		c.Next() // a stream, which is counted as such
		return
	}
	// What costs more than an answer has a count of its own.
	var costly *counter
	var full *fault.Fault
	switch path := c.FullPath(); {
	case strings.HasPrefix(path, wire.Base+"/key-file"):
		costly, full = &a.loads, fault.New(fault.TooMany, fault.ImportUnderway, "You are importing a key file already.").
			Advise("Wait for it, then send the next.")
	case strings.HasSuffix(path, "/pieces"):
		costly, full = &a.pieces, fault.New(
			fault.TooMany, fault.PiecesUnderway,
			"Pieces of %d files are being hashed for you already, and each is read for it.", maxPieces,
		).
			Advise("Wait for one of them, then ask again.")
	}
	if costly != nil {
		release, ok := costly.enterWithin(c.Request.Context(), name, aMoment)
		if !ok {
			a.write(c.Writer, c.Request, full)
			c.Abort()
			return
		}
		defer release()
	}
	leave, ok := a.underway.enter(name)
	if !ok {
		a.write(
			c.Writer, c.Request,
			fault.New(
				fault.TooMany, fault.TooManyRequests, "%d of your requests are being answered already.", maxUnderway,
			).
				Advise("Wait for some of the answers, then ask again."),
		)
		c.Abort()
		return
	}
	defer leave()
	c.Next()
}

// roleOf is where an operation says who may call it; without it anybody may.
const roleOf = "role"

// authorise holds the operation's role against who is asking.
func (a *API) authorise(ctx huma.Context, next func(huma.Context)) {
	needed, ok := ctx.Operation().Metadata[roleOf].(roles.Role)
	if !ok {
		next(ctx)
		return
	}
	w, _ := ctx.Context().Value(whoKey{}).(who)
	err := w.err
	if err == nil && !w.principal.Role.May(needed) {
		err = fault.New(
			fault.Denied, fault.RoleTooLow, "You are signed in as %s with the role %s; this needs the role %s.",
			w.principal.Name, w.principal.Role, needed,
		).
			Advise("Ask somebody with that role, or an administrator.")
	}
	if err != nil {
		p := problemOf(ctx.Context(), a.Log, err)
		ctx.SetHeader("Content-Type", p.ContentType(""))
		ctx.SetStatus(p.Status)
		a.huma.Marshal(ctx.BodyWriter(), "application/json", p) //nolint:errcheck // the other side is gone
		return
	}
	next(ctx)
}

// describe makes the description of an operation.
func describe[In, Out any](o wire.Operation[In, Out]) huma.Operation {
	d := huma.Operation{
		Method:        o.Method,
		Path:          wire.Base + o.Path,
		OperationID:   o.ID,
		Summary:       o.Summary,
		MaxBodyBytes:  cmp.Or(o.MaxBody, usualBody),
		DefaultStatus: o.Status, Errors: []int{http.StatusServiceUnavailable},
	}
	if o.Role != "" {
		d.Metadata = map[string]any{roleOf: o.Role}
		d.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		d.Errors = append(d.Errors, http.StatusUnauthorized, http.StatusForbidden)
	}
	if o.Method != http.MethodGet {
		d.Errors = append(d.Errors, http.StatusUnprocessableEntity)
	}
	return d
}

// handle registers an operation. Errors become problems.
func handle[In, Out any](a *API, o wire.Operation[In, Out], f func(ctx context.Context, in *In) (*Out, error)) {
	described := describe(o)
	registered(a, o, described, f)
	if o.Earlier != "" { // of the level before, which the description does not have
		described.Path, described.Hidden = wire.Base+o.Earlier, true
		registered(a, o, described, f)
	}
}

func registered[In, Out any](
	a *API, o wire.Operation[In, Out], described huma.Operation, f func(ctx context.Context, in *In) (*Out, error),
) {
	ask := func(ctx context.Context, in *In) (*Out, error) {
		p, _ := principal(ctx)
		if err := within(p, o.Role, *in); err != nil {
			return nil, problemOf(ctx, a.Log, err)
		}
		out, err := f(ctx, in)
		if err != nil {
			return nil, problemOf(ctx, a.Log, err)
		}
		return out, nil
	}
	if reflect.TypeFor[Out]() == reflect.TypeFor[wire.Nothing]() {
		huma.Register(a.huma, described, func(ctx context.Context, in *In) (*struct{}, error) {
			_, err := ask(ctx, in)
			return nil, err
		})
		return
	}
	if _, ok := any(*new(Out)).(wire.Tagged); ok {
		type answered struct {
			ETag string `header:"ETag"`
			Body *Out
		}
		huma.Register(a.huma, described, func(ctx context.Context, in *In) (*answered, error) {
			out, err := ask(ctx, in)
			if err != nil {
				return nil, err
			}
			return &answered{strconv.Quote(any(*out).(wire.Tagged).Tag()), out}, nil
		})
		return
	}
	type answered struct{ Body *Out }
	huma.Register(a.huma, described, func(ctx context.Context, in *In) (*answered, error) {
		out, err := ask(ctx, in)
		if err != nil {
			return nil, err
		}
		return &answered{out}, nil
	})
}

// seen returns the version in an If-Match header, or nothing where any will do
// (RFC 9110, section 13.1.1).
func seen(ifMatch string) string {
	if ifMatch == "*" {
		return ""
	}
	return strings.Trim(strings.TrimPrefix(ifMatch, "W/"), `"`)
}

// answer returns what was found, or the error alone.
func answer[T any](v T, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	return &v, nil
}

// console serves the built console; every address that is not a file is its
// start page, which finds the way itself.
func (a *API) console(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		a.write(
			c.Writer, c.Request,
			fault.New(fault.NotFound, fault.NoSuchAddress, "There is nothing at this address.").
				Advise("See /api/v1/docs for what there is."),
		)
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		c.Status(http.StatusMethodNotAllowed)
		return
	}
	name := strings.TrimPrefix(c.Request.URL.Path, "/")
	if info, err := fs.Stat(a.Console, name); name == "" || err != nil || info.IsDir() {
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names carry a hash
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	if _, err := fs.Stat(a.Console, name); err != nil {
		c.String(http.StatusNotFound, "The console is not built into this program. Build it with “make build”.\n")
		return
	}
	if name == "index.html" {
		// ServeFileFS would redirect index.html to its folder.
		page, err := fs.ReadFile(a.Console, name)
		if err != nil {
			c.Status(http.StatusInternalServerError)
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", page)
		return
	}
	a.packed(c, name)
}

// packed serves a file, compressed where it is kept so and the browser takes that.
func (a *API) packed(c *gin.Context, name string) {
	if strings.HasPrefix(name, "assets/") {
		c.Header("Vary", "Accept-Encoding")
		for _, encoding := range []struct{ name, suffix string }{{"br", ".br"}, {"gzip", ".gz"}} {
			packed, err := fs.ReadFile(a.Console, name+encoding.suffix)
			if err == nil && accepts(c.GetHeader("Accept-Encoding"), encoding.name) {
				c.Header("Content-Encoding", encoding.name)
				c.Data(http.StatusOK, mime.TypeByExtension(path.Ext(name)), packed)
				return
			}
		}
	}
	http.ServeFileFS(c.Writer, c.Request, a.Console, name)
}

// accepts reports whether a header names an encoding, and does not turn it down (RFC 9110,
// section 12.5.3).
func accepts(header, encoding string) bool {
	for offered := range strings.SplitSeq(header, ",") {
		name, weight, _ := strings.Cut(offered, ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) {
			q, ok := strings.CutPrefix(strings.ReplaceAll(weight, " ", ""), "q=")
			return !ok || strings.Trim(q, "0.") != ""
		}
	}
	return false
}
