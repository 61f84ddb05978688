package manifest

import (
	"strings"

	"endeixis/core/digest"
)

// dottedKey takes the key before the only value of a row apart, where one of its parts is
// the algorithm: “artifact.sha1=”, “hash.sha256 = ”, “sha256.gauge.bin=”, “gauge.bin.md5: ”.
// It returns what is left of the text: the name of the file, or nothing.
func (r *laidRow) dottedKey(before string) string { //nolint:cyclop // one check for each part of a key
	v := &r.values[0]
	text := strings.TrimRight(before, " \t\"'")
	if v.digest == nil || v.algorithm != digest.Unknown || text == "" ||
		text[len(text)-1] != '=' && text[len(text)-1] != ':' {
		return before
	}
	key := strings.Trim(strings.TrimRight(text, " \t:="), "\"'")
	at := strings.IndexByte(key, '.')
	if at < 0 || strings.Contains(key, "://") {
		return before
	}
	if a, ok := algorithmOf(key[:at]); ok && fitsLabel(a, len(v.digest)) {
		v.algorithm = a
		return unescapedKey(key[at+1:])
	}
	at = strings.LastIndexByte(key, '.')
	a, ok := algorithmOf(key[at+1:])
	if !ok || !fitsLabel(a, len(v.digest)) || strings.ContainsAny(key, " \t") {
		return before
	}
	v.algorithm = a
	rest := key[:at]
	if looksLikeFile(rest) {
		return rest
	}
	last := rest[strings.LastIndexByte(rest, '.')+1:]
	if !isHashWord(splitKey(last)) && !partOfFile[foldWords(last)] {
		r.prefix = strings.Join(splitKey(rest), " ")
	}
	return ""
}

// fitsLabel reports whether a value of n bytes can be of a label's algorithm.
func fitsLabel(a digest.Algorithm, n int) bool {
	_, wrong := ofLabel(a, n)
	return wrong == ""
}

// unescapedKey undoes the escapes of keys in lists of properties.
func unescapedKey(key string) string {
	if strings.IndexByte(key, '\\') < 0 {
		return key
	}
	return strings.NewReplacer(`\ `, " ", `\:`, ":", `\=`, "=", `\\`, `\`).Replace(key)
}
