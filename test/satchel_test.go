package test

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/satchel"
	"endeixis/internal/browser"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// A visitor goes where there is no line: nothing they run reaches a service.
type visitor struct {
	t    *testing.T
	s    *testkit.Service
	dir  string
	home []string
}

// visit packs a satchel for a visit.
func visit(t *testing.T, s *testkit.Service, publishers ...string) *visitor {
	t.Helper()
	v := &visitor{
		t: t, s: s, dir: t.TempDir(),
		home: []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator)},
	}
	args := []string{"satchel", "pack", "--days", "14", "--file", v.at("skerrow.satchel"), "--label", "the light"}
	for _, p := range publishers {
		args = append(args, "--publisher", p)
	}
	packed := endeixisWith(t, v.home, "", args...)
	require.Equal(t, 0, packed.code, packed.err)
	require.NoError(t, os.WriteFile(v.at("service.key"), []byte(s.PublicKey+"\n"), 0o600))
	return v
}

func (v *visitor) at(name string) string { return filepath.Join(v.dir, name) }

// on site, with the satchel.
func (v *visitor) on(args ...string) ran {
	v.t.Helper()
	return endeixisWith(
		v.t,
		[]string{"ENDEIXIS_SERVER=", "ENDEIXIS_TOKEN="},
		"",
		append(args, "--satchel", v.at("skerrow.satchel"), "--service-key", v.at("service.key"))...)
}

// back home.
func (v *visitor) back(args ...string) ran {
	v.t.Helper()
	return endeixisWith(v.t, v.home, "", append([]string{"satchel", "return", v.at("skerrow.outcomes")}, args...)...)
}

// bring copies a folder of the depot to the place.
func (v *visitor) bring(folder string) string {
	v.t.Helper()
	to := v.at(filepath.Base(folder))
	require.NoError(v.t, os.CopyFS(to, os.DirFS(filepath.Join(v.s.Depot, folder))))
	return to
}

