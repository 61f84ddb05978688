package manifest

import (
	"path"
	"regexp"
	"strings"

	"endeixis/core/digest"
)

// SafeName turns a name from a manifest into a clean, slash-separated path
// below the manifest's folder. Backslashes count as separators, a leading "./"
// is dropped. When the name must not be used, ok is false and why says so: it
// is absolute, climbs out by "..", holds a NUL, or names a device.
func SafeName(name string) (clean string, why string, ok bool) {
	s := name
	if strings.IndexByte(s, '\\') >= 0 {
		s = strings.ReplaceAll(s, `\`, "/")
	}
	switch {
	case s == "":
		return "", "the name is empty", false
	case strings.IndexByte(s, 0) >= 0:
		return "", "the name holds a NUL byte", false
	case strings.HasPrefix(s, "/"):
		return "", "the name is an absolute path", false
	case len(s) >= 2 && s[1] == ':' && isLetter(s[0]):
		return "", "the name starts with a drive letter", false
	}
	for part := range strings.SplitSeq(s, "/") {
		if part == ".." {
			return "", "the name leads out of the folder by “..”", false
		}
		if isDevice(part) {
			return "", "the name is that of a device on some systems", false
		}
	}
	if clean = s; !isClean(s) {
		clean = path.Clean(s)
	}
	if clean == "." {
		return "", "the name is that of the folder itself", false
	}
	return clean, "", true
}

// isClean reports whether path.Clean would leave s alone; it errs on the safe
// side.
func isClean(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] == '/' && (i+1 == len(s) || s[i+1] == '/' || s[i+1] == '.') {
			return false
		}
	}
	return s[0] != '.' && s[0] != '/'
}

// isDevice reports whether a part of a path is one of the reserved names of
// DOS, which open a device whatever their extension.
func isDevice(part string) bool {
	if dot := strings.IndexByte(part, '.'); dot >= 0 {
		part = part[:dot]
	}
	switch len(part) {
	case 3:
		switch strings.ToLower(part) {
		case "con", "prn", "aux", "nul":
			return true
		}
	case 4:
		if c := part[3]; c >= '1' && c <= '9' {
			head := strings.ToLower(part[:3])
			return head == "com" || head == "lpt"
		}
	}
	return false
}

func isLetter(c byte) bool { return 'a' <= c|0x20 && c|0x20 <= 'z' }

var (
	// listName matches names that say "this is a list of digests".
	listName = regexp.MustCompile(
		`(?i)^(.*[._-])?(md5|sfv|crc|crc-?32c?|sha-?512[-_/](224|256)|sha-?(1|224|256|384|512)|` +
			`sha3-?(224|256|384|512)|b2|blake2[bs]?|blake3|rmd160|ripemd-?160|checksum|digest|hash)(sum|e)?s?([._-](txt|list|sum|sums))?$|^manifest(\.txt)?$`,
	)
	// algorithmInName finds an algorithm's label inside a name.
	algorithmInName = regexp.MustCompile(
		`(?i)(?:^|[^a-z0-9])(md5|crc-?32c?|sha-?512[-_/]?t?[-_/]?224|sha-?512[-_/]?t?[-_/]?256|sha-?1|sha-?224|sha-?256|sha-?384|sha-?512|` +
			`sha3-?224|sha3-?256|sha3-?384|sha3-?512|b2|blake2b[-_]256|blake2b[-_]384|blake2b|blake2s|blake3|rmd160|ripemd-?160)(?:$|[^a-z0-9]|sums?(?:$|[^a-z0-9]))`,
	)
)

// NamedLikeOne reports whether a file's base name announces a manifest.
func NamedLikeOne(base string) bool { return listName.MatchString(base) }

// AlgorithmOfName returns the algorithm that a manifest's own name states,
// such as SHA-512 for "SHA512SUMS" or "gauge.bin.sha512", or [digest.Unknown].
func AlgorithmOfName(base string) digest.Algorithm {
	match := algorithmInName.FindStringSubmatch(base)
	if match == nil {
		return digest.Unknown
	}
	a, err := digest.Parse(match[1])
	if err != nil {
		return digest.Unknown
	}
	return a
}
