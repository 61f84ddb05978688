package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"endeixis/internal/wire"
)

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
