package manifest

import (
	"strings"

	"endeixis/core/digest"
)

// A numberedFile is what the fields of one number say in a record of several files.
type numberedFile struct {
	name          string
	names, values int
	label         digest.Algorithm
	value         *laidRow
	// row is that of the name.
	row *laidRow
}

// byNumber ties the values of a record whose fields are told apart by numbers at the ends
// of their labels: “url” and “url64bit”, “checksum” and “checksum64”.
func (l *layout) byNumber(rows []laidRow) {
	files := numberedFiles(rows)
	for i := range rows { // in the order of the text
		for _, file := range files {
			if file.value != &rows[i] {
				continue
			}
			if v := &file.value.values[0]; v.algorithm == digest.Unknown && fitsLabel(file.label, len(v.digest)) {
				v.algorithm = file.label
			}
			file.row.used = true
			l.emit(file.value, file.name, nil, Records)
		}
	}
}

// numberedFiles returns the files of such a record by their numbers, or nil for another:
// each of them needs one name and one value.
func numberedFiles(rows []laidRow) map[string]*numberedFile {
	values := 0
	for i := range rows {
		if rows[i].kind == rowValue {
			values++
		}
	}
	if values < 2 {
		return nil
	}
	files := map[string]*numberedFile{}
	numbers := 0
	for i := range rows {
		f, ok := fieldOf(rows[i].text)
		if !ok {
			continue
		}
		base, number := cutNumber(f.label)
		file := files[number]
		if file == nil {
			file = &numberedFile{}
		}
		if !file.take(&rows[i], base, trimSeparators(f.text)) {
			continue
		}
		if files[number] = file; number != "" {
			numbers++
		}
	}
	if numbers == 0 || len(files) < 2 {
		return nil
	}
	for _, file := range files {
		if file.names != 1 || file.values != 1 {
			return nil
		}
	}
	return files
}

// take takes a field of a file, and reports whether it is one of its name, its digest or
// the algorithm of that.
func (f *numberedFile) take(r *laidRow, base, text string) bool {
	name := text
	if isAddress(text) {
		name = nameOfAddress(text)
	}
	switch {
	case r.kind == rowValue && len(r.values) == 1 && r.values[0].digest != nil &&
		(hashWords[base] || markOf(base) != digest.Unknown):
		f.values, f.value = f.values+1, r
		if a := markOf(base); a != digest.Unknown {
			f.label = a
		}
	case (addressWords[base] || nameWords[base]) && looksLikeFile(name):
		f.names, f.name, f.row = f.names+1, name, r
	case algorithmWords[base] && markOf(text) != digest.Unknown:
		f.label = markOf(text)
	default:
		return false
	}
	return true
}

// maxKeyNumber bounds the digits of a number at the end of a label.
const maxKeyNumber = 3

// cutNumber takes the label of a field apart into its words and the number that ends it:
// “url64bit” is “url” and “64”. The number of an algorithm is none.
func cutNumber(label string) (base, number string) {
	folded := foldWords(label)
	if markOf(folded) != digest.Unknown {
		return folded, ""
	}
	words := strings.TrimSuffix(folded, "bit")
	base = strings.TrimRight(words, "0123456789")
	if number = words[len(base):]; number == "" || len(number) > maxKeyNumber {
		return folded, ""
	}
	return base, number
}
