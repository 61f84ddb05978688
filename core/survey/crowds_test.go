package survey

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
	"endeixis/core/openpgp/pgptest"
)

// These folders are such that looking through all of it for each file, or keeping each
// pair of an entry and a file, would take hours or all memory.

// value is a line with a digest and nothing else.
func value(content string) string { return strings.Fields(line(content, "x"))[0] + "\n" }

// crowd plans a folder of files that are there by their names and, where they have any,
// their contents.
func crowd(t *testing.T, files map[string]string, containers ...Looked) (*Survey, map[string]*Item) {
	t.Helper()
	found := &Findings{Containers: containers}
	for name, content := range files {
		f := Found{Path: name, Size: int64(len(content)), ModTime: born}
		if content != "" {
			f.Content = []byte(content)
		}
		found.Files = append(found.Files, f)
	}
	s, err := Plan(found, Options{})
	require.NoError(t, err)
	items := map[string]*Item{}
	for i := range s.Items {
		items[s.Items[i].Path] = &s.Items[i]
	}
	return s, items
}

// listed counts the pairs of entries and files.
func listed(s *Survey) int {
	n := 0
	for i := range s.Items {
		n += len(s.Items[i].Listed)
	}
	return n
}

func TestManyFilesOfTheSameStem(t *testing.T) {
	const n = 30_000
	sig := string(pgptest.NewKey("crowd", pgptest.Ed25519, born).Sign([]byte("x"), pgptest.Sig{Created: born}))
	files := map[string]string{}
	for i := range n {
		files[fmt.Sprintf("chart-%d.zip", i)] = ""
		files[fmt.Sprintf("chart-%d.sha256", i)] = value(fmt.Sprint(i))
		files[fmt.Sprintf("tide-%d.img", i)] = ""
		files[fmt.Sprintf("tide-%d.sig", i)] = sig
	}
	s, items := crowd(t, files)
	assert.Equal(t, n, listed(s))
	for i := range n {
		chart, tide := items[fmt.Sprintf("chart-%d.zip", i)], items[fmt.Sprintf("tide-%d.img", i)]
		require.Len(t, chart.Listed, 1)
		require.False(t, chart.Listed[0].Doubtful)
		require.Len(t, tide.Signatures, 1)
		require.False(t, tide.Signatures[0].Doubtful)
	}
}

// TestManyValuesWithoutNames: the files beside a list of nothing but digests may be any of
// them, or none.
func TestManyValuesWithoutNames(t *testing.T) {
	const n = 60_000
	values := &strings.Builder{}
	for i := range n {
		values.WriteString(value(fmt.Sprint(i)))
	}
	_, items := crowd(t, map[string]string{"known": values.String(), "gauge.bin": ""})
	require.Len(t, items["gauge.bin"].Listed, n)
	assert.True(t, items["gauge.bin"].Listed[0].Doubtful, "no file has so many digests")

	files := map[string]string{"known": values.String()}
	for i := range 16 {
		files[fmt.Sprintf("gauge-%d.bin", i)] = ""
	}
	s, items := crowd(t, files)
	assert.Zero(t, listed(s))
	assert.Contains(t, items["known"].Why, "states 60000 digests without saying of which files, and they are too many")
}

// TestValuesOfTheOnlyFile: of several values of one algorithm that name no file, the only
// file here has one at most. Values of different algorithms are all its own, and so are
// those of a list that is named after it.
func TestValuesOfTheOnlyFile(t *testing.T) {
	two := "SHA-256: " + value("bytes") + "SHA-256: " + value("other")
	_, items := crowd(t, map[string]string{"values.txt": two, "gauge.bin": ""})
	require.Len(t, items["gauge.bin"].Listed, 2)
	assert.True(t, items["gauge.bin"].Listed[0].Doubtful && items["gauge.bin"].Listed[1].Doubtful)

	_, items = crowd(t, map[string]string{"gauge.bin.sha256": two, "gauge.bin": ""})
	require.Len(t, items["gauge.bin"].Listed, 2)
	assert.False(t, items["gauge.bin"].Listed[0].Doubtful || items["gauge.bin"].Listed[1].Doubtful)

	_, items = crowd(
		t,
		map[string]string{"values.txt": "SHA-256: " + value("bytes") + "SHA3-256: " + value("other"), "gauge.bin": ""},
	)
	require.Len(t, items["gauge.bin"].Listed, 2)
	assert.False(t, items["gauge.bin"].Listed[0].Doubtful || items["gauge.bin"].Listed[1].Doubtful)
}

// TestListsThatRepeat: what a list goes on to say of one file is not kept, once it cannot
// change any more what comes of it.
func TestListsThatRepeat(t *testing.T) {
	const n = 100_000
	same := strings.Repeat(line("bytes", "gauge.bin"), n)
	_, items := crowd(t, map[string]string{"SHA256SUMS": same + line("other", "gauge.bin"), "gauge.bin": ""})
	said := items["gauge.bin"].Listed
	require.Less(t, len(said), 200)
	assert.Equal(t, n+1, said[len(said)-1].Line, "another value is heard, however late")

	different := &strings.Builder{}
	for i := range n {
		different.WriteString(line(fmt.Sprint(i), "gauge.bin"))
	}
	_, items = crowd(t, map[string]string{"SHA256SUMS": different.String(), "gauge.bin": ""})
	assert.Less(t, len(items["gauge.bin"].Listed), 200)
	assert.Greater(t, len(items["gauge.bin"].Listed), 1, "they disagree")
}

// TestManyMembersOfOneName: an entry may be of any member that has its name.
func TestManyMembersOfOneName(t *testing.T) {
	const n = 50_000
	layout := &container.Layout{Format: container.Zip}
	entries := &strings.Builder{}
	for i := range n {
		layout.Members = append(layout.Members, container.Member{Name: fmt.Sprintf("d%d/table", i), Size: 1})
		fmt.Fprintf(entries, "%x  table\n", sha256.Sum256([]byte(fmt.Sprint(i))))
	}
	_, items := crowd(
		t, map[string]string{"all.zip": "", "SHA256SUMS": entries.String()}, Looked{Path: "all.zip", Layout: layout},
	)
	assert.Len(t, items, 2, "which of them is meant cannot be said")

	layout.Members = layout.Members[:3]
	_, items = crowd(
		t, map[string]string{"all.zip": "", "SHA256SUMS": line("a", "table") + line("b", "d1/table")},
		Looked{Path: "all.zip", Layout: layout},
	)
	assert.Len(t, items["all.zip//d0/table"].Listed, 1)
	assert.Len(t, items["all.zip//d1/table"].Listed, 2)
}
