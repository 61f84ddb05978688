package openpgp_test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
)

// TestCorpus reads what a distribution's people have signed, with their own keys: what
// “make corpus” has fetched, or else what lies on a machine of that distribution. Each file
// holds, and none does with one character altered.
func TestCorpus(t *testing.T) {
	t.Parallel()
	signed, keys := []string{"/var/lib/apt/lists/*InRelease"}, []string{"/usr/share/keyrings/*archive*.gpg"}
	if dir := os.Getenv("ENDEIXIS_CORPUS"); dir != "" {
		signed = []string{filepath.Join(dir, "signed", "*")}
		keys = append(keys, filepath.Join(dir, "keyring/usr/share/keyrings/*.gpg"))
	}
	files, rings := found(t, signed), found(t, keys)
	if len(files) == 0 || len(rings) == 0 {
		t.Skip(
			"there is nothing here that a distribution has signed, or no key of it; “make corpus” fetches some where there is a package manager for it",
		)
	}
	byHint := map[string][]openpgp.Candidate{}
	certificates := map[openpgp.Fingerprint]bool{}
	var vetting openpgp.Vetting
	leftOut := 0
	for _, ring := range rings {
		data, err := os.ReadFile(ring)
		require.NoError(t, err)
		certs, skipped, err := openpgp.ReadCertificates(data)
		require.NoError(t, err, ring)
		leftOut += len(skipped)
		for _, c := range certs {
			if certificates[c.Primary.Fingerprint] {
				continue
			}
			certificates[c.Primary.Fingerprint] = true
			vetted, v := c.Vet(nil, nil)
			vetting.Forged += v.Forged
			vetting.Misplaced += v.Misplaced
			vetting.Unread += v.Unread
			vetting.Unsigned += v.Unsigned
			vetting.Surplus += v.Surplus
			vetting.Unchecked += v.Unchecked
			for _, k := range vetted.Keys() {
				for _, hint := range []string{string(k.Fingerprint), k.KeyID.String()} {
					byHint[hint] = append(byHint[hint], openpgp.Candidate{Certificate: vetted, Key: k})
				}
			}
		}
	}
	rules := rules()
	rules.Now = time.Now()
	statuses := map[openpgp.Status]int{}
	held, unknown := 0, 0
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		best := bestOf(t, data, byHint, rules, statuses)
		switch best {
		case openpgp.Valid:
			held++
		case openpgp.SignerUnknown:
			unknown++
			continue // the key is in none of the rings
		default:
			t.Logf("%s: %s", filepath.Base(file), best)
		}
		text := bytes.Index(data, []byte("\n\n")) + 2 // behind the headers
		at := text + bytes.IndexByte(data[text:], 'a')
		altered := bytes.Clone(data)
		altered[at] = 'e'
		assert.Equal(t, openpgp.Invalid, bestOf(t, altered, byHint, rules, map[openpgp.Status]int{}), file)
	}
	var told []string
	for _, s := range slices.Sorted(maps.Keys(statuses)) {
		told = append(told, fmt.Sprintf("%s %d", s, statuses[s]))
	}
	t.Logf(
		"%d signed files, %d hold, of %d no ring has the key; signatures: %v; %d certificates, %d left out, %+v",
		len(files), held, unknown, told, len(certificates), leftOut, vetting,
	)
	assert.Positive(t, held)
	assert.Zero(t, vetting.Unchecked)
}

// found returns the files of some patterns.
func found(t *testing.T, patterns []string) []string {
	var out []string
	for _, p := range patterns {
		files, err := filepath.Glob(p)
		require.NoError(t, err)
		out = append(out, files...)
	}
	return out
}

// bestOf returns the furthest that a signature over a file came, and counts each.
func bestOf(
	t *testing.T, data []byte, byHint map[string][]openpgp.Candidate, rules openpgp.Rules,
	statuses map[openpgp.Status]int,
) openpgp.Status {
	t.Helper()
	frame, err := openpgp.ReadCleartext(data)
	require.NoError(t, err)
	best := openpgp.SignerUnknown
	for _, s := range frame.Signatures {
		var candidates []openpgp.Candidate
		for _, h := range s.Hints() {
			hint := string(h.Fingerprint)
			if hint == "" {
				hint = h.KeyID.String()
			}
			candidates = append(candidates, byHint[hint]...)
		}
		doc, err := frame.Document(s)
		require.NoError(t, err)
		r := openpgp.Verify(s, doc, candidates, rules)
		statuses[r.Status]++
		if r.Status.Better(best) {
			best = r.Status
		}
	}
	return best
}
