package manifest

import (
	"regexp"
	"strings"
)

// bracketForm is how a text of lists in brackets begins: a bracket and a word.
var bracketForm = regexp.MustCompile(`^\(\s*[A-Za-z][\w.-]*[\s()]`)

// bracketTree reads a text of lists in brackets, “(file (name "gauge.bin") (size 4096))”:
// the word that a list begins with names it. It returns nil for a text that is none, or
// whose brackets do not pair.
func bracketTree(text string) *node {
	pl := &places{text: text}
	root := &node{list: true, line: 1, column: 1}
	stack := []*node{root}
	nodes, newNode := 0, false // fresh is set behind an opening bracket
	for at := 0; at < len(text); {
		top := stack[len(stack)-1]
		c := text[at]
		if strings.IndexByte(" \t\r\n", c) >= 0 {
			at++
			continue
		}
		if nodes++; nodes > maxNodes || len(stack) > maxDepth {
			return nil
		}
		line, column := pl.at(at)
		switch c {
		case ';':
			at += len(lineOf(text[at:]))
		case '(':
			n := &node{line: line, column: column}
			top.kids = append(top.kids, n)
			stack, newNode = append(stack, n), true
			at++
		case ')':
			if len(stack) == 1 {
				return nil
			}
			top.close()
			stack, newNode = stack[:len(stack)-1], false
			at++
		default:
			word, length, quoted := bracketWord(text[at:])
			if length == 0 || len(stack) == 1 {
				return nil
			}
			if newNode && !quoted {
				top.key = word
			} else {
				top.kids = append(top.kids, &node{text: word, scalar: true, line: line, column: column})
			}
			newNode = false
			at += length
		}
	}
	if len(stack) != 1 {
		return nil
	}
	return root
}

// close makes of a list with one word in it a scalar, and of one without a name a list.
func (n *node) close() {
	switch {
	case n.key != "" && len(n.kids) == 1 && n.kids[0].scalar && n.kids[0].key == "":
		only := n.kids[0]
		n.text, n.scalar, n.line, n.column, n.kids = only.text, true, only.line, only.column, nil
	case n.key == "" || len(n.kids) > 0 && allScalars(n):
		n.list = true
	}
}

// bracketWord returns the word that a text begins with, how long it is there, and whether
// it stands in quotes.
func bracketWord(text string) (word string, length int, quoted bool) {
	if text[0] != '"' {
		end := strings.IndexAny(text, " \t\r\n()\"")
		if end < 0 {
			end = len(text)
		}
		return text[:end], end, false
	}
	var out strings.Builder
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '"':
			return out.String(), i + 1, true
		case '\\':
			if i++; i == len(text) {
				return "", 0, true
			}
		}
		out.WriteByte(text[i])
	}
	return "", 0, true
}

// lineOf returns the rest of the line that a text begins in.
func lineOf(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}
