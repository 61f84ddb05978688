package compare_test

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "endeixis/core/compare"
)

// set makes files of “path=content”; without a content one was not measured.
func set(list ...string) []File {
	var out []File
	for i, text := range list {
		name, content, measured := strings.Cut(text, "=")
		f := File{N: i, Path: name, Size: int64(len(content))}
		if measured {
			sum := sha256.Sum256([]byte(content))
			f.SHA256 = sum[:]
		}
		out = append(out, f)
	}
	return out
}

// shown writes changes as “kind before>after”.
func shown(changes []Change) []string {
	var out []string
	for _, c := range changes {
		var was, now string
		if c.Before != nil {
			was = c.Before.Path
		}
		if c.After != nil {
			now = c.After.Path
		}
		out = append(out, fmt.Sprintf("%s %s>%s", c.Kind, was, now))
	}
	return out
}

// TestFiles: every file of both sets stands in the answer once.
func TestFiles(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		before, after []File
		want          []string
	}{
		"both empty":                  {nil, nil, nil},
		"as it was":                   {set("a=1"), set("a=1"), []string{"unchanged a>a"}},
		"other bytes":                 {set("a=1"), set("a=2"), []string{"changed a>a"}},
		"came and went":               {set("a=1"), set("b=2"), []string{"removed a>", "added >b"}},
		"renamed":                     {set("a=1"), set("b=1"), []string{"renamed a>b"}},
		"moved into a folder":         {set("a=1"), set("x/a=1"), []string{"renamed a>x/a"}},
		"one copied":                  {set("a=1"), set("a=1", "b=1"), []string{"unchanged a>a", "added >b"}},
		"two of the same bytes":       {set("a=1", "b=1"), set("c=1", "d=1"), []string{"renamed a>c", "renamed b>d"}},
		"two of them became one":      {set("a=1", "b=1"), set("c=1"), []string{"removed b>", "renamed a>c"}},
		"another release":             {set("gauge-4.1.img=1"), set("gauge-4.2.img=2"), []string{"replaced gauge-4.1.img>gauge-4.2.img"}},
		"in another folder":           {set("x/gauge-4.1.img=1"), set("y/gauge-4.2.img=2"), []string{"removed x/gauge-4.1.img>", "added >y/gauge-4.2.img"}},
		"two could be it":             {set("gauge-4.1.img=1"), set("gauge-4.2.img=2", "gauge-4.3.img=3"), []string{"removed gauge-4.1.img>", "added >gauge-4.2.img", "added >gauge-4.3.img"}},
		"a name that is a number":     {set("4.1.img=1"), set("4.2.img=2"), []string{"removed 4.1.img>", "added >4.2.img"}},
		"bytes before names":          {set("gauge-4.1.img=1", "b=2"), set("gauge-4.2.img=2"), []string{"renamed b>gauge-4.2.img", "removed gauge-4.1.img>"}},
		"one was not measured":        {set("a"), set("a=1"), []string{"incomparable a>a"}},
		"neither was measured":        {set("a", "b"), set("c"), []string{"removed a>", "removed b>", "added >c"}},
		"unmeasured of other release": {set("gauge-4.1.img"), set("gauge-4.2.img"), []string{"replaced gauge-4.1.img>gauge-4.2.img"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := Files(c.before, c.after)
			want, have := slices.Clone(c.want), shown(got)
			slices.Sort(want)
			slices.Sort(have)
			assert.Equal(t, want, have)
			byPath := func(a, b Change) int { return strings.Compare(a.Path(), b.Path()) }
			assert.True(t, slices.IsSortedFunc(got, byPath))
		})
	}
}

// TestPackages: each form is read whole, and what is none of them is told with its place.
func TestPackages(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text, want string // “name version; …”, or what is wrong
	}{
		"CycloneDX":               {`{"bomFormat":"CycloneDX","components":[{"name":"zlib","version":"1.3","components":[{"group":"org.x","name":"y","version":"2"}]},{"name":"bare"}]}`, "bare ; org.x/y 2; zlib 1.3"},
		"SPDX":                    {`{"spdxVersion":"SPDX-2.3","packages":[{"name":"zlib","versionInfo":"1.3"},{"name":"zlib","versionInfo":"1.2"}]}`, "zlib 1.2, 1.3"},
		"paragraphs":              {"Package: zlib\nVersion: 1:1.3-1\nDescription: small\n and more: of it\n\n\nPackage: gauge\nVersion: 4.2\n", "gauge 4.2; zlib 1:1.3-1"},
		"lines":                   {"# made by hand\nzlib 1.3\ngauge=4.2\r\n\n", "gauge 4.2; zlib 1.3"},
		"another JSON":            {`{"components":[]}`, "neither that it is of CycloneDX nor of SPDX 2"},
		"SPDX 3":                  {`{"spdxVersion":"SPDX-3.0","packages":[]}`, "neither"},
		"cut JSON":                {`{"bomFormat":"CycloneDX","components":[`, "no JSON that is understood"},
		"a paragraph without one": {"Package: zlib\n\nPackage: gauge\nVersion: 4.2\n", "line 2: the paragraph before it has not both"},
		"no field":                {"Package: zlib\nwhatever\n", "line 2: it is no field"},
		"prose":                   {"These are our packages\n", "line 1: it is not a name and a version"},
		"nothing":                 {"\n# nothing\n", "names no package"},
		"a line without an end":   {strings.Repeat("x", 2<<20), "line 1: it is too long"},
		"nested without end":      {`{"bomFormat":"CycloneDX","components":` + strings.Repeat(`[{"name":"x","components":`, 200) + "[]" + strings.Repeat("}]", 200) + "}", "too deep"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got, err := ReadPackages([]byte(c.text))
			if err != nil {
				var told *PackagesError
				require.ErrorAs(t, err, &told)
				assert.Contains(t, err.Error(), c.want)
				return
			}
			var have []string
			for _, name := range slices.Sorted(maps.Keys(got)) {
				have = append(have, name+" "+strings.Join(got[name], ", "))
			}
			assert.Equal(t, c.want, strings.Join(have, "; "))
		})
	}
	changes := Packages{"a": {"1"}, "b": {"1"}, "c": {"1", "2"}}.Changes(Packages{"b": {"1"}, "c": {"2"}, "d": {"4"}})
	assert.Equal(t, []PackageChange{
		{Kind: "removed", Name: "a", Before: "1"},
		{Kind: "changed", Name: "c", Before: "1, 2", After: "2"},
		{Kind: "added", Name: "d", After: "4"},
	}, changes)
	assert.True(t, NamesPackages("x/chart.cdx.json") && NamesPackages("image-4.2.packages") && NamesPackages("SBOM.json"))
	assert.False(t, NamesPackages("x/chart.json") || NamesPackages("packages/gauge.img"))
}

// BenchmarkFiles compares two sets of 100,000 files, of which each tenth has other bytes and each hundredth another
// name.
func BenchmarkFiles(b *testing.B) {
	const n = 100_000
	var before, after []string
	for i := range n {
		before = append(before, fmt.Sprintf("part-%06d.img=%d", i, i))
		switch {
		case i%100 == 0:
			after = append(after, fmt.Sprintf("other-%06d.img=%d", i, i))
		case i%10 == 0:
			after = append(after, fmt.Sprintf("part-%06d.img=new %d", i, i))
		default:
			after = append(after, before[i])
		}
	}
	old, new := set(before...), set(after...)
	for b.Loop() {
		if len(Files(old, new)) != n {
			b.Fatal("a file is missing")
		}
	}
}
