package manifest

import (
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

var (
	arrayStart = regexp.MustCompile(`^([A-Za-z_]\w*)\+?=\((.*)$`)
	arrayItem  = regexp.MustCompile(`"([^"]*)"|'([^']*)'|([^\s"'()]+)`)
)

// recipeArrays reads the lists of a recipe in the form “source=(…)” and “sha256sums=(…)”,
// whose items belong together one by one. It returns them as a record, and the other rows.
func recipeArrays(rows []row) (record *node, rest []row) {
	record = &node{}
	rest = rows[:0:0]
	from := 0 // what comes before is in rest
	for i := 0; i < len(rows); i++ {
		if strings.IndexByte(rows[i].text, '(') < 0 {
			continue
		}
		m := arrayStart.FindStringSubmatch(rows[i].text)
		if m == nil {
			continue
		}
		key, architecture, _ := strings.Cut(m[1], "_")
		list, end := arrayFrom(rows, i, m[2])
		if label, _ := labelOfKey(key); key != "source" && label == digest.Unknown {
			continue
		}
		list.key = key
		rest = append(rest, rows[from:i]...)
		from, i = end+1, end
		record.put(list, architecture)
	}
	if from == 0 {
		return record, rows
	}
	return record, append(rest, rows[from:]...)
}

// arrayFrom reads the items of a list that begins in the row with an index, behind its
// bracket. It returns the row that it ends in.
func arrayFrom(rows []row, i int, text string) (list *node, end int) {
	list = &node{list: true, line: rows[i].no}
	for {
		inside, _, ended := strings.Cut(text, ")")
		for _, item := range arrayItem.FindAllStringSubmatch(inside, -1) {
			item := item[1] + item[2] + item[3]
			if name, _, renamed := strings.Cut(item, "::"); renamed {
				item = name
			}
			list.kids = append(list.kids, &node{text: item, scalar: true, line: rows[i].no, column: 1})
		}
		if ended || i+1 >= len(rows) {
			return list, i
		}
		i++
		text = rows[i].text
	}
}

// put adds a list to a record. Lists for one kind of machine belong to each other.
func (n *node) put(list *node, architecture string) {
	if architecture == "" {
		n.kids = append(n.kids, list)
		return
	}
	at := slices.IndexFunc(n.kids, func(kid *node) bool { return kid.key == "_"+architecture })
	if at < 0 {
		at = len(n.kids)
		n.kids = append(n.kids, &node{key: "_" + architecture})
	}
	n.kids[at].kids = append(n.kids[at].kids, list)
}

// recipe ties the lists of a recipe.
func (t *tree) recipe(record *node) {
	t.parallel(record)
	for _, kid := range record.kids {
		if !kid.list {
			t.parallel(kid)
		}
	}
}
