package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"endeixis/internal/wire"
)

// Content fetches the bytes of a file that the service can read and that has size bytes, from
// an offset on. What is lost on the way is asked for again from where it stopped, as long as
// the client is patient. The caller holds the bytes against what was measured.
func (c *Client) Content(ctx context.Context, batch int64, n int, offset, size int64) io.ReadCloser {
	return &content{ctx: ctx, c: c, batch: batch, n: n, at: offset, size: size}
}

type content struct {
	ctx      context.Context //nolint:containedctx // a reader has no other way to end
	c        *Client
	batch    int64
	n        int
	at, size int64
	body     io.ReadCloser
	// until is when waiting for the service ends; it is zero while bytes arrive.
	until time.Time
	wait  time.Duration
}

// Read reads what comes next.
func (r *content) Read(p []byte) (int, error) {
	for r.at < r.size {
		if r.body == nil {
			body, err := r.open()
			if err != nil {
				if err = r.again(err); err != nil {
					return 0, err
				}
				continue
			}
			r.body = body
		}
		n, err := r.body.Read(p[:min(int64(len(p)), r.size-r.at)])
		r.at += int64(n)
		if n > 0 {
			r.until = time.Time{}
			return n, nil
		}
		if err == nil {
			continue
		}
		r.body.Close()
		r.body = nil
		if err == io.EOF { //nolint:errorlint // readers return it as it is
			err = io.ErrUnexpectedEOF // the file is shorter, or the connection was cut
		}
		if err = r.again(&Unreachable{r.c.base, err}); err != nil {
			return 0, err
		}
	}
	return 0, io.EOF
}

// again waits before the next try, or returns the error where there is none.
func (r *content) again(err error) error {
	if r.ctx.Err() != nil {
		return context.Cause(r.ctx)
	}
	now := time.Now()
	if r.until.IsZero() {
		r.until, r.wait = now.Add(r.c.patience), time.Second/4
		if r.c.lost != nil && Lost(err) && r.c.patience > 0 {
			r.c.lost(err)
		}
	}
	if !Lost(err) || !now.Before(r.until) {
		return err
	}
	select {
	case <-r.ctx.Done():
		return context.Cause(r.ctx)
	case <-time.After(r.wait):
	}
	r.wait = min(2*r.wait, 8*time.Second)
	return nil
}

func (r *content) open() (io.ReadCloser, error) {
	response, err := send(
		r.ctx, r.c, wire.FetchContent,
		wire.ContentRequest{ID: r.batch, N: r.n, Range: fmt.Sprintf("bytes=%d-%d", r.at, r.size-1)},
	)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusPartialContent {
		response.Body.Close()
		return nil, foreign(r.c, response)
	}
	return response.Body, nil
}

// Close ends the fetching.
func (r *content) Close() error {
	if r.body != nil {
		return r.body.Close()
	}
	return nil
}
