// Package directories asks key directories for keys, over the HTTP Keyserver
// Protocol (“/pks/lookup”) and as Web Key Directories. Only those that the
// configuration names are asked. A directory that is slow, fails or lies is told
// by name and holds up no other.
package directories

import (
	"context"
	"crypto/sha1"
	"encoding/base32"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/outside"
)

// A Kind is a protocol.
type Kind string

// The protocols.
const (
	// HKP answers GET /pks/lookup?op=get&search=… with armored keys.
	HKP Kind = "hkp"
	// WKD answers GET hu/… with the keys of one mail address, binary.
	WKD Kind = "wkd"
)

// Kinds lists every protocol.
func Kinds() []Kind { return []Kind{HKP, WKD} }

// A Directory is one configured directory.
type Directory struct {
	Name string
	Kind Kind
	// URL is the base address: for HKP that below which pks/lookup lies, for
	// WKD that below which hu/ lies.
	URL string
	// Domain is, for WKD, the part behind the @ that it answers for.
	Domain string
}

// Directories is the set of configured directories, in their order.
type Directories struct {
	list   []directory
	client *outside.Client
}

type directory struct {
	Directory
	base *url.URL
}

// New makes the set. It fails when an address or a kind makes no sense. Zero
// limits mean 16 MiB and 10 seconds for each directory.
func New(configured []Directory, limits outside.Limits) (*Directories, error) {
	if limits.Bytes == 0 {
		limits.Bytes = 16 << 20
	}
	if limits.Time == 0 {
		limits.Time = 10 * time.Second
	}
	d := &Directories{client: outside.New(limits)}
	for _, c := range configured {
		base, err := outside.ParseBase(c.URL)
		if err != nil {
			return nil, fmt.Errorf("directory %s: %w", c.Name, err)
		}
		if c.Kind != HKP && c.Kind != WKD {
			return nil, fmt.Errorf(
				"directory %s: the kind %q does not exist; there are %s and %s", c.Name, c.Kind, HKP, WKD,
			)
		}
		if c.Kind == WKD && (c.Domain == "" || strings.ContainsAny(c.Domain, "@/ ")) {
			return nil, fmt.Errorf("directory %s: a web key directory needs the domain that it answers for", c.Name)
		}
		d.list = append(d.list, directory{c, base})
	}
	return d, nil
}

// All lists the directories in their order.
func (d *Directories) All() []Directory {
	out := []Directory{}
	for _, directory := range d.list {
		out = append(out, directory.Directory)
	}
	return out
}

// A Query is what is looked for: one of its fields is set.
type Query struct {
	Fingerprint openpgp.Fingerprint
	// KeyID may find several keys; it identifies none.
	KeyID   openpgp.KeyID
	Address string
}

// ParseQuery reads a full fingerprint, a key ID of 16 digits, or a mail address.
// It returns a [*fault.Fault] for anything else, shorter key IDs included.
func ParseQuery(text string) (Query, error) {
	text = strings.TrimSpace(text)
	if local, domain, ok := strings.Cut(text, "@"); ok {
		if local == "" || domain == "" || strings.ContainsAny(text, " <>/?#\x00") || strings.Contains(domain, "@") ||
			len(text) > 254 {
			return Query{}, fault.New(fault.Invalid, fault.BadQuery, "%s is not a mail address.", plain.Quoted(text)).
				At("query")
		}
		return Query{Address: text}, nil
	}
	bare := strings.ReplaceAll(strings.TrimPrefix(strings.ToLower(text), "0x"), " ", "")
	if len(bare) == 16 {
		if id, err := strconv.ParseUint(bare, 16, 64); err == nil {
			return Query{KeyID: openpgp.KeyID(id)}, nil
		}
	}
	fp, err := keyring.ParseFingerprint(text)
	if err != nil {
		return Query{}, fault.New(
			fault.Invalid, fault.BadQuery,
			"That is neither a full fingerprint, nor a key ID of 16 digits, nor a mail address: %s.", err,
		).
			At("query")
	}
	return Query{Fingerprint: fp}, nil
}

// search is the query as HKP writes it.
func (q Query) search() string {
	switch {
	case q.Fingerprint != "":
		return "0x" + string(q.Fingerprint)
	case q.KeyID != 0:
		return "0x" + q.KeyID.String()
	}
	return q.Address
}

// matches reports whether a key is one that was asked for.
func (q Query) matches(c *openpgp.Certificate) bool {
	switch {
	case q.Fingerprint != "":
		return slices.ContainsFunc(c.Keys(), func(k *openpgp.PublicKey) bool { return k.Fingerprint == q.Fingerprint })
	case q.KeyID != 0:
		return slices.ContainsFunc(c.Keys(), func(k *openpgp.PublicKey) bool { return k.KeyID == q.KeyID })
	}
	return slices.ContainsFunc(c.UserIDs, func(u *openpgp.UserID) bool {
		return strings.Contains(strings.ToLower(u.ID), strings.ToLower(q.Address))
	})
}

// An Outcome is how a directory answered.
type Outcome string

