package manifest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestFieldOf: a field is a label, a sign and what is said. What cannot be a label begins
// none.
func TestFieldOf(t *testing.T) {
	for text, want := range map[string]field{
		"File: lamp.bin":        {"File", "lamp.bin"},
		"Größe: 4":              {"Größe", "4"},
		"名前：lamp.bin":           {"名前", "lamp.bin"},
		"sha-256 = 00":          {"sha-256", "00"},
		"size -> 4":             {"size", "4"},
		"sha256-file: x":        {"sha256-file", "x"},
		"e\u0301tat: x":         {"e\u0301tat", "x"},
		"half ½ tide: x":        {"half ½ tide", "x"},
		"lamp.bin := x":         {"lamp.bin", "x"},
		`name "lamp.bin"`:       {"name", "lamp.bin"},
		"file (of the mole): x": {"file (of the mole)", "x"},
		"a b:":                  {"a b", ""},
		"sixty-four letters " + strings.Repeat("x", 45) + ": x": {"sixty-four letters " + strings.Repeat("x", 45), "x"},
	} {
		got, ok := fieldOf(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{
		"", ":", ": x", "= x", "- x: y", "4: x", "½: x", "\u0301: x", "a-> b", "a\tb: c", "lamp!: x", "no sign", "->", "ab -",
		"sixty-five letters " + strings.Repeat("x", 46) + ": x", "名" + strings.Repeat("x", 64) + ": x",
	} {
		_, ok := fieldOf(text)
		assert.False(t, ok, text)
	}
}