// TestVisitToTheLight: Ines takes a satchel to Skerrow Light, verifies there what she has
// brought, and returns the outcomes; in the meantime a key was withdrawn.
func TestVisitToTheLight(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	clearedGauge(t, s)
	v := visit(t, s, "tidewright", "lanternfell")

	shown := endeixisWith(
		t, []string{"ENDEIXIS_SERVER="}, "", "satchel", "show", v.at("skerrow.satchel"), "--service-key",
		v.at("service.key"),
	)
	assert.Equal(t, 0, shown.code, shown.err)
	assert.Contains(t, shown.out, "it knows 5 files that were cleared")
	text, err := os.ReadFile(v.at("skerrow.satchel"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "password")
	assert.NotContains(t, string(text), "PRIVATE")

	good := v.on("batch", "run", v.bring("tidewright/gauge-fw-4.2"))
	assert.Equal(t, 0, good.code, good.out+good.err)
	assert.Contains(t, good.out, "cleared")
	assert.Contains(t, good.out, "sealed by the key")
	assert.Contains(t, good.out, "on no record until it is returned")
	assert.Contains(t, good.out, "Note down: one outcome, sum ")
	flipped := v.on("spot", filepath.Join(v.bring("tidewright/gauge-fw-4.2-flipped"), "gauge-fw-4.2-main.img"))
	assert.Equal(t, 10, flipped.code, flipped.out+flipped.err)
	archive := v.on("batch", "run", v.bring("tidewright/gauge-fw-4.5-archive"))
	assert.Contains(t, []int{0, 11}, archive.code, archive.out+archive.err)

	// The stick from which the gauge there is written, read back.
	image := filepath.Join(v.dir, "gauge-fw-4.2", "gauge-fw-4.2-main.img")
	content, err := os.ReadFile(image)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(v.at("stick.bin"), append(content, make([]byte, 1<<20)...), 0o600))
	read := v.on("readback", v.at("stick.bin"), "--against", image)
	assert.Equal(t, 0, read.code, read.out+read.err)
	assert.Contains(t, read.out, "exactly those of gauge-fw-4.2-main.img")
	content[1000] ^= 1
	require.NoError(t, os.WriteFile(v.at("bad.bin"), content, 0o600))
	var outcome struct {
		Verdict judge.Verdict
		Items   []wire.Item
	}
	bad := v.on("readback", v.at("bad.bin"), "--against", image, "-o", "json")
	assert.Equal(t, 10, bad.code, bad.err)
	require.NoError(t, json.Unmarshal([]byte(bad.out), &outcome))
	assert.Equal(t, judge.Refused, outcome.Verdict)
	// And against what was cleared at home, by its digest.
	byDigest := v.on("readback", v.at("stick.bin"), "--against", outcome.Items[0].Grounds[0].Expected.String())
	assert.Equal(t, 0, byDigest.code, byDigest.out+byDigest.err)

	journal := endeixisWith(t, nil, "", "satchel", "show", v.at("skerrow.outcomes"))
	assert.Equal(t, 0, journal.code, journal.err)
	assert.Contains(t, journal.out, "8 outcomes")

	// In the meantime.
	curator := s.Client(t, roles.Curator)
	ring, err := curator.Keys(t.Context(), client.KeyFilter{Publisher: "tidewright", State: keyring.Admitted})
	require.NoError(t, err)
	for _, key := range ring {
		_, err := curator.WithdrawKey(t.Context(), key.Fingerprint, "lost with the boat")
		require.NoError(t, err)
	}

	fewer := v.back("--outcomes", "9")
	assert.NotEqual(t, 0, fewer.code)
	assert.Contains(t, fewer.err, "8 outcomes, and 9 were noted")
	wrong := v.back("--key", "0000 0000 0000 0000")
	assert.NotEqual(t, 0, wrong.code)
	assert.Contains(t, wrong.err, "Nothing of it is taken")
	back := v.back()
	assert.Equal(t, 0, back.code, back.err)
	assert.Contains(t, back.out, "cleared on site")
	assert.Contains(t, back.out, "gauge-fw-4.2-boot.img, gauge-fw-4.2-main.img, gauge-fw-4.2-notes.txt")
	again := v.back("--output", "json")
	require.Equal(t, 0, again.code, again.err)
	var returned wire.SatchelShown
	require.NoError(t, json.Unmarshal([]byte(again.out), &returned))
	require.Len(t, returned.Visits, 8)
	for _, o := range returned.Visits {
		assert.True(t, o.Known)
		assert.Empty(t, o.Clock)
		assert.Equal(t, "done", string(o.State))
		require.NotNil(t, o.Now)
	}
	assert.Equal(t, judge.Cleared, returned.Visits[0].OnSite)
	assert.NotEqual(t, judge.Cleared, *returned.Visits[0].Now)
	assert.Len(t, returned.Visits[0].Differs, 3)
	assert.Equal(t, judge.Refused, *returned.Visits[1].Now)
	assert.Empty(t, returned.Visits[1].Differs)
	assert.NotEqual(t, judge.Cleared, *returned.Visits[4].Now, "a medium rests on its image")
	assert.Equal(t, judge.Refused, *returned.Visits[6].Now)

	list := endeixisWith(t, v.home, "", "satchel", "list")
	assert.Contains(t, list.out, "8 outcomes")
	kinds := endeixisWith(t, v.home, "", "record", "list", "--kind", "visit-returned", "-o", "json")
	assert.Equal(t, 8, strings.Count(kinds.out, `"visit-returned"`), kinds.err)
	audit := endeixisWith(t, v.home, "", "record", "audit")
	assert.Equal(t, 0, audit.code, audit.out+audit.err)
}

