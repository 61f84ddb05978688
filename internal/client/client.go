// Package client calls the service's API for the command line and for tests.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"strings"
	"time"

	"endeixis/core/ledger"
	"endeixis/internal/wire"
)

// A Client speaks to one service.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// An Unreachable error reports that the service could not be reached.
type Unreachable struct {
	Server string
	Cause  error
}

// Error says what to check.
func (u *Unreachable) Error() string {
	return fmt.Sprintf("the service at %s cannot be reached (%v); is it running, and is the address right?", u.Server, cause(u.Cause))
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

// call sends a request and reads the answer into out, unless that is nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any, headers ...string) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	response, err := c.send(ctx, method, path, body, headers...)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	if err != nil {
		return &Unreachable{c.base, err}
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return fmt.Errorf("the service at %s gave an answer that is not understood: %w", c.base, err)
	}
	return nil
}

// send sends a request and turns a problem into an [*Error].
func (c *Client) send(ctx context.Context, method, path string, body io.Reader, headers ...string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
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
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20)) //nolint:errcheck // the status is enough
	problem := &Error{}
	if json.Unmarshal(text, &problem.Problem) != nil || problem.Code == "" {
		problem.Problem = wire.Problem{Status: response.StatusCode, Code: "not-endeixis", Detail: fmt.Sprintf("What answers at %s is not an Endeixis service (HTTP %s).", c.base, response.Status), Advice: "Check the address."}
	}
	return nil, problem
}

// SignIn signs in with a password and exchanges the session for a token, which
// the client uses from then on.
func (c *Client) SignIn(ctx context.Context, name, password, label string, days int) (wire.IssuedToken, error) {
	c.token = ""
	if err := c.call(ctx, http.MethodPost, "/sessions", map[string]string{"name": name, "password": password}, &wire.Me{}); err != nil {
		return wire.IssuedToken{}, err
	}
	issued, err := c.IssueToken(ctx, label, "", days)
	if err != nil {
		return issued, err
	}
	err = c.call(ctx, http.MethodDelete, "/sessions/current", nil, nil)
	c.token = issued.Text
	return issued, err
}

// IssueToken makes a token; an empty role means one's own.
func (c *Client) IssueToken(ctx context.Context, label, role string, days int) (wire.IssuedToken, error) {
	in := map[string]any{"label": label, "days": days}
	if role != "" {
		in["role"] = role
	}
	var out wire.IssuedToken
	return out, c.call(ctx, http.MethodPost, "/tokens", in, &out)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return all[wire.Token](ctx, c, "/tokens", nil, 0)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// RevokeOwnToken ends the token that this client uses.
func (c *Client) RevokeOwnToken(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/tokens/current", nil, nil)
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Me, error) {
	var out wire.Me
	return out, c.call(ctx, http.MethodGet, "/me", nil, &out)
}

// Status tells the state of the service.
func (c *Client) Status(ctx context.Context) (wire.Status, error) {
	var out wire.Status
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
}

// AddUser adds a person.
func (c *Client) AddUser(ctx context.Context, name, fullName, role, password string) error {
	return c.call(ctx, http.MethodPost, "/users", map[string]string{"name": name, "full_name": fullName, "role": role, "password": password}, nil)
}

// Users lists people.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	return all[wire.User](ctx, c, "/users", nil, 0)
}