// The outcomes.
const (
	// Found: it has such keys.
	Found Outcome = "found"
	// Absent: it says that it has none.
	Absent Outcome = "absent"
	// Failed: it did not answer, or not in a way that can be used.
	Failed Outcome = "failed"
	// Other: it handed out keys that were not asked for. None of them is
	// taken.
	Other Outcome = "other-key"
	// NotAsked: it does not answer such questions.
	NotAsked Outcome = "not-asked"
)

// Outcomes lists every outcome.
func Outcomes() []Outcome { return []Outcome{Found, Absent, Failed, Other, NotAsked} }

// An Answer is what one directory said.
type Answer struct {
	Directory Directory
	Outcome   Outcome
	// Detail says more, in a sentence without its full stop, safe to show.
	Detail string
	// Certificates are the keys that were asked for.
	Certificates []*openpgp.Certificate
	Took         time.Duration
}

// Ask asks all directories at once, and returns their answers in the order of
// the directories. It returns an error only when ctx ends.
func (d *Directories) Ask(ctx context.Context, q Query) ([]Answer, error) {
	out := make([]Answer, len(d.list))
	var wg sync.WaitGroup
	for i, directory := range d.list {
		wg.Go(func() {
			start := time.Now()
			out[i] = d.ask(ctx, directory, q)
			out[i].Directory, out[i].Took = directory.Directory, time.Since(start)
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return out, nil
}

func (d *Directories) ask(ctx context.Context, place directory, q Query) Answer {
	address, ok := place.address(q)
	if !ok {
		return Answer{
			Outcome: NotAsked, Detail: fmt.Sprintf("it answers for addresses at %s only", plain.Text(place.Domain)),
		}
	}
	data, err := d.client.Get(ctx, place.base, address)
	var status *outside.StatusError
	if errors.As(err, &status) && (status.Code == http.StatusNotFound || status.Code == http.StatusGone) {
		return Answer{Outcome: Absent, Detail: "it has no such key"}
	}
	if err != nil {
		return Answer{Outcome: Failed, Detail: plain.Text(err.Error())}
	}
	certs, skipped, err := openpgp.ReadCertificates(data)
	var secret *openpgp.SecretKeyError
	switch {
	case errors.As(err, &secret):
		return Answer{Outcome: Failed, Detail: "it handed out a secret key, of which nothing was kept"}
	case err != nil:
		return Answer{Outcome: Failed, Detail: "what it sent is no key that can be read: " + plain.Text(err.Error())}
	}
	a := Answer{Outcome: Found}
	effort, unchecked := openpgp.EffortUntil(ctx, answerEffort), 0
	for n, c := range certs {
		share, giveBack := effort.Share(len(certs) - n)
		vetted, vetting := c.Vet(share, nil)
		giveBack()
		if q.matches(vetted) {
			a.Certificates = append(a.Certificates, vetted)
			unchecked += vetting.Unchecked
		}
	}
	if unchecked > 0 {
		a.Detail = fmt.Sprintf(
			"%d signatures in what it handed out could not be checked, for there are too many; they were left out",
			unchecked,
		)
	}
	if others := len(certs) - len(a.Certificates); others > 0 {
		if a.Detail != "" {
			a.Detail += "; "
		}
		a.Detail += fmt.Sprintf("it also handed out %d keys that were not asked for; they were dropped", others)
	}
	if len(a.Certificates) == 0 {
		a.Outcome = Other
		a.Detail = "it handed out another key than was asked for, which was dropped"
		if len(certs) > 0 {
			a.Detail = fmt.Sprintf(
				"it handed out another key than was asked for, %s, which was dropped",
				plain.Grouped(string(certs[0].Primary.Fingerprint)),
			)
		}
		if len(certs) == 0 && len(skipped) > 0 {
			a.Outcome, a.Detail = Failed, "what it sent cannot be used: "+plain.Text(skipped[0].Error())
		}
	}
	return a
}

// answerEffort bounds what is spent on verifying the answer of one directory.
const answerEffort = 2 * time.Second

// zBase32 is the alphabet in which a Web Key Directory names mail addresses.
var zBase32 = base32.NewEncoding("ybndrfg8ejkmcpqxot1uwisza345h769").WithPadding(base32.NoPadding)

// HashedAddress returns the name under which a Web Key Directory has the keys of
// the local part of a mail address.
func HashedAddress(local string) string {
	sum := sha1.Sum([]byte(strings.ToLower(local)))
	return zBase32.EncodeToString(sum[:])
}

// address returns where the answer to a query lies. ok is false when the
// directory does not answer such queries.
func (d directory) address(q Query) (address string, ok bool) {
	if d.Kind == HKP {
		at := d.base.JoinPath("pks", "lookup")
		at.RawQuery = url.Values{"op": {"get"}, "options": {"mr"}, "exact": {"on"}, "search": {q.search()}}.Encode()
		return at.String(), true
	}
	local, domain, ok := strings.Cut(q.Address, "@")
	if !ok || !strings.EqualFold(domain, d.Domain) {
		return "", false
	}
	at := d.base.JoinPath("hu", HashedAddress(local))
	at.RawQuery = url.Values{"l": {local}}.Encode()
	return at.String(), true
}
