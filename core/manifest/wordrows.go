package manifest

import (
	"regexp"
	"strings"

	"endeixis/core/digest"
)

// onlyWords reports whether a row has nothing but words in it, as most rows of a letter.
func onlyWords(text string) bool {
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case '0' <= c && c <= '9', c == '.' && i+1 < len(text) && text[i+1] != ' ', strings.IndexByte(":=|\t/\\[%$>", c) >= 0, c >= 0x80:
			return false
		}
	}
	return true
}

// roundSize is a row with nothing but a size, in whatever unit.
var roundSize = regexp.MustCompile(`(?i)^\(?~?\d[\d.,' ]*\s*(?:[kmgt]i?b|[kmgt]|b|bytes?|octets?|kbytes?|mbytes?)?\)?$`)

// wordRow says what a row without values is.
func (l *layout) wordRow(r *row) {
	text := r.text
	if len(text) < 32 && (hashWords[foldWords(text)] || (text[0] == '(' || text[0] == '~' || hasDigit(text[:1])) && roundSize.MatchString(text) || kindOf(text) == cellDate) {
		r.kind, r.size = rowField, sizeOf(text) // it parts nothing
		return
	}
	if onlyWords(text) && len(r.labels) == 0 && !l.p.known.is(text) {
		return
	}
	if command := promptOf(text); command != "" {
		files := l.p.fileWords(command)
		if len(files) == 1 {
			r.kind, r.name, r.prompt = rowName, files[0], true
			if labels := labelsIn(command); len(labels) == 1 {
				r.label = labels[0].algorithm
			} else if first, _, _ := strings.Cut(command, " "); first != "" {
				if a, ok := algorithmOf(first); ok {
					r.label = a
				}
			}
		}
		return
	}
	if l.p.known.is(trimSeparators(text)) {
		r.kind, r.name, r.pure = rowName, trimSeparators(text), true
		return
	}
	if m := fieldOf(text); m != nil && !isAddress(text) {
		if l.fieldRow(r, m[1], strings.TrimSpace(m[2])) {
			return
		}
	}
	if strings.HasPrefix(text, "%") && strings.HasSuffix(text, "%") && len(text) > 2 {
		r.kind, r.label = rowField, l.markOf(text[1:len(text)-1])
		return
	}
	if len(r.labels) > 0 && l.heading(r, false) {
		r.kind = rowHeading
		return
	}
	// A row that is a name, perhaps with its size and an algorithm beside it.
	inner := trimSeparators(text)
	if isAddress(inner) && !strings.Contains(inner, " ") {
		if name := nameOfAddress(inner); looksLikeFile(name) {
			r.kind, r.name, r.pure = rowName, name, true
		}
		return
	}
	if name := quotedKey(text); name != "" {
		r.kind, r.name, r.pure = rowName, name, true
		return
	}
	if looksLikeFile(inner) && !strings.ContainsAny(inner, " \t") || text[0] == '[' && text[len(text)-1] == ']' && looksLikeFile(inner) {
		r.kind, r.name, r.pure = rowName, inner, true
		return
	}
	files := l.p.fileWords(text)
	labels := labelsIn(text)
	if looksLikeFile(inner) && len(labels) == 0 && !hasHashWord(inner) && !startsProse(inner) && len(strings.Fields(inner)) <= 6 && len(files) <= 1 && !strings.ContainsAny(inner, ":?&") {
		r.kind, r.name, r.pure = rowName, inner, true
		return
	}
	if len(files) != 1 {
		return
	}
	// Columns: one of them is the name, others a size, a date, an algorithm.
	cells := columns(text)
	for _, cell := range cells {
		if len(cells) > 1 && looksLikeFile(cell) && (cell == files[0] || strings.HasSuffix(cell, files[0])) {
			r.kind, r.name, r.pure = rowName, cell, true
			if len(labels) == 1 {
				r.label = labels[0].algorithm
			}
			for _, other := range cells {
				if n := sizeOf(other); n != nil {
					r.size = n
				}
			}
			return
		}
	}
	if len(labels) > 0 || hasHashWord(text) {
		r.kind, r.name = rowName, files[0]
		if len(labels) > 0 {
			r.label = labels[len(labels)-1].algorithm
		}
		return
	}
	if before, ok := strings.CutSuffix(inner, files[0]); ok && strings.HasSuffix(strings.TrimSpace(before), ":") {
		r.kind, r.name, r.pure = rowName, files[0], true // “the image is up: gauge.img”
		return
	}
	if field := fieldOf(text); field != nil && !strings.HasPrefix(field[2], "//") {
		if after, ok := strings.CutPrefix(field[2], files[0]); ok && strings.HasPrefix(strings.TrimSpace(after), "(") {
			r.kind, r.name, r.pure = rowName, files[0], true // “Attachment: gauge.img (64 KB)”
		}
		return // “Homepage: https://…” is about something else
	}
	if last := inner[strings.LastIndexByte(inner, ' ')+1:]; isAddress(last) && nameOfAddress(last) == files[0] && len(strings.Fields(inner)) <= 6 {
		r.kind, r.name, r.pure = rowName, files[0], true // “wget https://…”
		return
	}
	// “gauge.img (64 MB)” and “gauge.img - for the tower”.
	if rest, ok := strings.CutPrefix(strings.TrimLeft(inner, "\"'`“«"), files[0]); ok {
		after := strings.TrimLeft(rest, " \"'`”»")
		if after != "" && (after[0] == '(' || after[0] == '-' || after[0] == '[') || kindOf(strings.Fields(after + " x")[0]) == cellNumber {
			r.kind, r.name, r.pure = rowName, files[0], true
			r.size = sizeOf(after)
		}
	}
}