// all reads a list page by page, up to limit items; 0 means all of them.
func all[T any](ctx context.Context, c *Client, path string, query url.Values, limit int) ([]T, error) {
	out := []T{}
	if query == nil {
		query = url.Values{}
	}
	for {
		var page wire.Page[T]
		if err := c.call(ctx, http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if limit > 0 && len(out) >= limit {
			return out[:limit], nil
		}
		if page.Next == "" {
			return out, nil
		}
		query.Set("cursor", page.Next)
	}
}

// A BatchRequest asks for a batch.
type BatchRequest struct {
	Depot      string `json:"depot"`
	Path       string `json:"path"`
	Label      string `json:"label,omitempty"`
	Publisher  string `json:"publisher,omitempty"`
	RequireAll bool   `json:"require_all,omitempty"`

	Corrections []wire.Correction `json:"corrections,omitempty"`
	Origins     []wire.ComesFrom  `json:"origins,omitempty"`
	Copies      []wire.GivenCopy  `json:"copies,omitempty"`
}

// Survey shows what a batch would check.
func (c *Client) Survey(ctx context.Context, depot, path string, corrections []wire.Correction) (wire.Survey, error) {
	var out wire.Survey
	in := map[string]any{"depot": depot, "path": path, "corrections": append([]wire.Correction{}, corrections...)}
	return out, c.call(ctx, http.MethodPost, "/surveys", in, &out)
}

// RunBatch starts a batch. The key makes it safe to repeat.
func (c *Client) RunBatch(ctx context.Context, r BatchRequest, key string) (wire.Batch, error) {
	var out wire.Batch
	return out, c.call(ctx, http.MethodPost, "/batches", r, &out, "Idempotency-Key", key)
}

// Copies tells how copies of a batch's manifests compare.
func (c *Client) Copies(ctx context.Context, id int64) ([]wire.Copy, error) {
	return all[wire.Copy](ctx, c, fmt.Sprintf("/batches/%d/copies", id), nil, 0)
}

// Policies lists the changes of the policy and of what publishers have
// otherwise, the newest first.
func (c *Client) Policies(ctx context.Context) ([]wire.PolicyVersion, error) {
	return all[wire.PolicyVersion](ctx, c, "/policies", nil, 0)
}

// SetPolicy puts a new version of the policy in force. The document is a whole
// policy in JSON; the service refuses one with fields missing or unknown.
func (c *Client) SetPolicy(ctx context.Context, document json.RawMessage, reason string) (wire.PolicyVersion, error) {
	var out wire.PolicyVersion
	return out, c.call(ctx, http.MethodPost, "/policies", map[string]any{"document": document, "reason": reason}, &out)
}

// A NewWaiver asks for an exception.
type NewWaiver struct {
	Ground    string    `json:"ground"`
	Publisher string    `json:"publisher,omitempty"`
	Pattern   string    `json:"pattern,omitempty"`
	Until     time.Time `json:"until"`
	Reason    string    `json:"reason"`
}

// Waivers lists the waivers, the newest first.
func (c *Client) Waivers(ctx context.Context) ([]wire.Waiver, error) {
	return all[wire.Waiver](ctx, c, "/waivers", nil, 0)
}

// GrantWaiver grants a waiver.
func (c *Client) GrantWaiver(ctx context.Context, n NewWaiver) (wire.Waiver, error) {
	var out wire.Waiver
	return out, c.call(ctx, http.MethodPost, "/waivers", n, &out)
}

// EndWaiver ends a waiver before its day.
func (c *Client) EndWaiver(ctx context.Context, id int64, reason string) (wire.Waiver, error) {
	var out wire.Waiver
	return out, c.call(ctx, http.MethodPost, fmt.Sprintf("/waivers/%d/end", id), map[string]string{"reason": reason}, &out)
}

// SetOwnPolicy gives a publisher fields of its own; an empty object leaves it
// none.
func (c *Client) SetOwnPolicy(ctx context.Context, publisher string, fields json.RawMessage, reason string) (wire.PolicyVersion, error) {
	var out wire.PolicyVersion
	return out, c.call(ctx, http.MethodPost, "/publishers/"+url.PathEscape(publisher)+"/policies", map[string]any{"fields": fields, "reason": reason}, &out)
}

// Batch returns a batch.
func (c *Client) Batch(ctx context.Context, id int64) (wire.Batch, error) {
	var out wire.Batch
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/batches/%d", id), nil, &out)
}

// Batches lists batches, the newest first.
func (c *Client) Batches(ctx context.Context, verdict string, limit int) ([]wire.Batch, error) {
	query := url.Values{}
	if verdict != "" {
		query.Set("verdict", verdict)
	}
	return all[wire.Batch](ctx, c, "/batches", query, limit)
}

// Items returns all items of a batch.
func (c *Client) Items(ctx context.Context, id int64) ([]wire.Item, error) {
	return c.ItemsMatching(ctx, id, "")
}

// ItemsMatching returns the items whose path, or its last part, matches a
// pattern with * and ?; an empty pattern matches all.
func (c *Client) ItemsMatching(ctx context.Context, id int64, pattern string) ([]wire.Item, error) {
	query := url.Values{"limit": {"500"}}
	if pattern != "" {
		query.Set("match", pattern)
	}
	return all[wire.Item](ctx, c, fmt.Sprintf("/batches/%d/items", id), query, 0)
}

// Absent returns the entries of a batch without a file.
func (c *Client) Absent(ctx context.Context, id int64) ([]wire.Absent, error) {
	return all[wire.Absent](ctx, c, fmt.Sprintf("/batches/%d/absent", id), nil, 0)
}

// Follow calls f for every state of a batch until it is closed. When the
// connection breaks it comes back by itself, for a minute.
func (c *Client) Follow(ctx context.Context, id int64, f func(wire.Batch)) (wire.Batch, error) {
	last := ""
	broken := time.Time{}
	for {
		b, closed, err := c.followOnce(ctx, id, &last, f)
		if closed {
			return b, nil
		}
		if ctx.Err() != nil {
			return b, context.Cause(ctx)
		}
		var problem *Error
		if errors.As(err, &problem) && problem.Status != http.StatusServiceUnavailable {
			return b, err
		}
		if err == nil || b.ID != 0 {
			broken = time.Time{} // something came: the minute starts again
		}
		if broken.IsZero() {
			broken = time.Now()
		}
		if err != nil && time.Since(broken) > time.Minute {
			return b, err
		}
		select {
		case <-ctx.Done():
			return b, context.Cause(ctx)
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// followOnce reads one stream of server-sent events to its end.
func (c *Client) followOnce(ctx context.Context, id int64, last *string, f func(wire.Batch)) (b wire.Batch, closed bool, err error) {
	headers := []string{"Accept", "text/event-stream"}
	if *last != "" {
		headers = append(headers, "Last-Event-ID", *last)
	}
	response, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/batches/%d/events", id), nil, headers...)
	if err != nil {
		return b, false, err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	event := "batch"
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "":
			event = "batch"
		case "id":
			if _, err := strconv.Atoi(value); err == nil {
				*last = value
			}
		case "event":
			event = value
		case "data":
			if event == "problem" {
				problem := &Error{}
				if err := json.Unmarshal([]byte(value), &problem.Problem); err != nil {
					return b, false, err
				}
				return b, false, problem
			}
			if err := json.Unmarshal([]byte(value), &b); err != nil {
				return b, false, err
			}
			f(b)
			if b.Closed() {
				return b, true, nil
			}
		}
	}
	return b, false, lines.Err()
}

// PreviewImport tells what importing keys would do.
func (c *Client) PreviewImport(ctx context.Context, data []byte) (wire.Import, error) {
	var out wire.Import
	return out, c.call(ctx, http.MethodPost, "/key-readings", map[string]any{"data": data}, &out)
}

// LookUpKeys asks the configured key directories.
func (c *Client) LookUpKeys(ctx context.Context, query string) (wire.LookUp, error) {
	var out wire.LookUp
	return out, c.call(ctx, http.MethodPost, "/key-look-ups", map[string]string{"query": query}, &out)
}

// ImportFoundKey imports one of the keys that a look-up found.
func (c *Client) ImportFoundKey(ctx context.Context, query, fingerprint, publisher string) (wire.Imported, error) {
	var out wire.Imported
	return out, c.call(ctx, http.MethodPost, "/key-look-ups/imports", map[string]string{"query": query, "fingerprint": fingerprint, "publisher": publisher}, &out)
}

// RefreshKeys looks keys up again, all of them when none is named.
func (c *Client) RefreshKeys(ctx context.Context, fingerprints []string) ([]wire.Refreshed, error) {
	var out wire.Page[wire.Refreshed]
	err := c.call(ctx, http.MethodPost, "/key-refreshes", map[string][]string{"fingerprints": append([]string{}, fingerprints...)}, &out)
	return out.Items, err
}

// ImportKeys imports keys.
func (c *Client) ImportKeys(ctx context.Context, data []byte, source, publisher string) (wire.Import, error) {
	var out wire.Import
	return out, c.call(ctx, http.MethodPost, "/keys", map[string]any{"data": data, "source": source, "publisher": publisher}, &out)
}

// Keys lists the keyring.
func (c *Client) Keys(ctx context.Context, f KeyFilter) ([]wire.Key, error) {
	query := url.Values{"limit": {"500"}}
	for name, value := range map[string]string{"state": f.State, "publisher": f.Publisher, "text": f.Text} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if f.Waiting {
		query.Set("waiting", "true")
	}
	return all[wire.Key](ctx, c, "/keys", query, 0)
}

// A KeyFilter says which keys are listed; the zero value lists all.
type KeyFilter struct {
	State, Publisher string
	// Text is a part of a user ID or of the fingerprint.
	Text string
	// Waiting lists what waits for a curator.
	Waiting bool
}

// Key returns one key.
func (c *Client) Key(ctx context.Context, fingerprint string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint), nil, &out)
}

// SightKey notes a sighting.
func (c *Client) SightKey(ctx context.Context, fingerprint, read, channel, place, note string) (wire.Sight, error) {
	var out wire.Sight
	in := map[string]string{"read": read, "channel": channel, "place": place, "note": note}
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/sightings", in, &out)
}

// An Admission asks that a candidate count for a publisher.
type Admission struct {
	Typed     string `json:"typed"`
	Publisher string `json:"publisher"`
	// Role is "release" or "anchor"; empty means the former.
	Role   string `json:"role,omitempty"`
	Reason string `json:"reason"`
}

// AdmitKey admits a candidate or, where two curators decide, proposes it.
func (c *Client) AdmitKey(ctx context.Context, fingerprint string, a Admission) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/admission", a, &out)
}