// TestSatchelReferences: what a satchel knows as cleared is found by who signed it, whoever it
// was expected from, and stands as of now.
func TestSatchelReferences(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	// Nobody is expected here, by name or by word.
	b := publishes(t, s, "unnamed/things", map[string][]byte{"one.bin": []byte("one"), "two.bin": []byte("two")})
	operator, curator := s.Client(t, roles.Operator), s.Client(t, roles.Curator)
	references := func() int {
		t.Helper()
		packed, err := operator.PackSatchel(t.Context(), wire.NewSatchel{Publishers: []string{"corran"}, Days: 5})
		require.NoError(t, err)
		return packed.References
	}
	require.Equal(t, 2, b.Counts.Cleared)
	assert.Equal(t, 2, references())
	other, err := operator.PackSatchel(t.Context(), wire.NewSatchel{Publishers: []string{"brackwater"}, Days: 5})
	require.NoError(t, err)
	assert.Zero(t, other.References, "of another publisher")
	// Judged again: what it is now counts, not that it was judged again.
	keys, err := curator.Keys(t.Context(), client.KeyFilter{Publisher: "corran", State: keyring.Admitted})
	require.NoError(t, err)
	for _, k := range keys {
		if len(k.UserIDs) > 0 && strings.HasPrefix(k.UserIDs[0], "Signs unnamed") {
			_, err := curator.WithdrawKey(t.Context(), k.Fingerprint, "a test")
			require.NoError(t, err)
		}
	}
	require.Eventually(t, func() bool { return references() == 0 }, 30*time.Second, 300*time.Millisecond)
}

// TestMediaOnSite: ten cards are one command, an image that carries bytes for addresses is what
// it carries, and a value alone is compared; what comes home is judged as it was there.
func TestMediaOnSite(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	flash := bytes.Repeat([]byte("light firmware "), 400)
	release := []byte(hexOf(0x0800_0000, flash, 16) + ":00000001FF\n")
	b := publishes(t, s, "corran/lamps", map[string][]byte{"lamp.hex": release})
	require.Equal(t, "cleared", *b.Verdict)
	v := visit(t, s, "corran")
	image := filepath.Join(v.bring("corran/lamps"), "lamp.hex")
	card := v.at("card.bin")
	require.NoError(t, os.WriteFile(card, append(bytes.Clone(flash), bytes.Repeat([]byte{0xff}, 4096)...), 0o600))
	site := []string{"--satchel", v.at("skerrow.satchel"), "--service-key", v.at("service.key")}
	on := func(stdin string, args ...string) ran {
		return endeixisWith(
			t,
			[]string{"ENDEIXIS_SERVER=", "ENDEIXIS_TOKEN="},
			stdin,
			append(append([]string{"readback"}, args...), site...)...)
	}
	each := on("\n\n\nq\n", card, "--against", image, "--each")
	assert.Zero(t, each.code, each.out+each.err)
	assert.Contains(t, each.err, "Media: 3 cleared.")
	assert.Contains(t, words(each), "what lamp.hex carries from address 0x8000000 on")
	flash[7] ^= 1
	require.NoError(t, os.WriteFile(card, flash, 0o600))
	assert.Equal(t, 10, on("", card, "--against", image).code)
	value := on("", card, "--against", fmt.Sprintf("%x", sha256.Sum256(flash)), "--length", fmt.Sprint(len(flash)))
	assert.Equal(t, 11, value.code, value.out+value.err)
	assert.Contains(t, words(value), "anybody could have given it")
	// The image is verified once for each command, and each medium is an outcome.
	back := v.back("--outcomes", "7", "-o", "json")
	require.Zero(t, back.code, back.err)
	var returned wire.SatchelShown
	require.NoError(t, json.Unmarshal([]byte(back.out), &returned))
	require.Len(t, returned.Visits, 7)
	var verdicts []judge.Verdict
	for _, v := range returned.Visits {
		require.NotNil(t, v.Now, v.Refused)
		assert.Equal(t, v.OnSite, *v.Now)
		verdicts = append(verdicts, *v.Now)
	}
	assert.Equal(
		t, []judge.Verdict{"cleared", "cleared", "cleared", "cleared", "cleared", "refused", "unproven"}, verdicts,
	)
}

