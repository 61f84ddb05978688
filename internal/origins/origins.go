// Package origins fetches copies of manifests from the places that the
// configuration names, and from no others. What is fetched is bounded in size
// and time, and a redirect that leads out of the place is not followed.
package origins

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/fault"
)

// An Origin is one configured place.
type Origin struct {
	Name    string
	URL     string
	Channel survey.Channel
}

// Limits bound one fetch. The zero value means the defaults.
type Limits struct {
	// Bytes bounds what is taken. Default 16 MiB.
	Bytes int64
	// Time bounds the whole fetch. Default 15 seconds.
	Time time.Duration
}

// Origins is the set of configured places.
type Origins struct {
	places map[string]place
	limits Limits
	client *http.Client
}

type place struct {
	Origin
	base *url.URL
}

// New makes the set. It fails when an address or a channel makes no sense.
func New(configured []Origin, limits Limits) (*Origins, error) {
	if limits.Bytes == 0 {
		limits.Bytes = 16 << 20
	}
	if limits.Time == 0 {
		limits.Time = 15 * time.Second
	}
	// Go-betweens would see and could change what is asked for.
	transport := &http.Transport{Proxy: nil, ResponseHeaderTimeout: limits.Time, TLSHandshakeTimeout: limits.Time, MaxResponseHeaderBytes: 64 << 10}
	o := &Origins{places: map[string]place{}, limits: limits, client: &http.Client{Transport: transport}}
	for _, c := range configured {
		base, err := url.Parse(c.URL)
		if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil || base.RawQuery != "" {
			return nil, fmt.Errorf("origin %s: %q is not an address that starts with http:// or https:// and names a folder", c.Name, c.URL)
		}
		if !slices.Contains(survey.Channels(), c.Channel) {
			return nil, fmt.Errorf("origin %s: the channel %q does not exist; there are %s", c.Name, c.Channel, ChannelNames())
		}
		if !strings.HasSuffix(base.Path, "/") {
			base.Path += "/"
		}
		o.places[c.Name] = place{c, base}
	}
	return o, nil
}

// ChannelNames lists the channels for people.
func ChannelNames() string {
	var names []string
	for _, c := range survey.Channels() {
		names = append(names, string(c))
	}
	return strings.Join(names, ", ")
}

// All lists the places by name.
func (o *Origins) All() []Origin {
	var out []Origin
	for _, name := range slices.Sorted(maps.Keys(o.places)) {
		out = append(out, o.places[name].Origin)
	}
	return out
}

// Where returns the channel and the full address of a file at a place. It
// returns a [*fault.Fault] for a place that is not configured, and for a path
// that leads out of it.
func (o *Origins) Where(name, file string) (survey.Origin, error) {
	p, ok := o.places[name]
	if !ok {
		f := fault.New(fault.Invalid, "origin-unknown", "There is no origin called %s.", plain.Quoted(name)).At("copies")
		if len(o.places) == 0 {
			return survey.Origin{}, f.Advise("None is configured; the administrator adds them under origins.")
		}
		return survey.Origin{}, f.Advise("Origins here: %s.", strings.Join(slices.Sorted(maps.Keys(o.places)), ", "))
	}
	clean, why, ok := manifest.SafeName(file)
	if !ok || clean != path.Clean(file) {
		if why == "" {
			why = "it is not a plain path with slashes"
		}
		return survey.Origin{}, fault.New(fault.Invalid, "origin-path", "%s is not a path at the origin %s: %s.", plain.Quoted(file), name, why).
			Advise("Give the path of the manifest below %s.", p.URL).At("copies")
	}
	return survey.Origin{Channel: p.Channel, Place: p.base.JoinPath(strings.Split(clean, "/")...).String()}, nil
}

// A FetchError says why a copy could not be had.
type FetchError struct {
	Place  string
	Reason string
}

// Error names the place and the reason.
func (e *FetchError) Error() string { return fmt.Sprintf("%s: %s", e.Place, e.Reason) }

var errLeaves = errors.New("it redirects to another place, which is not followed")

// Fetch gets one file. Trouble with the place is a [*FetchError]; faults of
// [Origins.Where] and the end of ctx are returned as they are.
func (o *Origins) Fetch(ctx context.Context, name, file string) ([]byte, error) {
	at, err := o.Where(name, file)
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, o.limits.Time)
	defer cancel()
	content, err := o.get(bounded, o.places[name].base, at.Place)
	switch {
	case err == nil:
		return content, nil
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case bounded.Err() != nil:
		return nil, &FetchError{at.Place, fmt.Sprintf("it was not there in full within %s", o.limits.Time)}
	}
	return nil, &FetchError{at.Place, plain.Text(err.Error())}
}

func (o *Origins) get(ctx context.Context, base *url.URL, address string) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	client := *o.client
	client.CheckRedirect = func(next *http.Request, via []*http.Request) error {
		if next.URL.Scheme != base.Scheme || next.URL.Host != base.Host || !strings.HasPrefix(path.Clean(next.URL.Path)+"/", base.Path) {
			return errLeaves
		}
		if len(via) > 5 {
			return errors.New("it redirects more than five times")
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
		return nil, fmt.Errorf("it answered “%s”", plain.Text(response.Status))
	}
	if kind, _, err := mime.ParseMediaType(response.Header.Get("Content-Type")); err == nil && kind == "text/html" {
		return nil, errors.New("it answered with a page, not with a file")
	}
	content, err := io.ReadAll(io.LimitReader(response.Body, o.limits.Bytes+1))
	if err == nil && int64(len(content)) > o.limits.Bytes {
		err = fmt.Errorf("it sends more than %d bytes, which no manifest has", o.limits.Bytes)
	}
	return content, err
}
