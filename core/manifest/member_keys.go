package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A memberKey is the name of a member of a document, with what it may say: the third room
// of documents. Nothing changes it.
type memberKey struct {
	// folded is the name in the form of foldWords, and words are its words.
	folded string
	words  []string
	// label is the algorithm in it, and extra are the words besides that are none for
	// digests.
	label digest.Algorithm
	extra []string
	// hash is set where it says that it holds digests, and other is the word in it that
	// says that it is about something else, or "".
	hash  bool
	other string
}

// last returns the last word of a name.
func (k *memberKey) last() string {
	if len(k.words) == 0 {
		return ""
	}
	return k.words[len(k.words)-1]
}

// maxKeys bounds the names that are remembered.
const maxKeys = 4096

// key returns what the name of a member says.
func (t *tree) key(name string) *memberKey {
	if k := t.keys[name]; k != nil {
		return k
	}
	k := &memberKey{folded: foldWords(name), words: splitKey(name)}
	k.label, k.extra = labelOfKey(name)
	k.hash = hashWords[k.folded] || isHashWord(k.words)
	if at := slices.IndexFunc(k.words, func(w string) bool { return otherWords[w] }); at >= 0 {
		k.other = k.words[at]
	}
	if t.keys == nil {
		t.keys = map[string]*memberKey{}
	}
	if len(t.keys) < maxKeys {
		t.keys[name] = k
	}
	return k
}

// keyOf returns what the name of a node says. It is kept with the node, for it is asked for
// several times.
func (t *tree) keyOf(n *node) *memberKey {
	if n.said == nil {
		n.said = t.key(n.key)
	}
	return n.said
}

// maxKeyLength bounds a name in which a label is looked for.
const maxKeyLength = 80

// filler are words of a label that say nothing of what it is of.
var filler = wordSet(`file expected base64 b64 x of`)

// labelOfKey finds the algorithm in the name of a member, and the words besides that
// are none for digests.
func labelOfKey(key string) (digest.Algorithm, []string) {
	if len(key) > maxKeyLength || !mayHaveLabel(key) {
		return digest.Unknown, nil
	}
	if a, ok := algorithmOf(key); ok {
		return a, nil
	}
	from, to := labelWord(key)
	a, ok := algorithmOf(key[from:to])
	if !ok || !endsLabel(key, from, to) {
		return digest.Unknown, nil
	}
	var extra []string
	for _, w := range splitKey(key[:from] + " " + key[to:]) {
		if !hashWords[w] && !filler[w] {
			extra = append(extra, w)
		}
	}
	return a, extra
}

// labelWord returns the place of the label that begins a word of a name: that of
// “checksumSHA1”, but none in “checksum”, which holds “cksum”.
func labelWord(key string) (from, to int) {
	for _, m := range labelPlaces(key) {
		if m[0] == 0 || !isAlnum(key[m[0]-1]) || key[m[0]] < 'a' && key[m[0]-1] >= 'a' {
			return m[0], m[1]
		}
	}
	return 0, 0
}

// endsLabel reports whether a label in a name ends where it does: not in the middle of a
// number, or of a word such as “shared”.
func endsLabel(key string, from, to int) bool {
	if to == len(key) {
		return true
	}
	c := key[to]
	return (c < '0' || c > '9') && (to-from > 3 || !isAlnum(c) || c < 'a')
}

// aside of digests, a name may have these words and still be one for them.
var besideHash = wordSet(`file expected package by`)

// maxHashWords bounds the words of a name that is one for digests.
const maxHashWords = 4

// isHashWord reports whether a member's name says that it holds digests.
func isHashWord(words []string) bool {
	found := false
	for _, w := range words {
		switch _, label := algorithmOf(w); {
		case hashWords[w], hashWords[strings.TrimRight(w, "0123456789")], label:
			found = true
		case besideHash[w]:
		case len(words) > maxHashWords:
			return false
		default:
			return isWordOf(words, hashWords)
		}
	}
	return found
}

// siblingLabel finds the algorithm that a record says its value is of. said is what it
// says, where that is none that is known.
//
//nolint:cyclop // one case for each kind of member that states an algorithm
func (t *tree) siblingLabel(n *node) (a digest.Algorithm, said string) {
	within := t.keyOf(n).hash
	for _, kid := range n.kids {
		key := t.keyOf(kid)
		if !kid.scalar {
			if a := labelOfMethod(key, kid); a != digest.Unknown {
				return a, ""
			}
			continue
		}
		if kid.text == "" {
			continue
		}
		named := key.folded == "name" || key.folded == "key"
		if label, extra := labelOfKey(kid.text); named && label != digest.Unknown && !looksLikeFile(kid.text) &&
			len(extra) < 3 {
			return label, ""
		}
		if !algorithmWords[key.folded] && !key.ofAlgorithm() && (!named || !within) {
			continue
		}
		if a := labelOfText(kid.text); a != digest.Unknown {
			return a, ""
		}
		if !looseKinds[key.folded] || within {
			said = kid.text
		}
	}
	return digest.Unknown, said
}

// ofAlgorithm reports whether a name is that of the algorithm of a digest, such as
// “messageDigestAlgorithm”.
func (k *memberKey) ofAlgorithm() bool {
	n := len(k.words)
	return n > 1 && algorithmWords[k.words[n-1]] &&
		slices.ContainsFunc(k.words[:n-1], func(w string) bool { return hashWords[w] && !loose[w] })
}

// looseKinds are members that say of much else than digests what it is.
var looseKinds = wordSet(`type kind method function`)

// labelOfMethod reads “<DigestMethod Algorithm=…/>”.
func labelOfMethod(key *memberKey, n *node) digest.Algorithm {
	if !algorithmWords[key.last()] {
		return digest.Unknown
	}
	for _, attribute := range n.kids {
		if a, ok := algorithmOf(attribute.text[strings.LastIndexAny(attribute.text, "#/:_")+1:]); ok {
			return a
		}
	}
	return digest.Unknown
}

// labelOfText reads the name of an algorithm, or its address.
func labelOfText(text string) digest.Algorithm {
	if i := strings.LastIndexAny(text, "#/:"); i >= 0 && strings.Contains(text, "://") {
		if a, ok := algorithmOf(text[i+1:]); ok {
			return a
		}
	}
	a, _ := algorithmOf(strings.TrimPrefix(text, "checksumAlgorithm_"))
	return a
}