// TestSatchelAltered: one bit anywhere, and it judges nothing.
func TestSatchelAltered(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	v := visit(t, s, "tidewright")
	folder := v.bring("tidewright/gauge-fw-4.2")
	whole, err := os.ReadFile(v.at("skerrow.satchel"))
	require.NoError(t, err)
	verifier, err := note.NewVerifier(s.PublicKey)
	require.NoError(t, err)
	for at := 0; at < len(whole); at += 1 + len(whole)/3000 {
		altered := bytes.Clone(whole)
		altered[at] ^= 1 << (at % 8)
		_, err := satchel.Open(altered, verifier)
		assert.Error(t, err, "a bit of byte %d", at)
	}
	for name, altered := range map[string][]byte{"cut": whole[:len(whole)-100], "empty": {}, "longer": append(bytes.Clone(whole), "x"...), "another": bytes.Replace(whole, []byte("\nuntil 20"), []byte("\nuntil 21"), 1)} {
		require.NoError(t, os.WriteFile(v.at("skerrow.satchel"), altered, 0o600))
		r := v.on("batch", "run", folder)
		assert.Equal(t, 1, r.code, "%s: %s%s", name, r.out, r.err)
		assert.Empty(t, r.out, name)
		_, err := os.Stat(v.at("skerrow.outcomes"))
		assert.ErrorIs(t, err, os.ErrNotExist, name)
	}
	// One of another service, by whoever has made a key of the same name.
	skey, vkey, err := note.GenerateKey(rand.Reader, verifier.Name())
	require.NoError(t, err)
	stranger, err := note.NewSigner(skey)
	require.NoError(t, err)
	own, err := note.NewVerifier(vkey)
	require.NoError(t, err)
	opened, err := satchel.Open(whole, verifier)
	require.NoError(t, err)
	opened.Policy.DigestBits = 0
	forged, err := satchel.Pack(opened.Content, stranger)
	require.NoError(t, err)
	_, err = satchel.Open(forged, own)
	require.NoError(t, err, "it is well made")
	require.NoError(t, os.WriteFile(v.at("skerrow.satchel"), forged, 0o600))
	foreign := v.on("batch", "run", folder)
	assert.Equal(t, 1, foreign.code)
	assert.Contains(t, foreign.err, "not signed by")
	require.NoError(t, os.WriteFile(v.at("skerrow.satchel"), whole, 0o600))
	nobody := endeixisWith(
		t, []string{"ENDEIXIS_SERVER="}, "", "batch", "run", folder, "--satchel", v.at("skerrow.satchel"),
	)
	assert.Equal(t, 2, nobody.code)
	assert.Contains(t, nobody.err, "--service-key")
}