// quotedKey returns the name of a file that ends the name of a section in quotation marks,
// “[assets."gauge.img"]”, or "".
func quotedKey(text string) string {
	inner, ok := strings.CutSuffix(text, `"]`)
	if !ok || !strings.HasPrefix(inner, "[") {
		return ""
	}
	if at := strings.LastIndex(inner, `."`); at > 0 && looksLikeFile(inner[at+2:]) {
		return inner[at+2:]
	}
	return ""
}

func hasHashWord(text string) bool {
	for _, w := range splitKey(text) {
		if hashWords[w] && w != "value" && w != "content" && w != "sum" && w != "verify" && w != "verification" {
			return true
		}
	}
	return false
}

// markOf returns the algorithm that a label names, or Unknown.
func (l *layout) markOf(text string) digest.Algorithm {
	a, _ := algorithmOf(strings.TrimSpace(text))
	return a
}

// fieldRow reads “LABEL: VALUE” of a record where the label is one that is known.
func (l *layout) fieldRow(r *row, key, value string) bool {
	folded := foldWords(key)
	if singular := strings.TrimSuffix(folded, "s"); addressWords[singular] {
		folded = singular
	}
	inner := trimSeparators(value)
	if words := splitKey(key); len(words) > 1 && !strings.Contains(key, " ") && !nameWords[folded] && !addressWords[folded] {
		if last := words[len(words)-1]; (addressWords[last] || strongNames[last]) && inner != "" {
			name := inner
			if isAddress(inner) {
				name = nameOfAddress(inner)
			}
			if looksLikeFile(name) {
				r.kind, r.name, r.pure, r.prefix, r.key = rowName, name, true, strings.Join(words[:len(words)-1], " "), strings.Join(words, " ")
				return true
			}
		}
	}
	switch {
	case nameWords[folded], addressWords[folded], strings.HasSuffix(folded, "filename"), strings.HasSuffix(folded, "hashof"):
		if inner == "" {
			return false
		}
		name := inner
		if isAddress(inner) {
			if name = nameOfAddress(inner); !looksLikeFile(name) {
				return false
			}
		} else if addressWords[folded] && !looksLikeFile(inner) {
			return false
		}
		if (folded == "package" || folded == "name" || folded == "target" || folded == "image" || folded == "nom" || folded == "nome" || folded == "имя" || folded == "download") && !looksLikeFile(name) && !l.p.known.is(name) {
			r.kind, r.packaged = rowField, true
			if strings.EqualFold(key, "Name") && l.p.archive {
				r.kind, r.name, r.pure = rowName, inner, true
			}
			return true
		}
		r.kind, r.name, r.pure, r.strong = rowName, name, true, strongNames[folded]
		return true
	case sizeWords[folded]:
		r.kind, r.size = rowField, sizeOf(inner)
		return true
	case folded == "contentdisposition":
		if files := l.p.fileWords(value); len(files) == 1 {
			r.kind, r.name, r.pure = rowName, files[0], true
			return true
		}
		if at := strings.Index(value, "filename="); at >= 0 {
			r.kind, r.name, r.pure = rowName, trimSeparators(value[at+len("filename="):]), true
			return true
		}
	case algorithmWords[folded]:
		if a := l.markOf(inner); a != digest.Unknown {
			r.kind, r.label = rowField, a
			return true
		}
	case hashWords[folded] && inner == "":
		r.kind = rowField
		return true
	case folded == "version" || folded == "pkgver":
		r.kind = rowField
		r.packaged = true
		return true
	}
	if inner == "" {
		// “gauge.bin:” heads the values below.
		if looksLikeFile(key) && !hasHashWord(key) && len(labelsIn(key)) == 0 {
			r.kind, r.name, r.pure = rowName, key, true
			return true
		}
	}
	return false
}

// promptOf returns the command in a row of a console's transcript, or "".
func promptOf(text string) string {
	for _, mark := range []string{"$ ", "# ", "% ", "> "} {
		at := strings.Index(text, mark)
		if at < 0 || at > 60 {
			continue
		}
		before, command := text[:at], strings.TrimSpace(text[at+len(mark):])
		if before != "" && mark == "# " && !strings.Contains(before, "@") && !strings.Contains(before, ":") {
			continue
		}
		if before != "" && strings.Contains(before, "  ") {
			continue
		}
		if mark == "> " && before != "" && !strings.HasPrefix(before, "PS") && !strings.Contains(before, `:\`) {
			continue
		}
		if before != "" && !strings.ContainsAny(before[len(before)-1:], "~]:)/\\") && !isAlnum(before[len(before)-1]) {
			continue
		}
		return command
	}
	if i := strings.Index(text, `>`); i > 2 && strings.Contains(text[:i], `:\`) {
		return strings.TrimSpace(text[i+1:])
	}
	return ""
}

// columns cuts a row where two blanks or a tab stand, or at bars.
func columns(text string) []string {
	if strings.Count(text, "|") >= 1 {
		var out []string
		for cell := range strings.SplitSeq(strings.Trim(text, "|"), "|") {
			out = append(out, strings.TrimSpace(cell))
		}
		return out
	}
	var out []string
	for part := range strings.SplitSeq(text, "\t") {
		for {
			part = strings.TrimSpace(part)
			if part == "" {
				break
			}
			i := strings.Index(part, "  ")
			if i < 0 {
				out = append(out, part)
				break
			}
			out = append(out, part[:i])
			part = part[i:]
		}
	}
	return out
}
