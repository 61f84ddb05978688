package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"endeixis/core/plain"
	"endeixis/internal/fault"
)

// A Problem is an error for people and programs (RFC 9457), with our own
// members code, advice, field and facts.
type Problem struct {
	Type   string     `json:"type" doc:"Always about:blank; the code tells the kind of problem." example:"about:blank"`
	Title  string     `json:"title" doc:"The HTTP status in words." example:"Not Found"`
	Status int        `json:"status" doc:"The HTTP status." example:"404"`
	Detail string     `json:"detail" doc:"What happened, for people."`
	Code   fault.Code `json:"code" doc:"The kind of problem; stable." example:"batch-unknown"`
	Advice string     `json:"advice,omitempty" doc:"What to do next."`
	Field  string     `json:"field,omitempty" doc:"The offending field of the request."`

	Facts  []string            `json:"facts,omitempty" doc:"Further findings, one sentence each."`
	Errors []*huma.ErrorDetail `json:"errors,omitempty" doc:"The fields that do not fit."`
}

// Error returns the detail.
func (p *Problem) Error() string { return p.Detail }

// GetStatus returns the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// GetHeaders says when to try again where too much was asked.
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	if p.Status == http.StatusTooManyRequests {
		h.Set("Retry-After", "10")
	}
	return h
}

// ContentType names the media type of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

var statusOf = map[fault.Kind]int{
	fault.Invalid:         http.StatusUnprocessableEntity,
	fault.Unauthenticated: http.StatusUnauthorized,
	fault.Denied:          http.StatusForbidden,
	fault.NotFound:        http.StatusNotFound,
	fault.Conflict:        http.StatusConflict,
	fault.Stale:           http.StatusPreconditionFailed,
	fault.Unavailable:     http.StatusServiceUnavailable,
	fault.Altered:         http.StatusServiceUnavailable,
	fault.TooMany:         http.StatusTooManyRequests,
	fault.Malformed:       http.StatusBadRequest,
}

// problemOf turns an error of the service into a problem. What is not a fault
// is a mistake of ours: it is logged, and people are told no details.
func problemOf(ctx context.Context, log *slog.Logger, err error) *Problem {
	var f *fault.Fault
	if !errors.As(err, &f) {
		if ctx.Err() == nil {
			log.ErrorContext(ctx, "request failed", "error", err)
		}
		f = fault.New(fault.Kind(-1), fault.Internal, "Something went wrong in the service.").
			Advise("The administrator finds the details in the service's log.")
	} else if f.Kind == fault.Unavailable || f.Kind == fault.Altered {
		log.WarnContext(ctx, "request could not be served", "error", err)
	}
	status, ok := statusOf[f.Kind]
	if !ok {
		status = http.StatusInternalServerError
	}
	return &Problem{
		Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: f.Sentence,
		Code: f.Code, Advice: f.Advice, Field: f.Field, Facts: f.Facts,
	}
}

// newProblem is what huma calls for errors of its own, above all requests that
// do not fit their description.
func newProblem(status int, message string, errs ...error) huma.StatusError {
	p := &Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: message, Code: fault.Request}
	if status == http.StatusUnprocessableEntity || status == http.StatusBadRequest {
		p.Code = fault.RequestInvalid
		p.Detail = "The request does not fit its description."
		p.Advice = "See “errors” for the fields, and /api/v1/docs for the description."
	}
	if status == http.StatusRequestEntityTooLarge {
		p.Code = fault.RequestTooLarge
	}
	for _, err := range errs[:min(len(errs), maxErrors)] {
		var detail huma.ErrorDetailer
		if errors.As(err, &detail) {
			d := detail.ErrorDetail()
			// The value stays out: it can be the whole request.
			p.Errors = append(
				p.Errors, &huma.ErrorDetail{Message: shortened(d.Message), Location: shortened(d.Location)},
			)
		}
	}
	switch {
	case len(p.Errors) > 0:
		p.Field = p.Errors[0].Location
		p.Detail = fmt.Sprintf(
			"The request does not fit its description: %s (%s).", plain.Text(p.Errors[0].Message), plain.Text(p.Field),
		)
		if more := len(errs) - len(p.Errors); more > 0 {
			p.Facts = []string{fmt.Sprintf("%d more fields do not fit.", more)}
		}
	case status == http.StatusBadRequest && len(errs) > 0:
		p.Detail = fmt.Sprintf("The request cannot be read: %s.", plain.Text(shortened(errs[0].Error())))
	}
	return p
}