// TestReturnRefused: what was done to a file of outcomes on the way.
func TestReturnRefused(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	v := visit(t, s, "tidewright")
	folder := v.bring("tidewright/gauge-fw-4.2")
	for range 3 {
		require.Equal(t, 0, v.on("batch", "run", folder).code)
	}
	whole, err := os.ReadFile(v.at("skerrow.outcomes"))
	require.NoError(t, err)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	require.Len(t, lines, 5)
	operator := s.Client(t, roles.Operator)
	other := visit(t, s, "tidewright")
	require.Equal(t, 0, other.on("batch", "run", folder).code)
	foreign, err := os.ReadFile(other.at("skerrow.outcomes"))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		file []byte
		code string
	}{
		"a bit of the first outcome":      {bytes.Replace(whole, lines[1][200:210], flip(lines[1][200:210]), 1), "outcomes-altered"},
		"out of order":                    {bytes.Join([][]byte{lines[0], lines[2], lines[1], lines[3]}, nil), "outcomes-disordered"},
		"one missing":                     {bytes.Join([][]byte{lines[0], lines[1], lines[3]}, nil), "outcomes-disordered"},
		"one twice":                       {bytes.Join([][]byte{lines[0], lines[1], lines[1]}, nil), "outcomes-disordered"},
		"the first missing":               {bytes.Join([][]byte{lines[0], lines[2]}, nil), "outcomes-disordered"},
		"cut, and something behind it":    {append(bytes.Clone(whole[:len(whole)-50]), '\n'), "outcomes-altered"},
		"outcomes behind another's head":  {bytes.Join([][]byte{bytes.SplitAfter(foreign, []byte("\n"))[0], lines[1]}, nil), "outcomes-altered"},
		"said to be of another satchel":   {bytes.Replace(whole, satchelID(t, lines[0]), satchelID(t, foreign), 1), "outcomes-altered"},
		"of a satchel that is none":       {bytes.Replace(lines[0], satchelID(t, lines[0]), []byte("nothing"), 1), "satchel-unknown"},
		"of the same number, another one": {bytes.Replace(lines[0], []byte(`"digest":"`), []byte(`"digest":"00`), 1), "satchel-foreign"},
		"no outcomes at all":              {[]byte("{}\n"), "outcomes-unreadable"},
		"a page":                          {[]byte("<html>"), "outcomes-unreadable"},
	} {
		_, err := operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: c.file})
		var problem *client.Error
		if assert.ErrorAs(t, err, &problem, name) {
			assert.EqualValues(t, c.code, problem.Code, "%s: %s", name, problem.Detail)
		}
	}
	all, err := operator.Satchels(t.Context())
	require.NoError(t, err)
	for _, packed := range all {
		assert.Zero(t, packed.Returned, "nothing of it was taken")
	}
	// Fewer than were noted on site.
	_, err = operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: bytes.Join(lines[:3], nil), Outcomes: 3})
	assert.ErrorContains(t, err, "has 2 outcomes, and 3 were noted on site")
	// In parts, and cut by a loss of power: what came back before is not taken twice, and goes
	// on.
	first, err := operator.ReturnOutcomes(
		t.Context(), wire.ReturnedOutcomes{File: append(bytes.Join(lines[:2], nil), lines[2][:len(lines[2])/2]...)},
	)
	require.NoError(t, err)
	require.Len(t, first.Visits, 1)
	returned, err := operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: whole})
	require.NoError(t, err)
	require.Len(t, returned.Visits, 3)
	assert.True(t, returned.Visits[0].Known)
	assert.False(t, returned.Visits[2].Known)
	assert.Equal(t, first.Visits[0].Batch, returned.Visits[0].Batch)

	// The same number with another outcome, by whoever has the key from the machine.
	secret, err := os.ReadFile(v.at("skerrow.outcomes.key"))
	require.NoError(t, err)
	signer, err := note.NewSigner(strings.TrimSpace(string(secret)))
	require.NoError(t, err)
	j, err := satchel.ReadJournal(whole)
	require.NoError(t, err)
	seal := func(change func(*satchel.Entry)) []byte {
		e := j.Entries[0].Entry
		change(&e)
		sealed, err := satchel.Seal(e, j.Satchel, bytes.TrimSuffix(lines[0], []byte("\n")), signer)
		require.NoError(t, err)
		return append(bytes.Clone(lines[0]), sealed...)
	}
	_, err = operator.ReturnOutcomes(
		t.Context(), wire.ReturnedOutcomes{File: seal(func(e *satchel.Entry) { e.Label = "another" })},
	)
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	assert.EqualValues(t, "returned-otherwise", problem.Code)
	// The last outcome was lost on site, and others were written in its place: with a person's
	// word both are kept, and what came before is not taken twice.
	again := bytes.Join(lines[:3], nil)
	last := bytes.TrimSuffix(lines[2], []byte("\n"))
	for n := 3; n <= 4; n++ {
		e := j.Entries[0].Entry
		e.N, e.Label = n, fmt.Sprintf("written anew %d", n)
		sealed, err := satchel.Seal(e, j.Satchel, last, signer)
		require.NoError(t, err)
		again, last = append(again, sealed...), bytes.TrimSuffix(sealed, []byte("\n"))
	}
	_, err = operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: again})
	require.ErrorAs(t, err, &problem)
	assert.EqualValues(t, "returned-otherwise", problem.Code)
	otherwise, err := operator.ReturnOutcomes(
		t.Context(), wire.ReturnedOutcomes{File: again, Otherwise: "the card was restored from the morning's copy"},
	)
	require.NoError(t, err)
	require.Len(t, otherwise.Visits, 4)
	assert.NotEqual(t, returned.Visits[2].Batch, otherwise.Visits[len(otherwise.Visits)-1].Batch)
	shown, err := operator.Satchel(t.Context(), j.Satchel)
	require.NoError(t, err)
	assert.Len(t, shown.Visits, 5, "the lost one stays beside the two")
	twice, err := operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: again, Otherwise: "once more"})
	require.NoError(t, err)
	for _, v := range twice.Visits {
		assert.True(t, v.Known, v.Number)
	}
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)

	// A key of their own, and what no program of ours writes: nothing is believed but bytes.
	lying := func(change func(*satchel.Entry)) (wire.SatchelShown, error) {
		skey, vkey, err := note.GenerateKey(rand.Reader, satchel.KeyName)
		require.NoError(t, err)
		own, err := note.NewSigner(skey)
		require.NoError(t, err)
		h := j.Header
		h.Key = vkey
		head, err := json.Marshal(h)
		require.NoError(t, err)
		e := j.Entries[0].Entry
		text, err := json.Marshal(e)
		require.NoError(t, err)
		var entry satchel.Entry
		require.NoError(t, json.Unmarshal(text, &entry))
		change(&entry)
		sealed, err := satchel.Seal(entry, j.Satchel, head, own)
		require.NoError(t, err)
		return operator.ReturnOutcomes(t.Context(), wire.ReturnedOutcomes{File: append(append(head, '\n'), sealed...)})
	}
	told, err := lying(func(e *satchel.Entry) {
		for i := range e.Outcomes {
			e.Outcomes[i].Verdict = judge.Cleared
		}
		for i := range e.Findings.Files {
			if f := &e.Findings.Files[i]; f.Path == "SHA256SUMS" {
				f.Content = bytes.Replace(f.Content, f.Content[:4], []byte("0000"), 1)
			}
		}
	})
	require.NoError(t, err)
	assert.NotEqual(t, judge.Cleared, *told.Visits[0].Now, "a list that was altered has no signature")
	assert.NotEmpty(t, told.Visits[0].Differs)
	told, err = lying(func(e *satchel.Entry) { clear(e.Measured) })
	require.NoError(t, err)
	assert.Equal(t, judge.Unproven, *told.Visits[0].Now)
	told, err = lying(func(e *satchel.Entry) { e.At = time.Now().AddDate(3, 0, 0) })
	require.NoError(t, err)
	assert.Contains(t, told.Visits[0].Clock, "ahead")
	told, err = lying(func(e *satchel.Entry) { e.At = time.Now().AddDate(-8, 0, 0) })
	require.NoError(t, err)
	assert.Contains(t, told.Visits[0].Clock, "before the satchel was packed")
	for name, change := range map[string]func(*satchel.Entry){
		"a number of another": func(e *satchel.Entry) { e.N = 7 },
		"no time":             func(e *satchel.Entry) { e.At = time.Time{} },
		"a kind of no name":   func(e *satchel.Entry) { e.Kind = "belief" },
		"no list of files":    func(e *satchel.Entry) { e.Findings = nil },
		"a medium of itself":  func(e *satchel.Entry) { e.Kind, e.Against = satchel.Readback, &satchel.Against{Entry: 1, Path: "x"} },
		"a medium of nothing": func(e *satchel.Entry) { e.Kind = satchel.Readback },
	} {
		_, err := lying(change)
		assert.Error(t, err, name)
	}
	for name, change := range map[string]func(*satchel.Entry){
		"a path that leads out":          func(e *satchel.Entry) { e.Findings.Files[0].Path = "../../etc/passwd" },
		"a host with a colon":            func(e *satchel.Entry) { e.Host = "a:b" },
		"somebody unknown's":             func(e *satchel.Entry) { e.Publisher = "nobody" },
		"against a record of no outcome": func(e *satchel.Entry) { e.Kind, e.Against = satchel.Readback, &satchel.Against{Record: 1} },
	} {
		told, err := lying(change)
		if assert.NoError(t, err, name) {
			assert.NotEmpty(t, told.Visits[0].Refused, name)
			assert.Zero(t, told.Visits[0].Batch, name)
		}
	}
	audit := endeixisWith(t, v.home, "", "record", "audit")
	assert.Equal(t, 0, audit.code, audit.out+audit.err)
}

