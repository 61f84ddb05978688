package manifest

import (
	"path"
	"strings"
)

// maxConfig bounds the texts that are tried as YAML.
const maxConfig = 4 << 20

// config reads a text in YAML, and reports whether it is one. A list whose lines happen
// to be members of one object is none: only what is nested, or named so, is.
func (p *parser) config(text string) bool {
	if len(text) > maxConfig {
		return false
	}
	ending := strings.ToLower(path.Ext(p.opts.FileName))
	named := ending == ".yml" || ending == ".yaml"
	if !named && !yamlForm.MatchString(text[:min(len(text), maxHead)]) {
		return false
	}
	root := yamlTree(text)
	if root == nil || len(root.kids) == 0 {
		return false
	}
	nested := false
	for _, doc := range root.kids {
		for _, kid := range doc.kids {
			nested = nested || !kid.scalar
		}
	}
	if !nested && !named {
		return false
	}
	p.tree(root, Document)
	return true
}
