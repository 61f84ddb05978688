// Package client calls the service's API for the command line and for tests.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"endeixis/core/plain"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// A Client speaks to one service.
type Client struct {
	base  string
	token string
	http  *http.Client
	// patience is how long what can be asked twice is asked again after a connection was lost,
	// and lost is told of that, once each time.
	patience time.Duration
	lost     func(error)
	// first is done once, before anything is asked for.
	first *first
}

// first is what a client does once, before it asks for anything else.
type first struct {
	mu   sync.Mutex
	done bool
	do   func(ctx context.Context) error
}

// Before returns a client of the same service that calls f once before it asks for anything,
// and asks for nothing where f returns an error. f may use the client that Before was called on.
func (c *Client) Before(f func(ctx context.Context) error) *Client {
	out := *c
	out.first = &first{do: f}
	return &out
}

// come calls what is to be done first, until it has been done.
func (f *first) come(ctx context.Context) error {
	if f == nil {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.done {
		return nil
	}
	err := f.do(ctx)
	f.done = err == nil
	return err
}

// Patiently returns a client of the same service that asks again for so long where a
// connection is lost, or something between here and the service answers in its place. lost is
// told once each time.
func (c *Client) Patiently(patience time.Duration, lost func(error)) *Client {
	out := *c
	out.patience, out.lost = patience, lost
	return &out
}

// An Unreachable error reports that the service could not be reached.
type Unreachable struct {
	Server string
	Cause  error
}

// Error says what to check.
func (u *Unreachable) Error() string {
	return fmt.Sprintf(
		"the service at %s cannot be reached (%v); is it running, and is the address right?", u.Server, cause(u.Cause),
	)
}

// Unwrap returns the cause.
func (u *Unreachable) Unwrap() error { return u.Cause }

// cause leaves out the method and address that net/http puts in front.
func cause(err error) error {
	var e *url.Error
	if errors.As(err, &e) {
		return e.Err
	}
	return err
}

// An Error is a problem that the service answered.
type Error struct{ wire.Problem }

// Error returns what happened and what to do.
func (e *Error) Error() string {
	if e.Advice == "" {
		return e.Detail
	}
	return e.Detail + " " + e.Advice
}

// New returns a client for the service at the address, which may lack the
// scheme. The token may be empty until [Client.SignIn].
func New(server, token string) (*Client, error) {
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a service; it looks like http://host:7474", server)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	return &Client{base: strings.TrimSuffix(u.String(), "/"), token: token, http: &http.Client{Jar: jar}}, nil
}

// Server returns the address of the service.
func (c *Client) Server() string { return c.base }

// maxAnswer bounds what is read of an answer.
const maxAnswer = 256 << 20

// call asks for an operation and reads the answer: again, if the client is patient.
func call[In, Out any](ctx context.Context, c *Client, o wire.Operation[In, Out], in In) (Out, error) {
	out, err := callOnce(ctx, c, o, in)
	if c.patience == 0 || !o.Again && o.Method != http.MethodGet {
		return out, err
	}
	until := time.Now().Add(c.patience)
	told := false
	wait := time.Second / 4
	for ; Lost(err) && ctx.Err() == nil && time.Now().Before(until); wait = min(2*wait, 8*time.Second) {
		if !told && c.lost != nil {
			c.lost(err)
		}
		told = true
		select {
		case <-ctx.Done():
			return out, context.Cause(ctx)
		case <-time.After(wait):
		}
		out, err = callOnce(ctx, c, o, in)
	}
	return out, err
}

// Lost reports whether an error says that the service did not answer: it could not be
// reached, or something else answered in its place, such as a proxy or the page of a network
// that wants something first.
func Lost(err error) bool {
	var unreachable *Unreachable
	var problem *Error
	return errors.As(err, &unreachable) ||
		errors.As(err, &problem) && (problem.Code == notEndeixis || problem.Status == http.StatusServiceUnavailable)
}

// Denied reports whether a service says that nobody is signed in, or not the right one.
func Denied(err error) bool {
	var problem *Error
	return errors.As(err, &problem) &&
		(problem.Status == http.StatusUnauthorized || problem.Status == http.StatusForbidden)
}

// notEndeixis is the code of an answer that is no service's.
const notEndeixis = "not-endeixis"

func callOnce[In, Out any](ctx context.Context, c *Client, o wire.Operation[In, Out], in In) (Out, error) {
	var out Out
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	response, err := send(ctx, c, o, in)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	if err != nil {
		return out, &Unreachable{c.base, err}
	}
	if len(text) == 0 && reflect.TypeFor[Out]() == reflect.TypeFor[wire.Nothing]() {
		return out, nil
	}
	if strings.Contains(response.Header.Get("Content-Type"), "html") {
		return out, foreign(c, response)
	}
	return read[Out](c, response, text)
}

// read reads an answer, or what is told in one. What it does not say is not taken for no or none: then it
// returns an [*Unlike].
func read[T any](c *Client, response *http.Response, text []byte) (T, error) {
	var out, none T
	err := wire.Complete(text, reflect.TypeFor[T]())
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		return none, &Unlike{c.base, response.Header.Get(wire.VersionHeader), err}
	}
	return out, nil
}

// Unlike reports an answer that is not what this program expects.
type Unlike struct {
	Server string
	// Version is that of the service, where it says so.
	Version string
	Cause   error
}

