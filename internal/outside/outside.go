// Package outside fetches from places that the configuration names. What is
// fetched is bounded in size and time, a redirect that leads out of the place is
// not followed, and a page is not taken for a file.
package outside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"endeixis/core/plain"
)

// Limits bound one fetch.
type Limits struct {
	// Bytes bounds what is taken.
	Bytes int64
	// Time bounds the whole fetch.
	Time time.Duration
}

// A Client fetches. It is safe for concurrent use.
type Client struct {
	limits Limits
	http   *http.Client
}

// New returns a Client.
func New(limits Limits) *Client {
	// Go-betweens would see and could change what is asked for.
	transport := &http.Transport{Proxy: nil, MaxResponseHeaderBytes: 64 << 10} // the time is bounded by each fetch
	return &Client{limits: limits, http: &http.Client{Transport: transport}}
}

// ParseBase reads the address of a place. Everything below it may be asked for.
func ParseBase(address string) (*url.URL, error) {
	base, err := url.Parse(address)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil ||
		base.RawQuery != "" {
		return nil, fmt.Errorf("%q is not an address that starts with http:// or https:// and names a folder", address)
	}
	if !strings.HasSuffix(base.Path, "/") {
		base.Path += "/"
	}
	return base, nil
}

// A StatusError is an answer that is none: the place has not what was asked for,
// or does not say so.
type StatusError struct {
	Code   int
	Status string
}

// Error repeats the answer.
func (e *StatusError) Error() string {
	return fmt.Sprintf("it answered “%s”", plain.Text(e.Status))
}

var (
	errLeaves = errors.New("it redirects to another place, which is not followed")
	errOften  = errors.New("it redirects more than five times")
	errPage   = errors.New("it answered with a page, not with a file")
)

// Get fetches an address at or below base. Errors are in words for people; when
// ctx ends, its cause is returned as it is.
func (c *Client) Get(ctx context.Context, base *url.URL, address string) ([]byte, error) {
	bounded, cancel := context.WithTimeout(ctx, c.limits.Time)
	defer cancel()
	content, err := c.get(bounded, base, address)
	switch {
	case err == nil:
		return content, nil
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case bounded.Err() != nil:
		return nil, fmt.Errorf("it was not there in full within %s", c.limits.Time)
	}
	return nil, err
}

func (c *Client) get(ctx context.Context, base *url.URL, address string) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	client := *c.http
	client.CheckRedirect = func(next *http.Request, via []*http.Request) error {
		if next.URL.Scheme != base.Scheme || next.URL.Host != base.Host ||
			!strings.HasPrefix(path.Clean(next.URL.Path)+"/", base.Path) {
			return errLeaves
		}
		if len(via) > 5 {
			return errOften
		}
		return nil
	}
	response, err := client.Do(request)
	var inner *url.Error
	if errors.As(err, &inner) {
		err = inner.Err // without the address, which is shown beside it
	}
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, &StatusError{response.StatusCode, response.Status}
	}
	if kind, _, err := mime.ParseMediaType(response.Header.Get("Content-Type")); err == nil && kind == "text/html" {
		return nil, errPage
	}
	content, err := io.ReadAll(io.LimitReader(response.Body, c.limits.Bytes+1))
	if err == nil && int64(len(content)) > c.limits.Bytes {
		err = fmt.Errorf("it sends more than %d bytes", c.limits.Bytes)
	}
	return content, err
}
