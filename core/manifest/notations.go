package manifest

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	yaml "github.com/goccy/go-yaml/parser"

	"endeixis/core/plain"
)

// places tells lines and columns in a text from offsets that only grow.
type places struct {
	text string
	// line is that of the offset up to which was counted, and start where it begins.
	offset, line, start int
}

func (pl *places) at(offset int) (line, column int) {
	offset = min(offset, len(pl.text))
	for pl.offset < offset {
		next := strings.IndexByte(pl.text[pl.offset:offset], '\n')
		if next < 0 {
			pl.offset = offset
			break
		}
		pl.offset += next + 1
		pl.line, pl.start = pl.line+1, pl.offset
	}
	return pl.line + 1, offset - pl.start + 1
}

// maxNodes bounds the parts of a document.
const maxNodes = 3_000_000

// maxRestarts bounds how often reading goes on behind a damaged line.
const maxRestarts = 1000

// jsonTree reads a text of JSON, or of several documents one after the other. What was
// read before damage is returned with it; of documents on lines of their own, those behind
// a damaged one are read too.
func jsonTree(text string) (*node, []*documentError) {
	pl := &places{text: text}
	root := &node{list: true, line: 1, column: 1}
	var damage []*documentError
	for from := 0; ; {
		d := json.NewDecoder(strings.NewReader(text[from:]))
		d.UseNumber()
		wrong := jsonInto(root, d, from, pl)
		if wrong == nil {
			return root, damage
		}
		damage = append(damage, wrong)
		next := strings.Index(text[min(pl.start, len(text)):], "\n{")
		if from = pl.start + next + 1; next < 0 || len(damage) == maxRestarts || wrong.fatal {
			return root, damage
		}
	}
}

// jsonInto reads documents into a list, up to the end or to damage. from is where the
// decoder begins in the text.
func jsonInto(root *node, d *json.Decoder, from int, pl *places) *documentError {
	nodes := 0
	stack := []*node{root}
	keys := []string{""}
	wantKey := []bool{false}
	for {
		token, err := d.Token()
		offset := from + int(d.InputOffset())
		line, column := pl.at(offset)
		if errors.Is(err, io.EOF) && len(stack) == 1 {
			return nil
		}
		if err != nil {
			return &documentError{line: line, message: fmt.Sprintf("the JSON is damaged: %v", err)}
		}
		if nodes++; nodes > maxNodes {
			return &documentError{line, "the JSON has more parts than are read", true}
		}
		top := len(stack) - 1
		in := stack[top]
		if delim, ok := token.(json.Delim); ok {
			switch delim {
			case '{', '[':
				n := &node{key: keys[top], list: delim == '[', line: line, column: column}
				in.kids = append(in.kids, n)
				if len(stack) > maxDepth {
					return &documentError{line, "the JSON is nested too deep", true}
				}
				keys[top] = ""
				wantKey[top] = !in.list
				stack, keys, wantKey = append(stack, n), append(keys, ""), append(wantKey, delim == '{')
			default:
				stack, keys, wantKey = stack[:top], keys[:top], wantKey[:top]
			}
			continue
		}
		if !in.list && wantKey[top] {
			keys[top], _ = token.(string)
			wantKey[top] = false
			// The name of a member can be a digest.
			continue
		}
		text := ""
		switch v := token.(type) {
		case string:
			text = v
			column = max(1, column-len(v)-1)
		case json.Number:
			text = v.String()
			column = max(1, column-len(text))
		case bool:
			text = fmt.Sprint(v)
		}
		in.kids = append(in.kids, &node{key: keys[top], text: text, scalar: true, line: line, column: column})
		keys[top] = ""
		wantKey[top] = !in.list
	}
}

// A documentError is damage of a structured document.
type documentError struct {
	line    int
	message string
	// fatal is set where nothing behind it is read.
	fatal bool
}

// xmlTree reads a text of XML. Entities of its own do not exist for this reader.
func xmlTree(text string) (*node, *documentError) { //nolint:cyclop // one case for each token
	d := xmlDecoder(text)
	root := &node{line: 1, column: 1}
	stack := []*node{root}
	nodes := 0
	for {
		token, err := d.Token()
		line, column := d.InputPos()
		if nodes++; nodes > maxNodes {
			return root, &documentError{line, "the XML has more parts than are read", true}
		}
		if errors.Is(err, io.EOF) {
			return root, nil
		}
		if err != nil {
			return root, &documentError{line: line, message: fmt.Sprintf("the XML is damaged: %v", err)}
		}
		in := stack[len(stack)-1]
		switch v := token.(type) {
		case xml.StartElement:
			if len(stack) > maxDepth {
				return root, &documentError{line, "the XML is nested too deep", true}
			}
			n := &node{key: v.Name.Local, line: line, column: column}
			for _, a := range v.Attr {
				if a.Name.Space == "xmlns" || a.Name.Local == "xmlns" {
					continue
				}
				n.kids = append(
					n.kids, &node{key: a.Name.Local, text: a.Value, scalar: true, line: line, column: column},
				)
			}
			in.kids = append(in.kids, n)
			stack = append(stack, n)
		case xml.EndElement:
			if in.text = strings.TrimSpace(in.text); len(in.kids) == 0 {
				in.scalar = true
			}
			if in.key == "dict" {
				in.kids = keyed(in.kids)
			}
			stack = stack[:len(stack)-1]
		case xml.CharData:
			if t := strings.TrimSpace(string(v)); t != "" {
				if in.text == "" {
					// The place of what an element holds is where it begins.
					in.line = line - strings.Count(string(v), "\n") + strings.Count(
						string(v[:strings.Index(string(v), t)]), "\n",
					)
				}
				in.text += t
			}
		}
	}
}

