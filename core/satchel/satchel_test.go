package satchel

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
)

var packed = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func signing(t testing.TB, name string) (note.Signer, note.Verifier) {
	t.Helper()
	skey, vkey, err := note.GenerateKey(rand.Reader, name)
	require.NoError(t, err)
	s, err := note.NewSigner(skey)
	require.NoError(t, err)
	v, err := note.NewVerifier(vkey)
	require.NoError(t, err)
	return s, v
}

func content(t testing.TB) Content {
	t.Helper()
	key := func(name string, to ...keyring.State) Key {
		cert := pgptest.Simple(name, pgptest.Ed25519, packed.AddDate(-1, 0, 0), name+" <"+name+"@pumps.example>")
		k := Key{Certificate: cert.Bytes(), Publisher: "pumps", Role: keyring.Release}
		for i, state := range to {
			k.History = append(k.History, keyring.Change{At: packed.AddDate(0, i-9, 0), To: state, By: "tobiah"})
		}
		return k
	}
	return Content{
		ID:         "abc",
		Service:    "verify.skerrow.example",
		Packed:     packed,
		Until:      packed.AddDate(0, 0, 14),
		Policy:     judge.DefaultPolicy(),
		Own:        map[string]judge.Policy{},
		Publishers: []keyring.Publisher{{Slug: "pumps", Name: "Pumps", Scope: []string{"pump-*"}}},
		Keys:       []Key{key("good", keyring.Admitted), key("gone", keyring.Admitted, keyring.Withdrawn)},
	}
}

func opened(t testing.TB) *Satchel {
	t.Helper()
	signer, verifier := signing(t, "verify.skerrow.example")
	file, err := Pack(content(t), signer)
	require.NoError(t, err)
	s, err := Open(file, verifier)
	require.NoError(t, err)
	return s
}

// TestOpen: what was packed comes out, and says by which keys it can clear.
func TestOpen(t *testing.T) {
	s := opened(t)
	assert.Equal(t, judge.DefaultPolicy(), s.Policy)
	assert.Len(t, s.Keyring().Keys(), 2)
	require.Len(t, s.ClearsWith(packed), 1)
	assert.Equal(t, "pumps", s.ClearsWith(packed)[0].Publisher)
	p, ok := s.Keyring().Publisher("pumps")
	assert.True(t, ok)
	assert.True(t, p.Covers("pump-1.img"))
	assert.Equal(t, packed, s.Basis(packed).Now)
}

// TestValid: a satchel judges from when it was packed until its end, by a clock that can
// be right.
func TestValid(t *testing.T) {
	s := opened(t)
	for name, c := range map[string]struct {
		now    time.Time
		reason Reason
	}{
		"when it is packed":        {packed, ""},
		"a clock a little behind":  {packed.Add(-time.Minute), ""},
		"the last second":          {s.Until.Add(-time.Second), ""},
		"the end":                  {s.Until, Expired},
		"years later":              {packed.AddDate(3, 0, 0), Expired},
		"a clock that was reset":   {time.Date(1970, 1, 1, 0, 3, 0, 0, time.UTC), ClockWrong},
		"a clock years behind":     {packed.AddDate(-2, 0, 0), ClockWrong},
		"a clock an hour too late": {packed.Add(-time.Hour), ClockWrong},
	} {
		err := s.Valid(c.now)
		if c.reason == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.True(t, IsError(err, c.reason), "%s: %v", name, err)
	}
}

// TestEveryBit: whichever bit is altered, nothing opens.
func TestEveryBit(t *testing.T) {
	signer, verifier := signing(t, "verify.skerrow.example")
	c := content(t)
	c.Keys = c.Keys[:1]
	file, err := Pack(c, signer)
	require.NoError(t, err)
	for at := range file[:len(file)-1] {
		altered := bytes.Clone(file)
		altered[at] ^= 1 << (at % 8)
		_, err := Open(altered, verifier)
		require.Error(t, err, "byte %d", at)
		var e *Error
		require.ErrorAs(t, err, &e)
	}
	_, stranger := signing(t, "verify.skerrow.example")
	_, err = Open(file, stranger)
	assert.True(t, IsError(err, Foreign), "%v", err)
	for _, text := range []string{"", "x", head, head + "\n\n{", head + "\n\n\n{}", "endeixis satchel 2\n\n{}"} {
		_, err := Open([]byte(text), verifier)
		assert.Error(t, err, text)
	}
}

