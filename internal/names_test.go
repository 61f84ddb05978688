package internal_test

import (
	"go/ast"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// word is one of those that an exported name is put together from.
var word = regexp.MustCompile(`[A-Z]+[a-z0-9]*|[a-z0-9]+`)

// exportedWords returns the words in the exported names of core and internal, each with the
// packages that use it, and one name in each. A plural counts as its singular.
func exportedWords(t *testing.T) map[string]map[string]string {
	t.Helper()
	out := map[string]map[string]string{}
	sources(t, 0, []string{"core", "internal"}, func(pkg string, _ *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			for _, id := range declared(n) {
				if !id.IsExported() {
					continue
				}
				for _, w := range word.FindAllString(id.Name, -1) {
					for _, form := range forms(strings.ToLower(w)) {
						if out[form] == nil {
							out[form] = map[string]string{}
						}
						out[form][pkg] = id.Name
					}
				}
			}
			_, body := n.(*ast.BlockStmt)
			return !body
		})
	})
	return out
}

// forms are a word as it stands, and as its singular may be.
func forms(w string) []string {
	out := []string{w, strings.TrimSuffix(w, "s")}
	if stem, many := strings.CutSuffix(w, "ies"); many {
		out = append(out, stem+"y")
	}
	return out
}

// declared returns the names that a node declares.
func declared(n ast.Node) []*ast.Ident {
	switch n := n.(type) {
	case *ast.FuncDecl:
		return []*ast.Ident{n.Name}
	case *ast.TypeSpec:
		return []*ast.Ident{n.Name}
	case *ast.ValueSpec:
		return n.Names
	case *ast.Field:
		return n.Names
	}
	return nil
}

// TestNamesAreThoseOfTheDictionary: each word of docs/names.md stands in the packages that it
// names and in no others, and those that are not used stand nowhere.
func TestNamesAreThoseOfTheDictionary(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join("..", "docs", "names.md"))
	require.NoError(t, err)
	kept, dropped, ok := strings.Cut(string(page), "\nThese are not used")
	require.True(t, ok)
	used := exportedWords(t)
	rows := regexp.MustCompile("(?m)^\\| ([a-z]+) \\| .* \\| (`.*`) \\|$").FindAllStringSubmatch(kept, -1)
	require.Greater(t, len(rows), 15)
	for _, row := range rows {
		allowed := strings.Split(strings.Trim(row[2], "`"), "` `")
		for pkg, name := range used[row[1]] {
			assert.Contains(t, allowed, pkg, "%s in %s: docs/names.md says what %q means, and where", name, pkg, row[1])
		}
		for _, pkg := range allowed {
			assert.Contains(t, used[row[1]], pkg, "docs/names.md says that %s speaks of %q", pkg, row[1])
		}
	}
	not := regexp.MustCompile(`(?m)^\| ([a-z, ]+) \| .* \|$`).FindAllStringSubmatch(dropped, -1)
	require.Greater(t, len(not), 5)
	excepted := []string{"MeasuredElsewhere"} // the code is older than the dictionary
	for _, row := range not[1:] {             // below the head
		for w := range strings.SplitSeq(row[1], ", ") {
			for pkg, name := range used[w] {
				if w == "finding" && strings.Contains(name, "Findings") || slices.Contains(excepted, name) {
					continue
				}
				assert.Fail(t, "an exported name with a word that has another", "%s in %s: see docs/names.md", name, pkg)
			}
		}
	}
}