// Error says who differs.
func (u *Unlike) Error() string {
	return fmt.Sprintf(
		"The answer of the service at %s is not what this program expects: %s. This is endeixis %s, and the service is %s. Nothing is told of what it may mean; use programs of one version.",
		u.Server,
		plain.Text(u.Cause.Error()),
		version.Full(),
		named(u.Version),
	)
}

// Unwrap returns the cause.
func (u *Unlike) Unwrap() error { return u.Cause }

// named says which version a service is of, where it has said so.
func named(version string) string {
	if version == "" {
		return "of a version that it does not tell"
	}
	return "endeixisd " + plain.Text(version[:min(len(version), 60)])
}

// A LevelError reports that a service speaks another level of the API. It is told before anything
// of an answer is read.
type LevelError struct {
	Server, Version string
	Level           int
}

// Error says which program is the older one.
func (l *LevelError) Error() string {
	older := "The service is the older one: have it brought up to date, or use a client of its version."
	if l.Level > wire.Level {
		older = "This program is the older one: bring it up to date."
	}
	return fmt.Sprintf(
		"The service at %s, %s, speaks level %d of the API, and this program, endeixis %s, speaks %s. Nothing was read of its answer. %s",
		l.Server,
		named(l.Version),
		l.Level,
		version.Full(),
		wire.Levels(),
		older,
	)
}

// Differs reports whether an error says that service and program are of versions which do not
// understand each other.
func Differs(err error) bool {
	var unlike *Unlike
	var level *LevelError
	return errors.As(err, &unlike) || errors.As(err, &level)
}

// levelled refuses an answer of a level that this program does not speak.
func (c *Client) levelled(response *http.Response) error {
	if strings.Contains(response.Header.Get("Content-Type"), "html") {
		return nil // no service has answered
	}
	level := wire.LevelOf(response.Header.Get(wire.LevelHeader))
	if level >= wire.OldestLevel && level <= wire.Level {
		return nil
	}
	return &LevelError{c.base, response.Header.Get(wire.VersionHeader), level}
}

// foreign is the error of an answer that is no service's.
func foreign(c *Client, response *http.Response) *Error {
	return &Error{
		wire.Problem{
			Status: response.StatusCode, Code: notEndeixis,
			Detail: fmt.Sprintf("What answers at %s is not an Endeixis service (HTTP %s).", c.base, response.Status),
			Advice: "Check the address, and whether a proxy or the page of a network stands between.",
		},
	}
}

// send asks for an operation and turns a problem into an [*Error].
func send[In, Out any](
	ctx context.Context, c *Client, o wire.Operation[In, Out], in In, headers ...string,
) (*http.Response, error) {
	if err := c.first.come(ctx); err != nil {
		return nil, err
	}
	r := requestOf(o.Path, in)
	var body io.Reader
	if r.raw != nil {
		body = bytes.NewReader(r.raw)
		r.headers.Set("Content-Type", "application/octet-stream")
		r.headers.Set("Expect", "100-continue") // one that is refused is not sent
	}
	if r.body != nil {
		text, err := json.Marshal(r.body)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
		r.headers.Set("Content-Type", "application/json")
	}
	address := c.base + wire.Base + r.path
	if len(r.query) > 0 {
		address += "?" + r.query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, o.Method, address, body)
	if err != nil {
		return nil, err
	}
	request.Header = r.headers
	request.Header.Set(wire.LevelHeader, strconv.Itoa(wire.Level))
	request.Header.Set(wire.VersionHeader, version.Full())
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, &Unreachable{c.base, err}
	}
	if err := c.levelled(response); err != nil {
		response.Body.Close()
		return nil, err
	}
	if response.StatusCode == http.StatusNotFound && o.Earlier != "" &&
		wire.LevelOf(response.Header.Get(wire.LevelHeader)) < wire.Level {
		response.Body.Close()
		o.Path, o.Earlier = o.Earlier, ""
		return send(ctx, c, o, in, headers...) // as a service of the level before has it
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	problem := &Error{}
	if json.Unmarshal(text, &problem.Problem) != nil || problem.Code == "" {
		return nil, foreign(c, response)
	}
	return nil, problem
}

// all reads a list page by page, up to limit items; 0 means all of them. page
// asks for the page behind a cursor.
func all[T any](limit int, page func(cursor string) (wire.Page[T], error)) ([]T, error) {
	out := []T{}
	for cursor := ""; ; {
		p, err := page(cursor)
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if limit > 0 && len(out) >= limit {
			return out[:limit], nil
		}
		if p.Next == "" {
			return out, nil
		}
		cursor = p.Next
	}
}

// Met is what a service says of itself to anybody.
type Met struct {
	Version string
	Level   int
	// Differs says why the two do not understand each other, or is nil.
	Differs *LevelError
}

// Greet asks a service which version it is, without anybody being signed in. It returns an
// [*Unreachable], or an [*Error] where something else answers.
func (c *Client) Greet(ctx context.Context) (Met, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+wire.Base+wire.WhoAmI.Path, nil)
	if err != nil {
		return Met{}, err
	}
	request.Header.Set(wire.LevelHeader, strconv.Itoa(wire.Level))
	response, err := c.http.Do(request)
	if err != nil {
		return Met{}, &Unreachable{c.base, err}
	}
	defer response.Body.Close()
	if !strings.Contains(response.Header.Get("Content-Type"), "json") {
		return Met{}, foreign(c, response)
	}
	out := Met{
		Version: response.Header.Get(wire.VersionHeader), Level: wire.LevelOf(response.Header.Get(wire.LevelHeader)),
	}
	errors.As(c.levelled(response), &out.Differs)
	return out, nil
}