// KeyUse tells what a key has signed that was verified here.
func (c *Client) KeyUse(ctx context.Context, fingerprint string) (wire.KeyUse, error) {
	var out wire.KeyUse
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint)+"/use", nil, &out)
}

// Reach tells what rests on a key, and what a withdrawal would change.
func (c *Client) Reach(ctx context.Context, fingerprint string) (wire.Reach, error) {
	var out wire.Reach
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint)+"/reach", nil, &out)
}

// Reassess asks that what is selected be judged again.
func (c *Client) Reassess(ctx context.Context, sel wire.Selection, reason string) (wire.Reassessment, error) {
	var out wire.Reassessment
	in := struct {
		wire.Selection
		Reason string `json:"reason"`
	}{sel, reason}
	return out, c.call(ctx, http.MethodPost, "/reassessments", in, &out)
}

// Reassessment shows a run with what it changed.
func (c *Client) Reassessment(ctx context.Context, id int64) (wire.Reassessment, error) {
	var out wire.Reassessment
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/reassessments/%d", id), nil, &out)
}

// Reassessments lists the runs, the newest first.
func (c *Client) Reassessments(ctx context.Context) ([]wire.Reassessment, error) {
	return all[wire.Reassessment](ctx, c, "/reassessments", nil, 0)
}

