// Package origins fetches copies of manifests from the places that the
// configuration names, and from no others. What is fetched is bounded in size
// and time, and a redirect that leads out of the place is not followed.
package origins

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/outside"
)

// An Origin is one configured place.
type Origin struct {
	Name    string
	URL     string
	Channel survey.Channel
}

// Origins is the set of configured places.
type Origins struct {
	places map[string]place
	client *outside.Client
}

type place struct {
	Origin
	base *url.URL
}

// New makes the set. It fails when an address or a channel makes no sense. Zero
// limits mean 16 MiB and 15 seconds.
func New(configured []Origin, limits outside.Limits) (*Origins, error) {
	if limits.Bytes == 0 {
		limits.Bytes = 16 << 20
	}
	if limits.Time == 0 {
		limits.Time = 15 * time.Second
	}
	o := &Origins{places: map[string]place{}, client: outside.New(limits)}
	for _, c := range configured {
		base, err := outside.ParseBase(c.URL)
		if err != nil {
			return nil, fmt.Errorf("origin %s: %w", c.Name, err)
		}
		if !slices.Contains(survey.Channels(), c.Channel) {
			return nil, fmt.Errorf(
				"origin %s: the channel %q does not exist; there are %s", c.Name, c.Channel, ChannelNames(),
			)
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
func (o *Origins) Where(name, file string) (survey.Provenance, error) {
	p, ok := o.places[name]
	if !ok {
		f := fault.New(fault.Invalid, fault.OriginUnknown, "There is no origin called %s.", plain.Quoted(name)).
			At("copies")
		if len(o.places) == 0 {
			return survey.Provenance{}, f.Advise("None is configured; the administrator adds them under origins.")
		}
		return survey.Provenance{}, f.Advise(
			"Origins here: %s.", strings.Join(slices.Sorted(maps.Keys(o.places)), ", "),
		)
	}
	// What stands for a dot or a slash in an address would be one at the origin.
	if decoded, err := url.PathUnescape(file); err != nil || decoded != file {
		return survey.Provenance{}, fault.New(
			fault.Invalid, fault.OriginPath,
			"%s is not a path at the origin %s: it has a percent sign that stands for another character.",
			plain.Quoted(file), name,
		).
			Advise("Write the character itself.").
			At("copies")
	}
	clean, why, ok := manifest.SafeName(file)
	if !ok || clean != path.Clean(file) {
		if why == "" {
			why = "it is not a plain path with slashes"
		}
		return survey.Provenance{}, fault.New(
			fault.Invalid, fault.OriginPath, "%s is not a path at the origin %s: %s.", plain.Quoted(file), name, why,
		).
			Advise("Give the path of the manifest below %s.", p.URL).
			At("copies")
	}
	return survey.Provenance{Channel: p.Channel, Place: joined(p.base, clean)}, nil
}

// joined returns the address of a path below a base. Each element is written so
// that it stands for itself.
func joined(base *url.URL, file string) string {
	out := *base
	elements := strings.Split(file, "/")
	for i := range elements {
		elements[i] = url.PathEscape(elements[i])
	}
	out.Path = strings.TrimSuffix(base.Path, "/") + "/" + file
	out.RawPath = strings.TrimSuffix(base.EscapedPath(), "/") + "/" + strings.Join(elements, "/")
	return out.String()
}

// A FetchError says why a copy could not be had.
type FetchError struct {
	Place  string
	Reason string
}

// Error names the place and the reason.
func (e *FetchError) Error() string { return fmt.Sprintf("%s: %s", e.Place, e.Reason) }

// Fetch gets one file. Trouble with the place is a [*FetchError]; faults of
// [Origins.Where] and the end of ctx are returned as they are.
func (o *Origins) Fetch(ctx context.Context, name, file string) ([]byte, error) {
	at, err := o.Where(name, file)
	if err != nil {
		return nil, err
	}
	content, err := o.client.Get(ctx, o.places[name].base, at.Place)
	switch {
	case err == nil:
		return content, nil
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	}
	return nil, &FetchError{at.Place, plain.Text(err.Error())}
}
