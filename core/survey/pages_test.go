package survey

import (
	"bytes"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
)

// TestPages: whatever is found is in pages of bounded size, and can be put together again.
func TestPages(t *testing.T) {
	t.Parallel()
	limits := PageLimits{Entries: 10, Bytes: 64}
	long := bytes.Repeat([]byte("0123456789abcdef"), 9)
	found := &Findings{}
	for i := range 25 {
		found.Files = append(found.Files, Found{Path: fmt.Sprintf("f%02d.img", i), Size: int64(i)})
	}
	found.Files = append(
		found.Files, Found{Path: "SHA256SUMS", Size: int64(len(long)), Content: long}, Found{Path: "x.sig", Content: []byte{}},
	)
	members := make([]container.Member, 2*layoutPart+1)
	for i := range members {
		members[i].Name = fmt.Sprint("m", i)
	}
	found.Containers = []Looked{
		{
			Path: "f01.img", Contents: map[string][]byte{"SUMS": long},
			Layout: &container.Layout{Format: container.Zip, Members: members, Links: 3},
		},
		{Path: "f02.img", Trouble: "it ends early"},
	}
	var out Findings
	links, troubles, pages := 0, 0, 0
	for page := range found.Pages(limits) {
		pages++
		require.LessOrEqual(t, len(page.Files)+len(page.Containers), limits.Entries)
		weight := 0
		for _, f := range page.Files {
			weight += len(f.Content)
			at := slices.IndexFunc(out.Files, func(before Found) bool { return before.Path == f.Path })
			require.Equal(t, at >= 0, f.Continued, "%s: the first part begins a file, the next go on with it", f.Path)
			if at < 0 {
				out.Files = append(out.Files, f)
				continue
			}
			out.Files[at].Content = slices.Concat(out.Files[at].Content, f.Content)
		}
		for _, c := range page.Containers {
			at := slices.IndexFunc(out.Containers, func(before Looked) bool { return before.Path == c.Path })
			require.Equal(t, at >= 0, c.Continued, c.Path)
			if at < 0 {
				out.Containers = append(out.Containers, Looked{Path: c.Path, Layout: &container.Layout{}})
				at = len(out.Containers) - 1
			}
			before := &out.Containers[at]
			if c.Trouble != "" {
				troubles++
			}
			if c.Layout != nil {
				links += c.Layout.Links
				before.Layout.Members = slices.Concat(before.Layout.Members, c.Layout.Members)
			}
			for name, content := range c.Contents {
				weight += len(content)
				assert.Equal(t, "SUMS", name)
				before.Contents = map[string][]byte{name: slices.Concat(before.Contents[name], content)}
			}
		}
		assert.LessOrEqual(t, weight, limits.Bytes)
	}
	assert.Equal(t, found.Files, out.Files)
	assert.NotNil(t, out.Files[26].Content, "a file that was read stays one, though it is empty")
	require.Len(t, out.Containers, 2)
	assert.Equal(t, members, out.Containers[0].Layout.Members)
	assert.Equal(t, long, out.Containers[0].Contents["SUMS"])
	assert.Equal(t, 3, links, "what a layout says of itself is said once")
	assert.Equal(t, 1, troubles)
	assert.Greater(t, pages, 5)

	for page := range found.Pages(PageLimits{Entries: 3}) { // however light they are
		assert.LessOrEqual(t, len(page.Files)+len(page.Containers), 3)
	}
	assert.Len(t, slices.Collect((&Findings{}).Pages(limits)), 1, "an empty folder has a page too")
	for range found.Pages(limits) {
		break // nobody wants more
	}
}