// DeclineProposal turns down what another curator proposed.
func (c *Client) DeclineProposal(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "decline", reason)
}

// WithdrawKey ends that a key counts.
func (c *Client) WithdrawKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "withdrawal", reason)
}

// ReconsiderKey makes a withdrawn key a candidate again.
func (c *Client) ReconsiderKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "reconsideration", reason)
}

func (c *Client) keyStep(ctx context.Context, fingerprint, step, reason string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/"+step, map[string]string{"reason": reason}, &out)
}

// ResolveConflict explains a sighting that contradicts its key, named by its
// record.
func (c *Client) ResolveConflict(ctx context.Context, record int64, reason string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, fmt.Sprintf("/sightings/%d/resolution", record), map[string]string{"reason": reason}, &out)
}

// A PublisherChange holds what is to change about a publisher; nil stays.
type PublisherChange struct {
	Name    *string  `json:"name,omitempty"`
	Contact *string  `json:"contact,omitempty"`
	Scope   []string `json:"scope,omitempty"`
}

// SetPublisher changes what is known about a publisher.
func (c *Client) SetPublisher(ctx context.Context, slug string, change PublisherChange) (wire.Publisher, error) {
	var out wire.Publisher
	return out, c.call(ctx, http.MethodPatch, "/publishers/"+url.PathEscape(slug), change, &out)
}