func flip(b []byte) []byte {
	out := bytes.Clone(b)
	out[0] ^= 1
	if out[0] == '"' || out[0] == '\\' {
		out[0] ^= 3
	}
	return out
}

func satchelID(t *testing.T, file []byte) []byte {
	t.Helper()
	first, _, _ := bytes.Cut(file, []byte("\n"))
	var h satchel.Header
	require.NoError(t, json.Unmarshal(first, &h))
	return []byte(h.Satchel)
}

// TestSatchelInTime: one that has ended judges nothing, nor does one on a machine whose
// clock cannot be right; and what was judged under a policy that has changed since counts
// as it counts by the one of now.
func TestSatchelInTime(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	v := visit(t, s, "tidewright")
	folder := v.bring("tidewright/gauge-fw-4.2")
	verifier, err := note.NewVerifier(s.PublicKey)
	require.NoError(t, err)
	whole, err := os.ReadFile(v.at("skerrow.satchel"))
	require.NoError(t, err)
	opened, err := satchel.Open(whole, verifier)
	require.NoError(t, err)
	secret, err := os.ReadFile(s.Config.Ledger.KeyFile)
	require.NoError(t, err)
	signer, err := note.NewSigner(strings.TrimSpace(string(secret)))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		packed time.Time
		says   string
	}{
		"ended":                {time.Now().AddDate(0, 0, -20), "It judges nothing any more"},
		"of three years ahead": {time.Now().AddDate(3, 0, 0), "the clock is wrong"},
	} {
		other := opened.Content
		other.Packed, other.Until = c.packed, c.packed.AddDate(0, 0, 14)
		file, err := satchel.Pack(other, signer)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(v.at("skerrow.satchel"), file, 0o600))
		for _, command := range [][]string{{"batch", "run", folder}, {"spot", filepath.Join(folder, "gauge-fw-4.2-main.img")}, {"readback", filepath.Join(folder, "gauge-fw-4.2-main.img"), "--against", filepath.Join(folder, "gauge-fw-4.2-main.img")}} {
			r := v.on(command...)
			assert.Equal(t, 1, r.code, "%s: %v: %s", name, command, r.out)
			assert.Contains(t, r.err, c.says, "%s: %v", name, command)
			assert.Empty(t, r.out)
		}
	}
	require.NoError(t, os.WriteFile(v.at("skerrow.satchel"), whole, 0o600))
	require.Equal(t, 0, v.on("batch", "run", folder).code)
	// A line that was cut when the machine went down was told to nobody.
	f, err := os.OpenFile(v.at("skerrow.outcomes"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"note":"endeixis outc`)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Equal(t, 0, v.on("batch", "run", folder).code)

	policy := filepath.Join(t.TempDir(), "policy.yaml")
	shown := endeixis(t, s, "curator", "policy", "show", "--output", "yaml")
	require.Equal(t, 0, shown.code, shown.err)
	require.NoError(
		t, os.WriteFile(policy, []byte(regexp.MustCompile(`\n *- client`).ReplaceAllString(shown.out, "")), 0o600),
	)
	set := endeixis(t, s, "curator", "policy", "set", policy, "--reason", "only what the service reads")
	require.Equal(t, 0, set.code, set.err)
	back := v.back("--output", "json")
	require.Equal(t, 0, back.code, back.err)
	var returned wire.SatchelShown
	require.NoError(t, json.Unmarshal([]byte(back.out), &returned))
	require.Len(t, returned.Visits, 2)
	for _, o := range returned.Visits {
		assert.Equal(t, judge.Cleared, o.OnSite)
		assert.Equal(t, judge.Unproven, *o.Now)
		assert.Len(t, o.Differs, 3)
	}
}

// TestPackRefused: what cannot be packed.
func TestPackRefused(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	operator, auditor := s.Client(t, roles.Operator), s.Client(t, roles.Auditor)
	for _, c := range []struct {
		with wire.NewSatchel
		says string
	}{
		{wire.NewSatchel{Publishers: []string{"nobody"}, Days: 5}, "no publisher"},
		{wire.NewSatchel{Publishers: []string{"tidewright"}, Days: 0}, "days"},
		{wire.NewSatchel{Publishers: []string{"tidewright"}, Days: 91}, "days"},
		{wire.NewSatchel{Publishers: []string{}, Days: 5}, "publishers"},
	} {
		_, err := operator.PackSatchel(t.Context(), c.with)
		assert.ErrorContains(t, err, c.says)
	}
	_, err := auditor.PackSatchel(t.Context(), wire.NewSatchel{Publishers: []string{"tidewright"}, Days: 5})
	assert.Error(t, err)
	_, err = auditor.Satchel(t.Context(), "nothing")
	assert.ErrorContains(t, err, "has packed no satchel")
	file := filepath.Join(t.TempDir(), "there.satchel")
	require.NoError(t, os.WriteFile(file, []byte("mine"), 0o600))
	r := endeixisWith(
		t, []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator)}, "", "satchel", "pack",
		"--publisher", "tidewright", "--file", file,
	)
	assert.Equal(t, 2, r.code)
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(kept), "nothing is written over")
}

