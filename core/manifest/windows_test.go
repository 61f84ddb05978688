package manifest

import (
	"cmp"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLongTexts: a text that is so long that it is read in several windows is read as a
// short one of the same kind, whatever row a window ends with.
func TestLongTexts(t *testing.T) {
	sum := func(i int) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(fmt.Sprint(i)))) }
	for name, kind := range map[string]struct {
		head, foot string
		unnamed    bool
		file       string
		remark     string
		record     func(i int) string
	}{
		"nothing but digests":  {unnamed: true, record: func(i int) string { return sum(i) + "\n" }},
		"name above":           {record: func(i int) string { return fmt.Sprintf("lamp-%d.bin\n%s\n", i, sum(i)) }},
		"name above, indented": {record: func(i int) string { return fmt.Sprintf("lamp-%d.bin\n    %s\n", i, sum(i)) }},
		"digest above":         {record: func(i int) string { return fmt.Sprintf("%s\nlamp-%d.bin\n", sum(i), i) }},
		"fields":               {record: func(i int) string { return fmt.Sprintf("File: lamp-%d.bin\nSize: %d\nSHA256: %s\n", i, i, sum(i)) }},
		"fields, digest first": {record: func(i int) string { return fmt.Sprintf("SHA256: %s\nSize: %d\nFile: lamp-%d.bin\n", sum(i), i, i) }},
		"fields and blanks": {record: func(i int) string {
			return fmt.Sprintf("Algorithm : SHA256\nHash      : %s\nPath      : out\\lamp-%d.bin\n\n", sum(i), i)
		}},
		"name first":  {record: func(i int) string { return fmt.Sprintf("lamp-%d.bin: %s\n", i, sum(i)) }},
		"tagged":      {record: func(i int) string { return fmt.Sprintf("SHA256 (lamp %d.bin) = %s\n", i, sum(i)) }},
		"section":     {head: "Checksums-Sha256:\n", record: func(i int) string { return fmt.Sprintf(" %s %d lamp_%d.dsc\n", sum(i), i+1, i) }},
		"table":       {head: "File,Size,SHA-256\n", record: func(i int) string { return fmt.Sprintf("lamp-%d.bin,%d,%s\n", i, i, sum(i)) }},
		"drawn table": {head: "| File | SHA-256 |\n| --- | --- |\n", record: func(i int) string { return fmt.Sprintf("| lamp-%d.bin | %s |\n", i, sum(i)) }},
		"aligned":     {head: "Digest                                                            Bytes      Name\n", record: func(i int) string { return fmt.Sprintf("%s  %9d  lamp-%d.bin\n", sum(i), i, i) }},
		"wrapped":     {record: func(i int) string { return fmt.Sprintf("lamp-%d.bin: %s\n  %s\n", i, sum(i)[:32], sum(i)[32:]) }},
		"archive": {remark: "\n", head: "Manifest-Version: 1.0\n\n", file: "MANIFEST.MF", record: func(i int) string {
			value := sha256.Sum256([]byte(fmt.Sprint(i)))
			return fmt.Sprintf("Name: org/lamp/L%d.class\nSHA-256-Digest: %s\n\n", i, base64.StdEncoding.EncodeToString(value[:]))
		}},
		"page": {remark: "<p>Tides</p>\n", head: "<html><body><table><tr><th>File</th><th>SHA-256</th></tr>\n", foot: "</table></body></html>\n", record: func(i int) string {
			return fmt.Sprintf("<tr><td>lamp-%d.bin</td><td>%s</td></tr>\n", i, sum(i))
		}},
		"page, list": {remark: "<p>Tides</p>\n", head: "<html><body>\n", foot: "</body></html>\n", record: func(i int) string {
			return fmt.Sprintf("<dl><dt>lamp-%d.bin</dt>\n<dd>%s</dd></dl>\n", i, sum(i))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			const small = 500
			rows := strings.Count(kind.record(0), "\n")
			many := 5 * small / rows
			for _, extra := range []int{0, 1} {
				read := func(n int) *Manifest {
					var text strings.Builder
					text.WriteString(kind.head)
					text.WriteString(strings.Repeat(cmp.Or(kind.remark, "# tides of this year\n"), extra))
					for i := range n {
						text.WriteString(kind.record(i))
					}
					text.WriteString(kind.foot)
					m, err := Parse(text.String(), Options{FileName: kind.file, window: small})
					require.NoError(t, err)
					return m
				}
				short, long := read(50), read(many)
				require.Equal(t, 50, short.Entries.Len(), "%d", extra)
				require.Equal(t, short.Format, long.Format)
				if !assert.Equal(
					t, many, long.Entries.Len(), "%d rows before; %d problems: %v", extra, len(long.Problems),
					firstOf(long.Problems),
				) {
					continue
				}
				for i, e := range long.Entries.All() {
					require.Equal(t, sum(i), e.Digest.String())
					if kind.unnamed {
						require.Empty(t, e.Name)
					} else {
						require.Contains(t, e.Name, fmt.Sprint(i))
					}
				}
				assert.Empty(t, long.Problems)
			}
		})
	}
}

func firstOf(all []Problem) []Problem { return all[:min(len(all), 3)] }