// sealed is a journal with entries.
func sealed(t testing.TB, s *Satchel, at ...time.Time) ([]byte, note.Signer) {
	t.Helper()
	file, secret, err := NewHeader(s, packed, "light", rand.Reader)
	require.NoError(t, err)
	signer, err := note.NewSigner(secret)
	require.NoError(t, err)
	last := bytes.TrimSuffix(file, []byte("\n"))
	for i, when := range at {
		next, err := Seal(Entry{N: i + 1, Kind: Spot, At: when, Findings: &survey.Findings{}}, s.ID, last, signer)
		require.NoError(t, err)
		file, last = append(file, next...), bytes.TrimSuffix(next, []byte("\n"))
	}
	return file, signer
}

// TestJournal: each outcome is sealed behind the one before it.
func TestJournal(t *testing.T) {
	s := opened(t)
	file, signer := sealed(t, s, packed.Add(time.Hour), packed.Add(2*time.Hour))
	j, err := ReadJournal(file)
	require.NoError(t, err)
	assert.Len(t, j.Entries, 2)
	assert.Equal(t, s.ID, j.Satchel)
	assert.NoError(t, j.Continue(s, packed.Add(3*time.Hour)))
	assert.True(t, IsError(j.Continue(s, packed.Add(time.Hour)), ClockWrong), "the clock has gone back")
	other := *s
	other.Digest = "00"
	assert.True(t, IsError(j.Continue(&other, packed.Add(3*time.Hour)), Foreign), "another satchel of the same number")

	for at := range file[:len(file)-1] {
		altered := bytes.Clone(file)
		altered[at] ^= 1 << (at % 7)
		if j, err := ReadJournal(altered); err == nil {
			t.Fatalf("byte %d of %d: %d entries", at, len(file), len(j.Entries))
		}
	}
	lines := bytes.SplitAfter(file, []byte("\n"))
	for name, text := range map[string][]byte{
		"out of order": slicesOf(lines[0], lines[2], lines[1]), "the second alone": slicesOf(lines[0], lines[2]), "the first twice": slicesOf(lines[0], lines[1], lines[1]),
	} {
		_, err := ReadJournal(text)
		assert.True(t, IsError(err, Disordered), "%s: %v", name, err)
	}
	// Sealed well, and said to be another number inside.
	e := j.Entries[0].Entry
	e.N = 1
	text, err := json.Marshal(Entry{N: 9, Findings: &survey.Findings{}})
	require.NoError(t, err)
	signed, err := note.Sign(
		&note.Note{Text: sealText(s.ID, 1, bytes.TrimSuffix(lines[0], []byte("\n")), text)}, signer,
	)
	require.NoError(t, err)
	odd, err := json.Marshal(line{string(signed), text})
	require.NoError(t, err)
	_, err = ReadJournal(slicesOf(lines[0], odd))
	assert.True(t, IsError(err, Disordered), "%v", err)
}

func slicesOf(lines ...[]byte) []byte { return bytes.Join(lines, nil) }

// TestCutJournal: wherever a journal is cut, what stands before the cut comes home, and the
// sum tells where it ends.
func TestCutJournal(t *testing.T) {
	file, _ := sealed(t, opened(t), packed.Add(time.Hour), packed.Add(2*time.Hour))
	whole, err := ReadJournal(file)
	require.NoError(t, err)
	require.False(t, whole.Cut)
	lines := bytes.SplitAfter(file, []byte("\n"))
	head := len(lines[0])
	sums := map[string]bool{}
	for at := head; at < len(file); at++ {
		j, err := ReadJournal(file[:at])
		require.NoError(t, err, "cut at %d", at)
		n := bytes.Count(file[head:at], []byte("\n"))
		entire := at+1 < len(file) && file[at] == '\n' || at == len(file)-1 // all but the line's end
		if entire {
			n++
		}
		require.Len(t, j.Entries, n, "cut at %d", at)
		require.Equal(t, !entire && file[at-1] != '\n', j.Cut, "cut at %d", at)
		sums[j.Sum()] = true
	}
	assert.Len(t, sums, len(whole.Entries)+1)
	nul, err := ReadJournal(append(bytes.Clone(file[:len(file)-30]), make([]byte, 4096)...))
	require.NoError(t, err, "what a file system leaves of a block that was not written")
	assert.True(t, nul.Cut)
}

// FuzzOpen and FuzzReadJournal: whatever a file has, it is read or refused in words.
func FuzzOpen(f *testing.F) {
	signer, verifier := signing(f, "verify.skerrow.example")
	file, err := Pack(content(f), signer)
	require.NoError(f, err)
	f.Add(file)
	f.Add([]byte(head + "\n\n{}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if s, err := Open(text, verifier); err == nil {
			require.Equal(t, "verify.skerrow.example", s.Service)
		}
	})
}

func FuzzReadJournal(f *testing.F) {
	file, _ := sealed(f, opened(f), packed)
	f.Add(file)
	f.Add([]byte("{}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if j, err := ReadJournal(text); err == nil {
			for i := range j.Entries {
				require.Equal(t, i+1, j.Entries[i].N)
			}
		}
	})
}
