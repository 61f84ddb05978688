// Package fault holds the one type of error that reaches people. It says what
// happened, what to do, and carries a stable code; the API, the client and the
// console all show the same words.
package fault

import (
	"errors"
	"fmt"
	"strings"

	"endeixis/core/plain"
)

// A Kind groups faults by who can mend them.
type Kind int

// The kinds.
const (
	// Invalid input: the sender has to change the request.
	Invalid Kind = iota
	// Unauthenticated: sign in first.
	Unauthenticated
	// Denied: signed in, and not allowed.
	Denied
	// NotFound: the thing is not there.
	NotFound
	// Conflict: the thing is in a state that does not allow it.
	Conflict
	// Stale: the thing has changed since the sender looked.
	Stale
	// Unavailable: try again later.
	Unavailable
	// Altered: what is stored is not what was written, which no waiting mends.
	Altered
	// TooMany: slow down.
	TooMany
	// Malformed input: it cannot be read at all.
	Malformed
)

// A Fault is an error for people.
type Fault struct {
	Kind Kind
	// Code is stable, for programs.
	Code Code
	// Sentence says what happened.
	Sentence string
	// Advice says what to do next.
	Advice string
	// Field is the offending field of the request, if one is.
	Field string
	// Facts are what else is to be known, one sentence each.
	Facts []string
	// cause is what brought it about, for the caller to decide by; people
	// are not told.
	cause error
}

// Because adds what brought the fault about.
func (f *Fault) Because(cause error) *Fault {
	f.cause = cause
	return f
}

// Unwrap returns what brought the fault about, or nil.
func (f *Fault) Unwrap() error { return f.cause }

// Error returns sentence and advice.
func (f *Fault) Error() string {
	if f.Advice == "" {
		return f.Sentence
	}
	return f.Sentence + " " + f.Advice
}

// New returns a fault without advice.
func New(kind Kind, code Code, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Code: code, Sentence: fmt.Sprintf(format, args...)}
}

// Advise adds what to do next.
func (f *Fault) Advise(format string, args ...any) *Fault {
	f.Advice = fmt.Sprintf(format, args...)
	return f
}

// At adds the offending field.
func (f *Fault) At(field string) *Fault {
	f.Field = field
	return f
}

// Is reports whether err is a fault with this code.
func Is(err error, code Code) bool {
	var f *Fault
	return errors.As(err, &f) && f.Code == code
}

// maxReason bounds what people write down about a decision, in bytes.
const maxReason = 4000

// Reason refuses a step, such as "An admission", that is given no reason, or one
// that cannot be kept.
func Reason(reason, step string) error {
	if strings.TrimSpace(reason) == "" || len(reason) > maxReason || strings.ContainsRune(reason, 0) {
		return New(Invalid, ReasonMissing, "%s needs a reason, in at most %d characters.", step, maxReason).
			Advise("Say why, for whoever asks next year.").
			At("reason")
	}
	return nil
}

// Abandoned says why work was given up.
func Abandoned(cause error) string {
	return "It could not be carried out, however often it was tried: " + plain.Text(cause.Error())
}

// Changed refuses a change by somebody who saw another version of the thing than it
// has now. seen is empty where a request does not say what was seen.
func Changed(seen, now, what string) error {
	if seen == "" || seen == now {
		return nil
	}
	return New(Stale, ChangedMeanwhile, "Somebody has changed %s since you looked.", what).
		Advise("Look at it again, and decide then.")
}
