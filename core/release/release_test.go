package release_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"endeixis/core/release"
)

func TestNames(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]release.Name{
		"gauge-fw-4.2.bin":            {"gauge-fw-#.bin", "4.2"},
		"in/4.3/Gauge-FW-4.3.BIN":     {"gauge-fw-#.bin", "4.3"},
		"gauge-fw-v4.3.1.bin":         {"gauge-fw-#.bin", "4.3.1"},
		"gauge-fw-4.3-rc1.bin":        {"gauge-fw-#.bin", "4.3-rc1"},
		"gauge-fw_4.3~beta2.bin":      {"gauge-fw_#.bin", "4.3~beta2"},
		"gauge-fw-4.3rc1.bin":         {"gauge-fw-#.bin", "4.3rc1"},
		"gauge-fw-4.3b.bin":           {"gauge-fw-#.bin", "4.3b"},
		"chart-2026-11-30.img":        {"chart-#.img", "2026-11-30"},
		"chart-20261130.img":          {"chart-#.img", "20261130"},
		"logger_2.4-1_amd64.pkg":      {"logger_#_amd64.pkg", "2.4-1"},
		"logger-2.4.x86_64.tar.gz":    {"logger-#.x86_#.tar.gz", "2.4 64"},
		"gauge-fw-4.2.bin.sig":        {"gauge-fw-#.bin.sig", "4.2"},
		"firmware.bin":                {"firmware.bin", ""},
		"lamp-winter.img":             {"lamp-winter.img", ""},
		"SHA256-digests.txt":          {"sha256-digests.txt", ""},
		"tide-4.2-arm64.img":          {"tide-#-arm64.img", "4.2"},
		"tide-4.2-universal.img":      {"tide-#-universal.img", "4.2"},
		"4.2":                         {"#", "4.2"},
		"":                            {".", ""},
		"v.bin":                       {"v.bin", ""},
		"Prüfung-4.2.bin":             {"prüfung-#.bin", "4.2"},
		"a\xff4.2.bin":                {"a\ufffd#.bin", "4.2"},
		"part-00017-of-00020.bin":     {"part-#-of-#.bin", "00017 00020"},
		"gauge-fw-4.2 (1).bin":        {"gauge-fw-# (#).bin", "4.2 1"},
		"gauge-fw-4.2-build7.bin":     {"gauge-fw-#.bin", "4.2-build7"},
		"gauge-fw-4.2.bin.2026-11-30": {"gauge-fw-#.bin.#", "4.2 2026-11-30"},
	} {
		assert.Equal(t, want, release.Of(name), name)
	}
}

// TestReleasesOfOneThingHaveOneStem: whatever stands for the release, the stem stays; what tells
// things apart stays in it.
func TestReleasesOfOneThingHaveOneStem(t *testing.T) {
	t.Parallel()
	want := release.Of("tide-1.0.img").Stem
	for _, r := range []string{"1", "4.2", "v4.2", "4.2.1-3", "2026.11", "10.0.0-rc12", "4.2b", "0.9beta"} {
		assert.Equal(t, want, release.Of("tide-"+r+".img").Stem, r)
	}
	for _, other := range []string{"tide-4.2.bin", "tide-fw-4.2.img", "tides-4.2.img", "tide-4.2-arm64.img", "tide.img"} {
		assert.NotEqual(t, want, release.Of(other).Stem, other)
	}
}

// TestTelling: a number alone, with whatever ending, tells no file from others.
func TestTelling(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]bool{
		"gauge-fw-4.2.bin": true, "firmware.bin": true, "4.2.bin": false, "2026-11-30.img": false, "4.2-notes.txt": true,
		"notes-4.2.txt": true, "7": false,
	} {
		assert.Equal(t, want, release.Of(name).Telling(), name)
	}
}

func FuzzOf(f *testing.F) {
	f.Add("gauge-fw-4.2.bin")
	f.Add("a\xff4.2~x..")
	f.Fuzz(func(t *testing.T, name string) {
		n := release.Of(name)
		if n.Release == "" && strings.Contains(n.Stem, "#") && !strings.Contains(name, "#") {
			t.Errorf("%q has a mark and no release", name)
		}
		if len(n.Stem) > len(name)*4+4 {
			t.Errorf("%q grew to %q", name, n.Stem)
		}
	})
}
