package api

import (
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/consolecore"
)

// TestCoreIsDescribed: every function of the core in a browser has a path that takes and answers
// shapes of the description.
func TestCoreIsDescribed(t *testing.T) {
	t.Parallel()
	text, err := CoreDocument()
	require.NoError(t, err)
	type content struct {
		Content map[string]struct {
			Schema struct {
				Ref string `yaml:"$ref"`
			}
		}
	}
	var document struct {
		Paths map[string]struct {
			Post struct {
				RequestBody content `yaml:"requestBody"`
				Responses   map[string]content
			}
		}
		Components struct {
			Schemas map[string]struct {
				Properties map[string]any
				Enum       []string
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(text, &document))
	assert.Len(t, document.Paths, len(consolecore.Functions()))
	described := func(c content) {
		ref := c.Content["application/json"].Schema.Ref
		require.Contains(t, ref, "#/components/schemas/")
		assert.Contains(t, document.Components.Schemas, ref[len("#/components/schemas/"):])
	}
	for _, f := range consolecore.Functions() {
		name, _, _ := f.Shape()
		post := document.Paths["/"+name].Post
		described(post.RequestBody)
		described(post.Responses["200"])
	}
	assert.Equal(t, []string{"entry", "problem", "aside"}, document.Components.Schemas["MarkKind"].Enum)
}
