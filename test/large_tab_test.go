package test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/systeminfo"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// pages returns the processes of a browser that show its pages.
func (b *tab) pages() []int64 {
	b.t.Helper()
	var out []int64
	b.do(chromedp.ActionFunc(func(ctx context.Context) error {
		all, err := systeminfo.GetProcessInfo().Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
		for _, p := range all {
			if p.Type == "renderer" {
				out = append(out, p.ID)
			}
		}
		return err
	}))
	require.NotEmpty(b.t, out)
	return out
}

// resident returns how many MiB of memory processes have together.
func resident(processes []int64) int64 {
	total := int64(0)
	for _, p := range processes {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p))
		if err != nil {
			continue // it has ended
		}
		_, rest, _ := strings.Cut(string(text), "VmRSS:")
		kib, err := strconv.ParseInt(strings.Fields(rest + " 0")[0], 10, 64)
		if err == nil {
			total += kib >> 10
		}
	}
	return total
}

// mostDuring returns how many MiB processes had at most while something was done.
func mostDuring(processes []int64, do func()) int64 {
	var most atomic.Int64
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			most.Store(max(most.Load(), resident(processes)))
			select {
			case <-end:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
	do()
	close(end)
	<-ended
	return most.Load()
}

// sparse makes a file of zeros that takes no room.
func sparse(t *testing.T, name string, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(size))
	require.NoError(t, f.Close())
	return path
}

// maxTab is how many MiB more a tab may take for files of any size.
const maxTab = 150

// TestLargeFileInTheBrowser verifies a file of 1 GiB in a tab, whose memory stays what it was
// but for a bounded part, and gives one of 8 GiB up in the middle.
func TestLargeFileInTheBrowser(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	b := openAlone(t, s)
	b.signIn(roles.Operator)
	b.visit("/spot", "Spot check")
	const size = 1 << 30
	image := sparse(t, "chart.img", size)
	h := sha256.New()
	_, err := io.CopyN(h, zeros{}, size)
	require.NoError(t, err)
	processes := b.pages()
	before := resident(processes)
	most := mostDuring(processes, func() {
		b.paste(fmt.Sprintf("SHA-256: %x", h.Sum(nil)))
		b.give(image)
		b.sees("of 1.0 GiB")
		b.answered()
	})
	b.sees("It matches pasted text")
	t.Logf("%d MiB before, at most %d MiB: %d more", before, most, most-before)
	assert.LessOrEqual(t, most-before, int64(maxTab))

	b.visit("/spot", "Spot check")
	processes = b.pages()
	before = resident(processes)
	most = mostDuring(processes, func() {
		b.give(sparse(t, "disc.img", 8<<30))
		b.sees("of 8.0 GiB")
		b.do(chromedp.Sleep(3 * time.Second))
		b.press("Cancel")
		b.gone("READING 1 FILE")
	})
	assert.LessOrEqual(t, most-before, int64(maxTab))
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