// AddPublisher adds a publisher.
func (c *Client) AddPublisher(ctx context.Context, slug, name, contact string, scope []string) (wire.Publisher, error) {
	var out wire.Publisher
	in := map[string]any{"slug": slug, "name": name, "contact": contact, "scope": append([]string{}, scope...)}
	return out, c.call(ctx, http.MethodPost, "/publishers", in, &out)
}

// Publishers lists publishers.
func (c *Client) Publishers(ctx context.Context) ([]wire.Publisher, error) {
	return all[wire.Publisher](ctx, c, "/publishers", nil, 0)
}

// Publisher returns one publisher.
func (c *Client) Publisher(ctx context.Context, slug string) (wire.Publisher, error) {
	var out wire.Publisher
	return out, c.call(ctx, http.MethodGet, "/publishers/"+url.PathEscape(slug), nil, &out)
}

// RecordQuery narrows a list of records.
type RecordQuery struct {
	Kind, Verdict, Name string
	Batch               int64
	Limit               int
}

// Records lists records, the newest first.
func (c *Client) Records(ctx context.Context, q RecordQuery) ([]wire.Record, error) {
	query := url.Values{}
	for name, value := range map[string]string{"kind": q.Kind, "verdict": q.Verdict, "name": q.Name} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if q.Batch != 0 {
		query.Set("batch", strconv.FormatInt(q.Batch, 10))
	}
	return all[wire.Record](ctx, c, "/records", query, q.Limit)
}

// Record returns one record.
func (c *Client) Record(ctx context.Context, position int64) (wire.Record, error) {
	var out wire.Record
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/records/%d", position), nil, &out)
}

// Receipt returns the receipt of a record.
func (c *Client) Receipt(ctx context.Context, position int64) (ledger.Receipt, error) {
	var out ledger.Receipt
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/records/%d/receipt", position), nil, &out)
}

// Checkpoint returns a signed checkpoint of the ledger as it is.
func (c *Client) Checkpoint(ctx context.Context) (wire.Checkpoint, error) {
	var out wire.Checkpoint
	return out, c.call(ctx, http.MethodGet, "/ledger/checkpoint", nil, &out)
}

// Audit recomputes the ledger. kept is a checkpoint that was kept outside, or
// empty.
func (c *Client) Audit(ctx context.Context, kept string) (wire.Audit, error) {
	in := map[string]string{}
	if kept != "" {
		in["checkpoint"] = kept
	}
	var out wire.Audit
	return out, c.call(ctx, http.MethodPost, "/ledger/audits", in, &out)
}
