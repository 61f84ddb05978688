// Package core_test guards the rule that core computes only: it imports the
// standard library without network, database and environment, a few algorithm
// packages, and nothing of the service.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allowed lists the modules beyond the standard library that core may use.
var allowed = []string{
	"github.com/pjbgf/sha1cd",
	"github.com/minio/md5-simd",
	"github.com/minio/sha256-simd",
	"golang.org/x/sys/cpu",
	"golang.org/x/mod/sumdb",
	"lukechampine.com/blake3",
	"golang.org/x/crypto/blake2b",
	"golang.org/x/crypto/blake2s",
	"golang.org/x/crypto/ripemd160",
	"github.com/cloudflare/circl/sign/ed448",
	"github.com/cloudflare/circl/ecc/goldilocks",
	"filippo.io/edwards25519",
	"golang.org/x/text/",
	"github.com/goccy/go-yaml/ast",
	"github.com/goccy/go-yaml/parser",
	"golang.org/x/net/html",
	"github.com/klauspost/compress/zstd",
	"github.com/ulikunitz/xz",
}

// forbidden lists parts of the standard library that reach outside.
var forbidden = []string{"os", "net", "net/http", "database/sql", "syscall", "os/exec", "log", "log/slog"}

func TestCoreImports(t *testing.T) {
	checked := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		require.NoError(t, err)
		if entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		checked++
		for _, imported := range importsOf(t, path) {
			first, _, _ := strings.Cut(imported, "/")
			switch {
			case strings.HasPrefix(imported, "endeixis/core/"):
			case strings.Contains(first, "."):
				assert.True(
					t, slices.ContainsFunc(allowed, func(a string) bool { return strings.HasPrefix(imported, a) }),
					"%s imports %s", path, imported,
				)
			default:
				assert.NotEqual(t, "endeixis", first, "%s imports %s", path, imported)
				assert.NotContains(t, forbidden, imported, path)
			}
		}
		return nil
	}))
	assert.Greater(t, checked, 20)
}

func importsOf(t *testing.T, path string) []string {
	t.Helper()
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
	require.NoError(t, err)
	var out []string
	for _, spec := range file.Imports {
		imported, err := strconv.Unquote(spec.Path.Value)
		require.NoError(t, err)
		out = append(out, imported)
	}
	return out
}

// TestMeasuringKnowsNoSignatures: what measures can be built into a program that
// has the bytes and nothing else.
func TestMeasuringKnowsNoSignatures(t *testing.T) {
	seen := map[string]bool{}
	var follow func(pkg string)
	follow = func(pkg string) {
		if seen[pkg] {
			return
		}
		seen[pkg] = true
		entries, err := os.ReadDir(strings.TrimPrefix(pkg, "endeixis/core/"))
		require.NoError(t, err)
		for _, entry := range entries {
			if name := entry.Name(); strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, "_test.go") {
				for _, imported := range importsOf(t, filepath.Join(strings.TrimPrefix(pkg, "endeixis/core/"), name)) {
					if strings.HasPrefix(imported, "endeixis/core/") {
						follow(imported)
					}
				}
			}
		}
	}
	follow("endeixis/core/measure")
	assert.Greater(t, len(seen), 3)
	for _, pkg := range []string{"openpgp", "survey", "keyring", "judge"} {
		assert.NotContains(t, seen, "endeixis/core/"+pkg)
	}
}

// TestCoreHasNoClock: what time it is, and how long something may take, is told
// from outside.
func TestCoreHasNoClock(t *testing.T) {
	clock := map[string][]string{
		"time":    {"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker"},
		"context": {"WithTimeout", "WithTimeoutCause", "WithDeadline", "WithDeadlineCause"},
	}
	files := token.NewFileSet()
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(files, path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if call, ok := n.(*ast.SelectorExpr); ok {
				if pkg, ok := call.X.(*ast.Ident); ok {
					assert.NotContains(t, clock[pkg.Name], call.Sel.Name, "%s", files.Position(call.Pos()))
				}
			}
			return true
		})
		return nil
	}))
}
