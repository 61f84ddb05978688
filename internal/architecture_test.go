// Package internal_test keeps the layers of the service apart, as
// docs/architecture.md draws them.
package internal_test

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

// sources calls read with each file of ours below some folders that is no test, and with the path of
// its package below the module.
func sources(t *testing.T, mode parser.Mode, tops []string, read func(pkg string, set *token.FileSet, file *ast.File)) {
	t.Helper()
	root := ".."
	for _, top := range tops {
		err := filepath.WalkDir(filepath.Join(root, top), func(path string, entry fs.DirEntry, err error) error {
			require.NoError(t, err)
			if entry.IsDir() && entry.Name() == "node_modules" {
				return fs.SkipDir
			}
			if entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return nil
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, mode)
			require.NoError(t, err)
			pkg, err := filepath.Rel(root, filepath.Dir(path))
			require.NoError(t, err)
			read(filepath.ToSlash(pkg), set, file)
			return nil
		})
		require.NoError(t, err)
	}
}

// imports returns what each package of ours imports, tests aside, by its path
// below the module.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	tops := []string{"cmd", "core", "internal", "demo", "console"}
	sources(t, parser.ImportsOnly, tops, func(pkg string, _ *token.FileSet, file *ast.File) {
		out[pkg] = append(out[pkg], []string{}...)
		for _, spec := range file.Imports {
			imported, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			out[pkg] = append(out[pkg], imported)
		}
	})
	require.Greater(t, len(out), 40)
	return out
}

// TestDrawingIsTrue: every package stands in the drawing once, and imports only
// what stands below it.
func TestDrawingIsTrue(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "docs", "architecture.md"))
	require.NoError(t, err)
	_, drawing, ok := strings.Cut(string(text), "```packages\n")
	require.True(t, ok, "there is no drawing of packages")
	drawing, _, _ = strings.Cut(drawing, "```")
	line := map[string]int{}
	for n, layer := range strings.Split(strings.TrimSpace(drawing), "\n") {
		for _, pkg := range strings.Fields(layer) {
			assert.NotContains(t, line, pkg, "it is drawn twice")
			line[pkg] = n
		}
	}
	all := imports(t)
	for pkg, imported := range all {
		if !assert.Contains(t, line, pkg, "it is not drawn") {
			continue
		}
		for _, other := range imported {
			if other, own := strings.CutPrefix(other, "endeixis/"); own {
				assert.Greater(t, line[other], line[pkg], "%s imports %s, which does not stand below it", pkg, other)
			}
		}
	}
	for pkg := range line {
		assert.Contains(t, all, pkg, "it is drawn and not there")
	}
}

// TestWhoKnowsWhat: the packages that know SQL and HTTP are these, and no others.
func TestWhoKnowsWhat(t *testing.T) {
	t.Parallel()
	sql := []string{"internal/jobs", "internal/pgserver", "internal/store"}
	http := []string{
		"internal/api", "internal/client", "internal/directories", "internal/outside", "internal/serve",
		"internal/wire", "internal/witness", "internal/world",
	}
	var foundSQL, foundHTTP []string
	for pkg, imported := range imports(t) {
		if !strings.HasPrefix(pkg, "internal/") {
			continue
		}
		if slices.ContainsFunc(imported, func(i string) bool {
			return strings.Contains(i, "sqlx") || i == "database/sql" || strings.Contains(i, "jackc/pgx")
		}) {
			foundSQL = append(foundSQL, pkg)
		}
		if slices.ContainsFunc(imported, func(i string) bool {
			return i == "net/http" || strings.Contains(i, "gin-gonic") || strings.Contains(i, "huma")
		}) {
			foundHTTP = append(foundHTTP, pkg)
		}
	}
	all := imports(t)
	assert.NotContains(t, all["internal/api"], "endeixis/internal/store", "the API asks the services")
	assert.ElementsMatch(t, sql, foundSQL)
	assert.ElementsMatch(t, http, foundHTTP)
}

// TestFaultsHaveCodesOfTheList: a fault is made, and asked for, by a constant of
// internal/fault/codes.go.
func TestFaultsHaveCodesOfTheList(t *testing.T) {
	t.Parallel()
	made := 0
	sources(t, 0, []string{"cmd", "internal", "demo"}, func(_ string, set *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) < 2 {
				return true
			}
			f, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || f.Sel.Name != "New" && f.Sel.Name != "Is" {
				return true
			}
			if of, ok := f.X.(*ast.Ident); !ok || of.Name != "fault" {
				return true
			}
			made++
			_, literal := call.Args[1].(*ast.BasicLit)
			assert.False(t, literal, "%s: name the code in internal/fault/codes.go", set.Position(call.Pos()))
			return true
		})
	})
	assert.Greater(t, made, 200)
}
