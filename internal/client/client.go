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
	"strings"
	"time"

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
