package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// What comes in is looked at once, here: text that is no text is turned away
// before any operation sees it, so that none of them has to think of it.

// usable reports whether a text can be kept and shown: it is UTF-8, without the
// character that ends strings elsewhere.
func usable(text string) bool {
	return utf8.ValidString(text) && !strings.ContainsRune(text, 0)
}

// legible turns requests away whose address or headers are no text.
func (a *API) legible(c *gin.Context) {
	for _, part := range []struct {
		name, field string
		ok          bool
	}{
		{"path", "path", usable(c.Request.URL.Path)},
		{"query", "query", usableQuery(c.Request.URL.Query())},
		{"header idempotency-key", "header.Idempotency-Key", usable(c.GetHeader("Idempotency-Key"))},
	} {
		if !part.ok {
			a.write(
				c.Writer, c.Request,
				fault.New(
					fault.Malformed, fault.NotText, "The request has bytes in its %s that are no text in UTF-8.",
					part.name,
				).
					At(part.field),
			)
			c.Abort()
			return
		}
	}
	c.Next()
}

func usableQuery(query url.Values) bool {
	for name, values := range query {
		if !usable(name) || slices.ContainsFunc(values, func(v string) bool { return !usable(v) }) {
			return false
		}
	}
	return true
}

var errNotText = errors.New("the body is not text in UTF-8")

// errNull names what a text must not have; PostgreSQL cannot keep it.
var errNull = errors.New("a text in the body has the character U+0000")

// bodyFormat reads and writes JSON. What it reads is text throughout.
var bodyFormat = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		enc := json.NewEncoder(w)
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	},
	Unmarshal: func(data []byte, v any) error {
		if !utf8.Valid(data) {
			return errNotText
		}
		if bytes.Contains(data, []byte(`\u0000`)) && hasNull(data) {
			return errNull
		}
		return json.Unmarshal(data, v)
	},
}

// hasNull reports whether a string of a JSON document has the character U+0000.
// An escaped backslash before “u0000” is none.
func hasNull(data []byte) bool {
	for tokens := json.NewDecoder(bytes.NewReader(data)); ; {
		token, err := tokens.Token()
		if err != nil {
			return false // what is not JSON is turned away as that
		}
		if text, ok := token.(string); ok && strings.ContainsRune(text, 0) {
			return true
		}
	}
}

// usualBody bounds what is sent to an operation that does not say otherwise.
const usualBody = 64 << 10

// maxErrors and maxShown bound what a problem tells about a request that does not
// fit its description: the first things that are wrong, and no more of what was
// sent than its names.
const (
	maxErrors = 20
	maxShown  = 200
)

// shortened returns the beginning of a text.
func shortened(text string) string {
	if len(text) <= maxShown {
		return text
	}
	return strings.ToValidUTF8(text[:maxShown], "") + "…"
}

// levelled turns requests away that speak a level of the API which is not served, and says what the
// answers speak.
func (a *API) levelled(c *gin.Context) {
	if !strings.HasPrefix(c.Request.URL.Path, "/api/") {
		c.Next()
		return
	}
	c.Header(wire.VersionHeader, version.Full())
	asked := c.GetHeader(wire.LevelHeader)
	level := wire.LevelOf(asked)
	if level >= wire.OldestLevel && level <= wire.Level {
		c.Header(wire.LevelHeader, strconv.Itoa(level)) // who asks in it reads it
		c.Next()
		return
	}
	c.Header(wire.LevelHeader, strconv.Itoa(wire.Level))
	by := "the program that asks"
	if program := c.GetHeader(wire.VersionHeader); program != "" {
		by += ", of version " + plain.Text(shortened(program)) + ","
	}
	f := fault.New(
		fault.Malformed, fault.LevelUnserved, "This service, endeixisd %s, serves %s of the API, and %s speaks level %s.",
		version.Full(), wire.Levels(), by, plain.Text(shortened(asked)),
	)
	if level > wire.Level {
		f = f.Advise("The service is the older one: have it brought up to date, or use a client of its version.")
	} else {
		f = f.Advise("Bring the program that asks up to date.")
	}
	a.write(c.Writer, c.Request, f)
	c.Abort()
}

// noStore keeps answers with secrets, and all that the API says, out of caches.
func noStore(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		c.Header("Cache-Control", "no-store")
	}
	c.Next()
}
