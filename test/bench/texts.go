package main

import (
	"crypto/sha256"
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"endeixis/core/manifest"
)

// textSize is how long the texts are that are read, and the aims are for a MiB of them.
const (
	textSize     = 4 << 20
	aimOfList    = 100 * time.Millisecond
	aimOfNothing = 20 * time.Millisecond
	aimOfMemory  = 20
)

// A kindOfText writes the part of a text with a number.
type kindOfText struct {
	name        string
	part        func(i int, sum string) string
	head, after string
	// empty is set for one that holds no digest.
	empty bool
}

// kindsOfText are shapes in which lists and other texts come.
var kindsOfText = []kindOfText{
	{name: "lines of one word", empty: true, part: func(int, string) string { return "ab\n" }},
	{name: "lines of numbers", empty: true, part: func(i int, _ string) string { return fmt.Sprintf("%d\n", i%100) }},
	{
		name: "prose", empty: true,
		part: func(int, string) string { return "the tide rises at the mole and the lamp is lit.\n" },
	},
	{name: "a program", empty: true, part: func(i int, _ string) string {
		return fmt.Sprintf("if (x[%d] == \"a-%d.c\") { return f(a, b); }\n", i, i)
	}},
	{name: "name first", part: func(i int, sum string) string { return fmt.Sprintf("lamp-%d.bin: %s\n", i, sum) }},
	{
		name: "tagged",
		part: func(i int, sum string) string { return fmt.Sprintf("SHA256 (lamp-%d.bin) = %s\n", i, sum) },
	},
	{name: "values alone", part: func(_ int, sum string) string { return sum + "\n" }},
	{name: "records", part: func(i int, sum string) string {
		return fmt.Sprintf("File: lamp-%d.bin\nSize: %d\nSHA256: %s\n\n", i, i, sum)
	}},
	{
		name: "cells with commas",
		part: func(i int, sum string) string { return fmt.Sprintf("lamp-%d.bin,%d,%s\n", i, i, sum) },
	},
	{name: "many columns", part: func(i int, sum string) string {
		return fmt.Sprintf("a\tb\tc\td\tlamp-%d.bin\t%d\t%s\tx\ty\n", i, i, sum)
	}},
	{
		name: "a heading for each",
		part: func(i int, sum string) string { return fmt.Sprintf("SHA-256 checksums:\n%s  lamp-%d.bin\n", sum, i) },
	},
	{
		name: "JSON", head: "[", after: "{}]",
		part: func(i int, sum string) string { return fmt.Sprintf(`{"name":"lamp-%d.bin","sha256":"%s"},`, i, sum) },
	},
	{name: "values of MD5 alone", part: func(_ int, sum string) string { return sum[:32] + "\n" }},
	{
		name: "short lines and one digest", head: strings.Repeat("0123456789abcdef", 4) + "  lamp.bin\n",
		part: func(int, string) string { return "a\n" },
	},
	{
		name: "values in fours",
		part: func(i int, sum string) string { return fmt.Sprintf("lamp-%d.bin  %s\n", i, inGroups(sum, 4)) },
	},
	{
		name: "checksums of eight digits",
		part: func(i int, sum string) string { return fmt.Sprintf("lamp-%d.bin %s\n", i, sum[:8]) },
	},
	{name: "a dump of memory", part: func(i int, sum string) string {
		return fmt.Sprintf("%08x  %s |....|\n", 16*i, inGroups(sum[:32], 2))
	}},
	{name: "JSON, a map of maps", head: "{", after: `"a":1}`, part: func(i int, sum string) string {
		return fmt.Sprintf(`"lamp-%d.bin":{"hashes":{"sha256":"%s"}},`, i, sum)
	}},
	{name: "deep JSON", part: func(int, string) string { return `{"a":` }, empty: true},
	{
		name: "YAML", head: "files:\n",
		part: func(i int, sum string) string { return fmt.Sprintf("  - name: lamp-%d.bin\n    sha256: %s\n", i, sum) },
	},
	{
		name: "a page's table", head: "<html><table><tr><th>File</th><th>SHA-256</th></tr>",
		part: func(i int, sum string) string {
			return fmt.Sprintf("<tr><td>lamp-%d.bin</td><td>%s</td></tr>\n", i, sum)
		},
	},
}

// texts reads texts of many shapes. The floor is the aim: so much of a core for each MiB.
func texts(string) ([]row, error) {
	var out []row
	for _, kind := range kindsOfText {
		var b strings.Builder
		b.WriteString(kind.head)
		for i := 0; b.Len() < textSize; i++ {
			b.WriteString(kind.part(i, fmt.Sprintf("%x", sha256.Sum256(fmt.Append(nil, i)))))
		}
		b.WriteString(kind.after)
		best := time.Hour
		for range rounds {
			start := used()
			if _, err := manifest.Parse(b.String(), manifest.Options{}); err != nil {
				return nil, err
			}
			best = min(best, used()-start)
		}
		held := mostHeld(b.String())
		aim := aimOfList
		if kind.empty {
			aim = aimOfNothing
		}
		each := best * (1 << 20) / time.Duration(b.Len())
		out = append(out, row{
			work:    "reading a text as a list: " + kind.name,
			floor:   "a core for so long for each MiB",
			aim:     "≤ " + aim.String(),
			ours:    each,
			against: aim,
			reached: each <= aim,
			figure:  round(each),
		})
		if !kind.empty {
			out = append(out, row{
				work:    "memory to read a text as a list: " + kind.name,
				floor:   "the text itself",
				aim:     fmt.Sprintf("≤ %d ×", aimOfMemory),
				reached: held <= aimOfMemory,
				figure:  fmt.Sprintf("%.1f ×", held),
			})
		}
	}
	return out, nil
}

// inGroups parts the digits of a value by blanks.
func inGroups(sum string, width int) string {
	var groups []string
	for at := 0; at < len(sum); at += width {
		groups = append(groups, sum[at:at+width])
	}
	return strings.Join(groups, " ")
}

// mostHeld returns how many times the length of a text is in use at most while it is read,
// of which the text itself is not counted.
func mostHeld(text string) float64 {
	debug.FreeOSMemory()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	most := before.HeapInuse
	done, watched := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-done:
				return
			case <-time.After(2 * time.Millisecond):
				runtime.ReadMemStats(&now)
				most = max(most, now.HeapInuse)
			}
		}
	}()
	_, _ = manifest.Parse(text, manifest.Options{})
	close(done)
	<-watched
	return float64(most-before.HeapInuse) / float64(len(text))
}

// used returns how long this program has had a core.
func used() time.Duration {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
