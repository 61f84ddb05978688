package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCollect: every module of every program is named with its licence, that of the core for
// browsers too, and nothing that only builds or tests it.
func TestCollect(t *testing.T) {
	t.Chdir(filepath.Join("..", "..", ".."))
	var out bytes.Buffer
	require.NoError(t, collect(&out))
	text := out.String()
	for _, p := range programs {
		found, err := modules(p.path, p.env)
		require.NoError(t, err)
		for _, m := range found {
			assert.Contains(t, text, "== "+m.Path+" "+m.Version+" ==\n\n", p.path)
		}
	}
	assert.Contains(t, text, "== Go go1")
	assert.Contains(t, text, "Redistribution and use in source and binary forms")
	for _, other := range []string{"stretchr/testify", "chromedp", "golangci"} {
		assert.NotContains(t, text, other)
	}
}

func TestAModuleWithoutLicence(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "license_test.go"), []byte("package x"), 0o600))
	_, err := licencesIn(dir)
	assert.ErrorContains(t, err, "no licence")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "COPYING"), []byte("\nfree\n\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Licence.md"), []byte("as it is"), 0o600))
	texts, err := licencesIn(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"free\n", "as it is\n"}, texts)
}
