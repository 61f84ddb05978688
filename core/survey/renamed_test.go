package survey

import (
	"crypto/sha256"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHarmlessNames: an entry whose file is not here may be of one whose name differs in
// nothing that matters, and of no other.
func TestHarmlessNames(t *testing.T) {
	for here, c := range map[string]struct {
		listed string
		found  bool
	}{
		"Gauge.BIN":            {"gauge.bin", true},
		"gauge (1).bin":        {"gauge.bin", true},
		"gauge (1).tar.gz":     {"gauge.tar.gz", true},
		"Gro\u0308\u00dfe.bin": {"Gr\u00f6\u00dfe.bin", true},
		"tide table.csv":       {"tide%20table.csv", true},
		"main.img":             {"firmware/v4/main.img", true},
		"gauge-2.bin":          {"gauge.bin", false},
		"gauge.bin.old":        {"gauge.bin", false},
		"gauge (spare).bin":    {"gauge.bin", false},
		"unsafe.bin":           {"../unsafe.bin", false},
	} {
		s, items := run(t, folder(map[string]string{here: "bytes", "SHA256SUMS": line("bytes", c.listed)}))
		if !c.found {
			assert.Empty(t, items[here].Listed, "%s for %s", here, c.listed)
			continue
		}
		require.Len(t, items[here].Listed, 1, "%s for %s", here, c.listed)
		l := items[here].Listed[0]
		assert.True(t, l.Renamed && l.Doubtful, "it is meant only if its bytes are")
		assert.Equal(t, c.listed, l.Name)
		require.Len(t, s.Absent, 1, "until its bytes are known, the entry has no file")
	}
	// A file that has the name itself is the one that is meant.
	_, items := run(
		t,
		folder(
			map[string]string{"gauge.bin": "bytes", "gauge (1).bin": "other", "SHA256SUMS": line("bytes", "gauge.bin")},
		),
	)
	assert.Empty(t, items["gauge (1).bin"].Listed)
	assert.False(t, items["gauge.bin"].Listed[0].Renamed)
}

// TestValuesWithoutAName belong to the file of the same stem; where several have it, or
// none, the digest decides.
func TestValuesWithoutAName(t *testing.T) {
	value := value("bytes")
	_, items := run(t, folder(map[string]string{"lamp.sha256": value, "lamp.zip": "bytes", "gauge.bin": "other"}))
	require.Len(t, items["lamp.zip"].Listed, 1)
	assert.False(t, items["lamp.zip"].Listed[0].Doubtful, "no other has that stem")
	assert.Empty(t, items["gauge.bin"].Listed)

	_, items = run(
		t,
		folder(map[string]string{"lamp.sha256": value, "lamp.zip": "bytes", "lamp.img": "other", "gauge.bin": "other"}),
	)
	require.Len(t, items["lamp.zip"].Listed, 1)
	require.Len(t, items["lamp.img"].Listed, 1)
	assert.True(t, items["lamp.zip"].Listed[0].Doubtful && items["lamp.img"].Listed[0].Doubtful)
	assert.Empty(t, items["gauge.bin"].Listed)

	_, items = run(t, folder(map[string]string{"checksum.sha256": value, "a.bin": "bytes", "b.bin": "other"}))
	assert.True(t, items["a.bin"].Listed[0].Doubtful && items["b.bin"].Listed[0].Doubtful)

	many := map[string]string{"checksum.sha256": value}
	for i := range maxReadings + 1 {
		many[fmt.Sprintf("%d.bin", i)] = "bytes"
	}
	_, items = run(t, folder(many))
	assert.Empty(t, items["0.bin"].Listed, "of many, none is tried")
	assert.Contains(t, items["checksum.sha256"].Why, "does not say which file")
}

// TestListsByContent: a text is a manifest by what it says of files here, whatever it is
// called.
func TestListsByContent(t *testing.T) {
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte("bytes")))
	for name, c := range map[string]struct {
		text string
		list bool
	}{
		"downloads.html": {"<!DOCTYPE html><table><tr><th>File</th><th>SHA-256</th></tr><tr><td>gauge.bin</td><td>" + sum + "</td></tr></table>", true},
		"release.json":   {`{"files":[{"file":"gauge.bin","sha256":"` + sum + `"}]}`, true},
		"index.yaml":     {"files:\n  gauge.bin:\n    sha256: " + sum + "\n", true},
		"letter.eml":     {"Dear all,\nthe SHA-256 of gauge.bin is " + sum + ".\n", true},
		"list.sha384":    {sum + sum[:32] + "  gauge.bin\n", true},
		"sums.odd":       {sum + "  elsewhere.bin\n", true},
		"release.lock":   {`{"files":[{"file":"elsewhere.bin","sha256":"` + sum + `"}]}`, false},
		"notes.md":       {"built from commit " + sum[:40] + "\n", false},
		"gauge.rom":      {"the SHA-256 of gauge.bin is " + sum + "\n", false},
		"data.xyz":       {"\x00\x01\x02 SHA-256 gauge.bin " + sum, false},
	} {
		_, items := run(t, folder(map[string]string{"gauge.bin": "bytes", name: c.text}))
		role := Artifact
		if c.list {
			role = Manifest
		}
		assert.Equal(t, role, items[name].Role, "%s: %s", name, items[name].Why)
	}
}
