package manifest

import (
	"encoding/binary"
	"regexp"
	"strconv"
	"strings"

	"endeixis/core/digest"
)

// crcEnding are names of lists of CRC-32 values.
var crcEnding = regexp.MustCompile(`(?i)\.(?:crc|sfv)$`)

// crcRow is a row of such a list: a name, and eight digits at the end.
var crcRow = regexp.MustCompile(`^(\S|\S.*\S)[ \t]+([0-9A-Fa-f]{8})$`)

// listsCRC reports whether most rows of a text are names with eight digits behind them.
func listsCRC(rows []row) bool {
	all, fit, files := 0, 0, 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == ';' || text[0] == '#' {
			continue
		}
		all++
		if n := len(text); n < 10 || !isHex(text[n-1]) || !isHex(text[n-8]) {
			continue
		}
		if m := crcRow.FindStringSubmatch(text); m != nil && len(tokensIn(m[1], false, digest.Unknown)) == 0 && len(labelsIn(m[1])) == 0 {
			fit++
			if looksLikeFile(m[1]) {
				files++
			}
		}
	}
	return fit > 0 && 2*fit > all && files > 0
}

// decimalRow is a row of a list of POSIX checksums: the value in decimal, the size, the
// name.
var decimalRow = regexp.MustCompile(`^(\d{1,10}) (\d{1,18}) (\S.*)$`)

// listsDecimal reports whether all rows of a text are of that form.
func (p *parser) listsDecimal(rows []row) bool {
	said := strings.Contains(foldWords(p.opts.FileName), "cksum") || strings.Contains(foldWords(p.opts.FileName), "crc")
	n := 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == '#' {
			continue
		}
		m := decimalRow.FindStringSubmatch(text)
		if m == nil || !said && len(m[1]) < 7 || !looksLikeFile(m[3]) && !said && !p.known.is(m[3]) {
			return false
		}
		if v, err := strconv.ParseUint(m[1], 10, 64); err != nil || v > 1<<32-1 {
			return false
		}
		n++
	}
	return n > 0
}

// strictForm reads the forms that leave no doubt: a digest, a mode mark and a name; and
// an algorithm, a name in parentheses and a value.
func (l *layout) strictForm(r *row) bool {
	text := r.text
	if text[0] == '\\' || isHex(text[0]) {
		if e, code, message := l.digestFirst(r); code != NotAnEntry {
			l.p.line = r.no
			r.kind = rowDone
			l.strict++
			if code != "" {
				l.p.problem(code, message)
				return true
			}
			e.at(r.no, r.column)
			l.p.add(e)
			return true
		}
	}
	if l.p.decimals {
		if m := decimalRow.FindStringSubmatch(text); m != nil {
			v, _ := strconv.ParseUint(m[1], 10, 32)
			e := entryOf(m[3], binary.BigEndian.AppendUint32(nil, uint32(v)), digest.Only(digest.CRC32CKSUM), DigestFirst)
			e.Size = sizeOf(m[2])
			e.at(r.no, r.column)
			r.kind = rowDone
			l.strict++
			l.p.add(e)
			return true
		}
	}
	if l.p.crcList {
		if m := crcRow.FindStringSubmatch(text); m != nil && text[0] != '#' && text[0] != ';' {
			value, _ := decodeHex([]byte(m[2]))
			candidates := digest.OfSize(4)
			if l.p.hint.Size() == 4 {
				candidates = digest.Only(l.p.hint)
			}
			e := entryOf(trimQuotes(strings.TrimRight(m[1], ":=,; \t")), value, candidates, NameFirst)
			e.at(r.no, r.column)
			r.kind = rowDone
			l.strict++
			l.p.line = r.no
			l.p.add(e)
			return true
		}
	}
	if strings.IndexByte(text, '(') > 0 {
		if e, code, message := l.p.tagged(text); code != NotAnEntry {
			l.p.line = r.no
			r.kind = rowDone
			l.strict++
			switch code {
			case "":
				e.at(r.no, r.column)
				l.p.add(e)
			case "size":
				l.p.sizes[e.Name] = e.Size
			default:
				l.p.problem(code, message)
			}
			return true
		}
	}
	return false
}

// digestFirst reads "DIGEST  NAME", "DIGEST *NAME" and the escaped form that starts
// with a backslash. Other rows that begin with a digest are left to their shape.
func (l *layout) digestFirst(r *row) (Entry, ProblemCode, string) {
	notOne := func() (Entry, ProblemCode, string) { return Entry{}, NotAnEntry, "" }
	text := r.text
	escaped := text[0] == '\\'
	if escaped {
		text = text[1:]
	}
	end := 0
	for end < len(text) && isHex(text[end]) {
		end++
	}
	if end < 32 && (end != 8 || l.p.hint.Size() != 4 && !escaped) || end+2 >= len(text) || end > 128 {
		return notOne()
	}
	if text[end] != ' ' || text[end+1] != ' ' && text[end+1] != '*' {
		return notOne()
	}
	rest := text[end+2:]
	if !escaped {
		rest = strings.TrimLeft(rest, " \t")
		if text[end+1] == ' ' {
			rest = strings.TrimLeft(strings.TrimPrefix(rest, "*"), " ")
		}
	}
	if strings.TrimSpace(rest) == "" {
		return notOne()
	}
	if !escaped && text[end+1] != '*' {
		// Further columns, or a further part of the value, are looked at together with
		// the other rows.
		first, more, two := strings.Cut(rest, "  ")
		if two && more != "" && kindOf(first) != cellOther && kindOf(first) != cellOption {
			return notOne()
		}
		if tokens := tokensIn(rest, false, digest.Unknown); len(tokens) > 0 && (tokens[0].from != 0 || tokens[0].to != len(rest)) {
			return notOne()
		}
	}
	value, ok := decodeHex([]byte(text[:end]))
	if !ok {
		return notOne()
	}
	candidates, wrong := l.candidates(r, value, digest.Unknown)
	if wrong != "" {
		return Entry{}, BadDigest, wrong
	}
	name, ok := unescape([]byte(rest), escaped)
	if !ok {
		return Entry{}, BadEscape, "the name holds a backslash escape that means nothing"
	}
	if !escaped {
		name = trimQuotes(name)
	}
	if name == "-" {
		return entryOf("", value, candidates, Bare), "", "" // what was read was not a file
	}
	return entryOf(name, value, candidates, DigestFirst), "", ""
}

func trimQuotes(name string) string {
	if len(name) > 2 && name[0] == '"' && name[len(name)-1] == '"' {
		return name[1 : len(name)-1]
	}
	return name
}
