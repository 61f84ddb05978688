package manifest

import (
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// partOfFile are words that say of a digest that it is of the file itself.
var partOfFile = wordSet(
	`file package archive artifact artefact download zip tar tarball image iso exe binary installer pkg src source setup content repr`,
)

// sshForm is a line about a key, with its kind in brackets or in front.
var sshForm = regexp.MustCompile(`\((?:RSA|DSA|ECDSA|ED25519)\)|\bssh-|^\d{3,5} (?:SHA256|MD5):`)

// maxEnding bounds the ending of a file's name.
const maxEnding = 10

// behindName cuts a text down to what stands behind the last word in it that ends as the
// name of a file does.
func behindName(text string) string {
	for dot := strings.LastIndexByte(text, '.'); dot >= 0; dot = strings.LastIndexByte(text[:dot], '.') {
		end := dot + 1
		for end < len(text) && isAlnum(text[end]) {
			end++
		}
		if end > dot+1 && end-dot-1 <= maxEnding && isLetter(text[dot+1]) && endings[strings.ToLower(text[dot+1:end])] {
			return text[end:]
		}
	}
	return text
}

// maxWordsBefore is how many words before a value may say what it is of.
const maxWordsBefore = 4

// otherThan says what a value is, if the words before it say that it is no digest of a
// file.
//
//nolint:cyclop // a list of cases, one for each thing that is no digest of a file
func otherThan(r *laidRow, before string, v *value) string {
	if v.from == 0 || strings.TrimSpace(before) == "" && !mayBeKey(r.text) {
		return ""
	}
	words := strings.Fields(before)
	if len(words) > 0 && looksLikeFile(trimSeparators(words[len(words)-1])) {
		return ""
	}
	words = strings.Fields(sameClause(before))
	if why, settled := joinedWord(r, words, v); settled {
		return why
	}
	if n := len(words); n > 1 && otherWords[foldWords(words[n-2]+words[n-1])] {
		return ofSomethingElse(words[n-2] + " " + words[n-1])
	}
	if strings.HasSuffix(r.text[:v.from], `W/"`) {
		return "it marks a version of an answer" // RFC 9110, section 8.8.3
	}
	if (v.encoded || v.grouped) && mayBeKey(r.text) && sshForm.MatchString(r.text) {
		return "it is the fingerprint of a key"
	}
	why, settled := wordBefore(words)
	if !settled && isAddressPart(r.text, v) {
		return "it is a part of an address"
	}
	return why
}

// wordBefore looks for a word before a value that says what it is of. settled is set where
// one does, or the name of a file stands there.
func wordBefore(words []string) (why string, settled bool) {
	for _, word := range slices.Backward(words[max(0, len(words)-maxWordsBefore):]) {
		if looksLikeFile(trimSeparators(word)) {
			return "", true
		}
		for _, w := range splitKey(word) {
			if otherWords[w] {
				return ofSomethingElse(w), true
			}
		}
		if w := foldWords(word); otherWords[w] {
			return ofSomethingElse(w), true
		}
	}
	return "", false
}

// mayBeKey is a quick look before sshForm is tried.
func mayBeKey(text string) bool {
	return strings.HasSuffix(text, ")") || strings.Contains(text, "ssh-") || strings.Contains(text, "SHA256:") ||
		strings.Contains(text, "MD5:")
}

func ofSomethingElse(word string) string {
	return "it is of something else than a file: “" + word + "” stands before it"
}

// sameClause cuts a text in front of a value down to the clause that the value is in. The
// words of a file's name say nothing.
func sameClause(before string) string {
	before = strings.TrimRight(behindName(before), openers)
	if at := strings.LastIndexAny(before, ",;()"); at >= 0 && len(labelsIn(before[at:])) > 0 {
		before = before[at+1:]
	}
	return before
}

// joinedWord looks at the last word before a value where it holds a label and more:
// “Description-md5” is of what is named in the same word. settled tells whether that says
// what the value is of; why it is left aside is empty where it is not.
func joinedWord(r *laidRow, words []string, v *value) (why string, settled bool) {
	if len(words) == 0 {
		return "", false
	}
	last := trimSeparators(words[len(words)-1])
	label, extra := labelOfKey(last)
	if label == digest.Unknown {
		return "", false
	}
	if joined := strings.Join(extra, ""); otherWords[joined] {
		return ofSomethingElse(joined), true
	}
	if n := len(extra); n == 0 || n > 3 || looksLikeFile(last) || partOfFile[extra[n-1]] {
		return "", false
	}
	r.prefix = strings.Join(extra, " ")
	if v.algorithm == digest.Unknown {
		v.algorithm = label
	}
	return "", true
}

// isAddressPart reports whether a value stands inside an address or behind an at sign.
func isAddressPart(text string, v *value) bool {
	from := v.from
	for from > 0 && text[from-1] > ' ' && strings.IndexByte("\"'<>()[]", text[from-1]) < 0 {
		from--
	}
	word := text[from:v.from]
	return strings.Contains(word, "@") || !v.encoded && strings.Contains(word, "://") ||
		strings.HasPrefix(word, "urn:") ||
		strings.HasPrefix(word, "magnet:")
}