// TestConsoleSatchel packs in the browser, and takes outcomes back there.
func TestConsoleSatchel(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	v := visit(t, s, "tidewright")
	require.Equal(t, 0, v.on("batch", "run", v.bring("tidewright/gauge-fw-4.2")).code)
	curator := s.Client(t, roles.Curator)
	ring, err := curator.Keys(t.Context(), client.KeyFilter{Publisher: "tidewright", State: keyring.Admitted})
	require.NoError(t, err)
	for _, key := range ring {
		_, err := curator.WithdrawKey(t.Context(), key.Fingerprint, "lost")
		require.NoError(t, err)
	}
	b := open(t, s)
	b.signIn(roles.Operator)
	b.visit("/batches", "Batches")
	b.press("Satchels")
	b.sees("Whose releases are to be judged with it")
	b.sees("the light")
	b.do(browser.Press(`//label[contains(., "Brackwater Radio")]//input`))
	b.fill("Label", "Outer light")
	b.accessible("satchels")
	b.press("Pack and save")
	b.sees("Packed, with 2 keys")
	b.sees("Outer light")
	b.do(chromedp.SetUploadFiles("input[type=file]", []string{v.at("skerrow.outcomes")}, chromedp.ByQuery))
	b.fill("The key that was shown there", "0123 4567 89AB CDEF")
	b.press("Take it back")
	b.sees("Nothing of it is taken")
	b.visit("/satchels", "Bring outcomes back")
	b.do(chromedp.SetUploadFiles("input[type=file]", []string{v.at("skerrow.outcomes")}, chromedp.ByQuery))
	b.press("Take it back")
	b.sees("What came back")
	b.sees("gauge-fw-4.2-main.img")
	b.sees("withdrawn")
	b.accessible("satchel")
}