// keyed makes members of the elements of a property list: each is named by the “key” in
// front of it.
func keyed(kids []*node) []*node {
	var out []*node
	key := ""
	for _, kid := range kids {
		if kid.key == "key" {
			key = kid.text
			continue
		}
		kid.key = key
		out = append(out, kid)
	}
	return out
}

// yamlForm is a text that may be YAML: members that hold others, or lists of them.
var yamlForm = regexp.MustCompile(`(?m)^(?:---\s*$|\s*-\s+[\w."'-]+:\s|[\w."'/-]+:\s*\n\s+(?:-\s|[\w."'/-]+:))`)

// yamlTree reads a text of YAML, or returns nil when it is none.
func yamlTree(text string) *node {
	file, err := yaml.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil
	}
	root := &node{list: true, line: 1, column: 1}
	for _, doc := range file.Docs {
		if doc.Body != nil {
			if kid := yamlNode("", doc.Body, 0); kid != nil {
				root.kids = append(root.kids, kid)
			}
		}
	}
	return root
}

func yamlNode(key string, from ast.Node, depth int) *node {
	if depth > maxDepth || from == nil {
		return nil
	}
	n := &node{key: key}
	if t := from.GetToken(); t != nil && t.Position != nil {
		n.line, n.column = t.Position.Line, t.Position.Column
	}
	switch v := from.(type) {
	case *ast.MappingNode:
		for _, pair := range v.Values {
			n.add(yamlPair(pair, depth))
		}
	case *ast.MappingValueNode:
		n.add(yamlPair(v, depth))
	case *ast.SequenceNode:
		n.list = true
		for _, item := range v.Values {
			n.add(yamlNode("", item, depth+1))
		}
	case *ast.TagNode:
		return yamlNode(key, v.Value, depth+1)
	case *ast.AnchorNode:
		return yamlNode(key, v.Value, depth+1)
	default:
		n.scalar, n.text = true, yamlText(from)
	}
	return n
}

// add adds a kid, if there is one.
func (n *node) add(kid *node) {
	if kid != nil {
		n.kids = append(n.kids, kid)
	}
}

// yamlText returns the text of a scalar as it is written: a digest of digits alone is no
// number.
func yamlText(from ast.Node) string {
	switch v := from.(type) {
	case *ast.LiteralNode:
		if v.Value == nil {
			return ""
		}
		return v.Value.Value
	case *ast.StringNode:
		return v.Value
	}
	if t := from.GetToken(); t != nil {
		return t.Value
	}
	return ""
}

func yamlPair(pair *ast.MappingValueNode, depth int) *node {
	key := ""
	if t := pair.Key.GetToken(); t != nil {
		key = t.Value
	}
	return yamlNode(key, pair.Value, depth+1)
}

// document reads a structured document, and reports whether the text is one.
func (p *parser) document(text string) bool {
	trimmed := strings.TrimLeft(text, " \t\r\n")
	if trimmed == "" {
		return false
	}
	switch {
	case trimmed[0] == '{' || trimmed[0] == '[' && jsonList.MatchString(trimmed):
		root, damage := jsonTree(text)
		if damage != nil && !root.says() {
			return false
		}
		p.tree(root, formatOfJSON(root))
		for _, d := range damage {
			p.damage(d)
		}
		return true
	case trimmed[0] == '(' && bracketForm.MatchString(trimmed):
		root := bracketTree(text)
		if root == nil {
			return false
		}
		p.tree(root, Document)
		return true
	case trimmed[0] == '<':
		return p.markup(text, trimmed)
	}
	return false
}

// markup reads a page, or a document in XML, and reports whether the text is one.
func (p *parser) markup(text, trimmed string) bool {
	if isPage(trimmed) {
		p.page(text, 1)
		return true
	}
	root, damage := xmlTree(text)
	f := Document
	if strings.Contains(trimmed[:min(len(trimmed), 2000)], cyclonedxSpace) {
		f = CycloneDX
	}
	if damage != nil && !strings.HasPrefix(trimmed, "<?xml") && !strings.HasPrefix(trimmed, "<!") &&
		!strings.Contains(trimmed, "</") {
		return false
	}
	p.tree(root, f)
	p.damage(damage)
	return true
}

// formatOfJSON tells which of the formats that are known by name a document is in.
func formatOfJSON(root *node) Format {
	for _, top := range root.kids {
		for _, kid := range top.kids {
			switch {
			case kid.key == "spdxVersion", kid.key == "@context" && strings.Contains(kid.text, "spdx"):
				return SPDX
			case kid.key == "bomFormat" && kid.text == "CycloneDX":
				return CycloneDX
			}
		}
	}
	return Document
}

// says reports whether a node holds anything but nodes.
func (n *node) says() bool {
	return n.scalar && n.text != "" || slices.ContainsFunc(n.kids, (*node).says)
}

// jsonList is how a list in JSON begins, as against a section in brackets.
var jsonList = regexp.MustCompile(`^\[\s*(?:[{\["]|\])`)

func (p *parser) damage(d *documentError) {
	if d != nil {
		p.out.Lines++
		p.problemAt(d.line, BadDocument, plain.Text(d.message))
	}
}
