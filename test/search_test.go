package test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestAnythingIsFound: by person and period, key, digest, waiver, publisher, ground and folder, in one line each,
// with what is odd told or found to be nowhere.
func TestAnythingIsFound(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	made := publishes(t, s, "sounder-2", map[string][]byte{"sounder-2.img": []byte("sounder, release 2")})
	s.Write(t, "loose", map[string][]byte{
		"loose.img": []byte("loose"), "SHA256SUMS": []byte(strings.Repeat("0", 64) + "  other.img\n"),
	})
	verified(t, s, "quayside:loose", "--label", "From the Tuesday mail")
	var digest string
	for _, item := range made.Items {
		if item.Path == "sounder-2.img" {
			digest = item.Digests["SHA-256"]
		}
	}
	require.NotEmpty(t, digest)
	list := func(args ...string) ([]wire.Record, ran) {
		r := endeixis(t, s, "auditor", append([]string{"record", "list", "--limit", "0", "-o", "json"}, args...)...)
		var out []wire.Record
		if r.code == 0 {
			require.NoError(t, json.Unmarshal([]byte(r.out), &out), r.out)
		}
		return out, r
	}
	subjects := func(found []wire.Record) string {
		var out []string
		for _, r := range found {
			out = append(out, fmt.Sprintf("%s %s", r.Kind, r.Subject))
		}
		return strings.Join(out, "\n")
	}

	found, r := list("--digest", digest[:8])
	require.Len(t, found, 1, r.err)
	assert.Equal(t, "sounder-2.img", found[0].Subject)
	spaced, _ := list("--digest", "0x"+strings.ToUpper(digest[:4])+" "+digest[4:20])
	assert.Equal(t, found, spaced)

	today := time.Now().UTC().Format(time.DateOnly)
	mine, _ := list("--by", "ines", "--from", today, "--to", today, "--kind", "batch-result")
	assert.Contains(t, subjects(mine), "batch-result quayside:sounder-2")
	none, _ := list("--by", "ines", "--to", "2020-01-01")
	assert.Empty(t, none)

	items, err := s.Client(t, roles.Auditor).Items(t.Context(), made.ID)
	require.NoError(t, err)
	var key string
	for _, item := range items {
		for _, g := range item.Grounds {
			if g.Signature != nil {
				key = string(g.Signature.Key)
			}
		}
	}
	require.NotEmpty(t, key)
	for _, part := range []string{key, key[len(key)-8:], strings.ToLower(key[:12])} {
		of, r := list("--key", part)
		require.Zero(t, r.code, r.err)
		for _, kind := range []string{"key-imported", "sighting", "key-step", "item-outcome sounder-2.img"} {
			assert.Contains(t, subjects(of), kind, part)
		}
	}

	label, _ := list("--label", "tuesday")
	assert.Equal(t, "batch-result quayside:loose", subjects(label))
	place, _ := list("--place", "SIDE:loose", "--ground", "not-listed")
	assert.Equal(t, "item-outcome loose.img", subjects(place))
	of, _ := list("--publisher", "corran", "--kind", "key-step")
	assert.NotEmpty(t, of)

	granted := endeixis(
		t, s, "curator", "waiver", "add", "manifest-unsigned", "--pattern", "loose*", "--until",
		time.Now().UTC().AddDate(0, 0, 9).Format(time.DateOnly), "--reason", "they have moved", "-o", "json",
	)
	require.Zero(t, granted.code, granted.out+granted.err)
	var waiver struct {
		ID     int64 `json:"id"`
		Record int64 `json:"record"`
	}
	granted.decode(t, &waiver)
	ended := endeixis(t, s, "curator", "waiver", "end", fmt.Sprint(waiver.ID), "--reason", "they are back")
	require.Zero(t, ended.code, ended.out+ended.err)
	under, _ := list("--waiver", fmt.Sprint(waiver.Record))
	assert.Contains(t, subjects(under), "waiver-granted")
	assert.Contains(t, subjects(under), "waiver-ended")

	for _, odd := range [][]string{
		{"--digest", "abc"}, {"--key", "not hexadecimal"}, {"--from", "last tuesday"}, {"--waiver", "x"},
	} {
		_, r := list(odd...)
		assert.NotZero(t, r.code, odd)
		assert.NotContains(t, r.err, "500", odd)
	}
	for _, odd := range []string{"%", `' OR 1=1 --`, "*", "日本語", strings.Repeat("a", 199), `a\`} {
		found, r := list("--label", odd)
		assert.Zero(t, r.code, r.err)
		assert.Empty(t, found, odd)
	}
	long := endeixis(t, s, "auditor", "record", "list", "--name", strings.Repeat("x", 10_000))
	assert.Equal(t, 1, long.code, "it says what is too long: %s", long.err)

	// The number of what fits is told, and the address says it all.
	short := endeixis(t, s, "auditor", "record", "list", "--by", "ines", "--limit", "1")
	assert.Regexp(t, `These are the first 1; there are \d+\. --limit 0 lists all\.`, short.err)
	b := open(t, s)
	b.signIn(roles.Auditor)
	b.visit("/records?"+url.Values{"digest": {digest[:10]}, "by": {"ines"}}.Encode(), "1 record fits.")
	b.sees("sounder-2.img")
	b.accessible("records that were looked for")
	b.press("Show all")
	b.sees("waiver ended")
}
