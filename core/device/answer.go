package device

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/plain"
)

// MaxAnswer bounds what a device says to one question, in bytes.
const MaxAnswer = 1 << 20

// maxSlot bounds a slot, in bytes.
const maxSlot = 1 << 48

// maxShown bounds what is kept of it.
const maxShown = 2000

// A SlotReport is everything that asking a device about a slot has shown.
type SlotReport struct {
	Device string `json:"device"`
	// Kind is that of the device, and KindDigest the SHA-256 digest of its description.
	Kind       string       `json:"kind"`
	KindDigest digest.Value `json:"kind_digest,omitempty"`
	Slot       string       `json:"slot"`
	SlotTitle  string       `json:"slot_title"`
	// Connection is how it was asked, and Address where; HostKey is the fingerprint of the key
	// by which it was known.
	Connection Connection `json:"reach"`
	Address    string     `json:"address,omitempty"`
	HostKey    string     `json:"host_key,omitempty"`
	// Algorithm is what was asked for, Question the line that was sent, and Said what
	// came back, made safe to show, and not all of it if it is long.
	Algorithm digest.Algorithm `json:"algorithm"`
	Question  string           `json:"question,omitempty"`
	Said      string           `json:"said,omitempty"`
	Covers    Covers           `json:"covers"`
	// Milliseconds is how long the answer took.
	Milliseconds int64 `json:"milliseconds,omitempty"`
	// Finding says why there is no answer, where there is none.
	Cause *diagnose.Cause `json:"finding,omitempty"`
}

// An Answer is what a device says of a slot.
type Answer struct {
	Algorithm digest.Algorithm
	Value     digest.Value
	// Size is how many bytes it has hashed, or 0 where it does not say.
	Size int64
	// named is set where it says of which slot, and stated where it says by which algorithm.
	named, stated bool
}

// escapes are sequences by which a terminal is controlled (ECMA-48), and strings for it.
var escapes = regexp.MustCompile(`\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_][^\x07\x1b]*(?:\x07|\x1b\\)?|\x1b[ -/]*[0-~]`)

// Printed returns what a terminal would have shown: without sequences that control it,
// with plain line ends.
func Printed(said []byte) string {
	text := strings.ToValidUTF8(string(said), "\ufffd")
	text = escapes.ReplaceAllString(text, "")
	text = strings.ReplaceAll(text, "\r\n", "\n")
	text = strings.ReplaceAll(text, "\r", "\n")
	if strings.ContainsRune(text, '\b') {
		text = overwritten(text)
	}
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, text)
}

// overwritten carries out backspaces: what is written behind one stands in the place of what
// was there, as where a pager's question is erased.
func overwritten(text string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		var shown []rune
		at := 0
		for _, r := range line {
			switch {
			case r == '\b':
				at = max(0, at-1)
			case r == '\n':
				shown, at = append(shown, r), len(shown)+1
			case at < len(shown):
				shown[at] = r
				at++
			default:
				shown, at = append(shown, r), at+1
			}
		}
		out.WriteString(string(shown))
	}
	return out.String()
}

// Shown returns what is kept of what a device said, safe to show.
func Shown(said []byte) string {
	text := []rune(strings.TrimSpace(Printed(said[:min(len(said), 8*maxShown)])))
	more := ""
	if len(text) > maxShown || len(said) > 8*maxShown {
		text, more = text[:min(len(text), maxShown)], "…"
	}
	lines := strings.Split(string(text), "\n")
	for i := range lines {
		lines[i] = plain.Text(strings.TrimRight(lines[i], " \t"))
	}
	return strings.Join(lines, "\n") + more
}

// Read reads what a device has said to the question about a slot. The cause tells why
// that is no answer; it is nil otherwise. An answer belongs to its question: it names the
// slot, or comes behind the question's echo, or [Kind.Apart] had nothing else be asked.
func (k *Kind) Read(slot *Slot, asked digest.Algorithm, said []byte) (Answer, *diagnose.Cause) {
	return k.read(slot, asked, said, k.Connection == Console && !k.Apart() && len(k.Slots) > 1)
}

// Loose reports whether what was said is neither an answer nor a refusal, so that what still
// comes may be the answer.
func (k *Kind) Loose(slot *Slot, asked digest.Algorithm, said []byte) bool {
	_, cause := k.Read(slot, asked, said)
	return cause != nil && cause.Code != diagnose.DeviceRefused
}

// Refused reports whether what was said is that the device does not compute this.
func (k *Kind) Refused(slot *Slot, asked digest.Algorithm, said []byte) bool {
	_, cause := k.Read(slot, asked, said)
	return cause != nil && cause.Code == diagnose.DeviceRefused
}

// Apart reports whether each question has to be asked on a connection of its own: a console
// has several slots, and its answers name none.
func (k *Kind) Apart() bool {
	return k.Connection == Console && len(k.Slots) > 1 && k.Answer.SubexpIndex("slot") < 0
}

// read is [Kind.Read]. With tied set, an answer that names no slot counts only behind the
// echo of the question.
func (k *Kind) read(slot *Slot, asked digest.Algorithm, said []byte, tied bool) (Answer, *diagnose.Cause) {
	if len(said) > MaxAnswer {
		return Answer{}, unclear("It said more than %d KiB, which is no answer to such a question.", MaxAnswer>>10)
	}
	printed, question := Printed(said), k.Question(slot, asked)
	text := WithoutEcho(printed, question)
	echoed := question != "" && strings.Contains(printed, question)
	var answers []Answer
	var other *diagnose.Cause // of another slot, as where all are listed
	for _, found := range k.Answer.FindAllStringSubmatch(text, 100) {
		a, cause := k.understand(slot, asked, found)
		if cause != nil && cause.Code == diagnose.DeviceOtherSlot {
			other = cause
			continue
		}
		if cause != nil {
			return Answer{}, cause
		}
		if tied && !a.named && !echoed {
			return Answer{}, unclear(
				"It answered without saying for which slot, and nothing shows that it is the answer to this question.",
			)
		}
		if !slices.ContainsFunc(answers, func(o Answer) bool {
			return o.Algorithm == a.Algorithm && slices.Equal(o.Value, a.Value) && o.Size == a.Size
		}) {
			answers = append(answers, a)
		}
	}
	if other != nil && (len(answers) == 0 || !answers[0].named) {
		return Answer{}, other
	}
	switch len(answers) {
	case 1:
		return answers[0], nil
	case 0:
	default:
		return Answer{}, unclear("It gave %d different answers to one question.", len(answers))
	}
	if k.Refusal != nil {
		if found := k.Refusal.FindStringSubmatch(text); found != nil {
			reason := strings.TrimSpace(found[0])
			if at := k.Refusal.SubexpIndex("reason"); at >= 0 && found[at] != "" {
				reason = strings.TrimSpace(found[at])
			}
			return Answer{}, &diagnose.Cause{
				Code: diagnose.DeviceRefused, Sentence: "The device refused: " + plain.Quoted(clip(reason)) + ".",
				Advice: "Look at what it says on its own console; it may be busy, or not hash this slot.",
			}
		}
	}
	if strings.TrimSpace(text) == "" {
		return Answer{}, unclear("It said nothing beside the question.")
	}
	return Answer{}, unclear("What it said holds no answer as this kind of device gives it.")
}

// understand turns one match into an answer.
func (k *Kind) understand(slot *Slot, asked digest.Algorithm, found []string) (Answer, *diagnose.Cause) {
	group := func(name string) string {
		if at := k.Answer.SubexpIndex(name); at >= 0 {
			return strings.TrimSpace(found[at])
		}
		return ""
	}
	if other := group("slot"); other != "" && !strings.EqualFold(other, slot.Sent) &&
		!strings.EqualFold(other, slot.Name) {
		return Answer{}, &diagnose.Cause{
			Code: diagnose.DeviceOtherSlot,
			Sentence: fmt.Sprintf(
				"It was asked for %s, and answered for slot %s.", slot.Title, plain.Quoted(clip(other)),
			),
			Advice: "Its value says nothing of the slot that was asked for. Ask again; if it stays so, the description of the kind may name the slots wrongly.",
		}
	}
	out := Answer{Algorithm: asked, named: group("slot") != ""}
	if told := group("algorithm"); told != "" {
		a, err := digest.Parse(told)
		if err != nil || a.Size() != asked.Size() {
			return out, unclear("It was asked for %s, and answered with %s.", asked, plain.Quoted(clip(told)))
		}
		out.Algorithm = a
	}
	value, err := k.valueOf(out.Algorithm, group("digest"))
	if err != nil || len(value) != out.Algorithm.Size() {
		return out, unclear(
			"Its value %s is not one of %s, which has %d digits.", plain.Quoted(clip(group("digest"))), out.Algorithm,
			2*out.Algorithm.Size(),
		)
	}
	out.Value = value
	if told := group("size"); told != "" {
		if out.Size, err = strconv.ParseInt(told, 0, 64); err != nil || out.Size < 0 || out.Size > maxSlot {
			return out, unclear("The length it tells, %s, is none.", plain.Quoted(clip(told)))
		}
	}
	return out, nil
}

// valueOf decodes a value as the kind gives it.
func (k *Kind) valueOf(a digest.Algorithm, text string) (digest.Value, error) {
	bareText := strings.TrimPrefix(strings.ToLower(bare.Replace(text)), "0x")
	if a.Class() != digest.Checksum || a.Size() > 8 {
		return hex.DecodeString(bareText)
	}
	var value []byte
	if k.Decimal {
		n, err := strconv.ParseUint(bareText, 10, 8*a.Size())
		if err != nil {
			return nil, err
		}
		value = binary.BigEndian.AppendUint64(nil, n)[8-a.Size():]
	} else {
		var err error
		if value, err = hex.DecodeString(bareText); err != nil {
			return nil, err
		}
	}
	if k.Reversed {
		slices.Reverse(value)
	}
	return value, nil
}

// bare takes away what stands between digits for the eye.
var bare = strings.NewReplacer(" ", "", "\t", "", ":", "", "-", "", "\n", "")

// Copied reads what a person has copied from a device's console, or typed: an answer as
// the kind describes it, or else the one value in the text. Others beside it are told.
func (k *Kind) Copied(slot *Slot, algorithms []digest.Algorithm, text []byte) (Answer, *diagnose.Cause) {
	answer, cause, _ := k.copied(slot, algorithms, text)
	return answer, cause
}

// Lacking says why nothing in what a person has copied can be an answer: no value of any
// algorithm stands in it, nor that the device refused, or spoke of another slot. It is
// empty where something does.
func (k *Kind) Lacking(slot *Slot, text []byte) string {
	_, cause, empty := k.copied(slot, k.Algorithms(), text)
	if cause == nil || !empty {
		return ""
	}
	if why := manifest.WrongValue(Printed(text)); why != "" {
		return "no whole value: " + why
	}
	return "no value: neither an answer as such a device gives it, nor a digest in hexadecimal or base64"
}

// copied is [Kind.Copied]; empty is set where no value of any algorithm stands in the text.
func (k *Kind) copied(
	slot *Slot, algorithms []digest.Algorithm, text []byte,
) (answer Answer, cause *diagnose.Cause, empty bool) {
	if len(text) > MaxAnswer {
		return Answer{}, unclear("More than %d KiB were copied.", MaxAnswer>>10), false
	}
	var refused *diagnose.Cause
	for _, a := range algorithms {
		answer, cause := k.read(slot, a, text, false)
		if cause == nil {
			return answer, nil, false
		}
		if cause.Code == diagnose.DeviceOtherSlot || cause.Code == diagnose.DeviceRefused {
			refused = cause
		}
	}
	if refused != nil {
		return Answer{}, refused, false
	}
	found, others := valuesIn(Printed(text), algorithms)
	switch {
	case len(found) > 1 && others == 0 && oneOfEach(found):
		// What was computed of one image by several algorithms: the one that says the most.
		return slices.MinFunc(found, func(a, b Answer) int {
			return slices.Index(algorithms, a.Algorithm) - slices.Index(algorithms, b.Algorithm)
		}), nil, false
	case len(found) > 1:
		cause = unclear("%d different values stand in what was copied, and only one can be the device's.", len(found))
	case len(found) == 1 && others == 0:
		return found[0], nil, false
	case len(found) == 1:
		cause = unclear(
			"Beside the value of %s, what was copied holds values that this kind of device does not give: %d.",
			found[0].Algorithm, others,
		)
	case others > 0:
		cause = unclear(
			"No value of %s, as this kind of device gives it, stands in what was copied; values of another kind do: %d.",
			Named(algorithms),
			others,
		)
	default:
		cause, empty = unclear(
			"No value of %s, as this kind of device gives it, stands in what was copied.", Named(algorithms),
		), true
	}
	return Answer{}, cause, empty
}

// oneOfEach reports whether values are by one algorithm each, which stands beside them.
func oneOfEach(found []Answer) bool {
	seen := map[digest.Algorithm]bool{}
	for _, f := range found {
		if !f.stated || seen[f.Algorithm] {
			return false
		}
		seen[f.Algorithm] = true
	}
	return true
}

// A value of fewer digits than are looked for in a text of any kind; only the description
// of a device's kind makes it one. It is whole, or in groups, such as E3 B0 C4 01.
var (
	short        = regexp.MustCompile(`(?i)(?:^|[^0-9a-z])(?:0x)?([0-9a-f]{8}|[0-9a-f]{16})(?:$|[^0-9a-z])`)
	shortGrouped = regexp.MustCompile(
		`(?i)(?:^|[^0-9a-z])((?:[0-9a-f]{2}[ :-]){3,63}[0-9a-f]{2}|(?:[0-9a-f]{4}[ :-]){1,31}[0-9a-f]{4}|(?:[0-9a-f]{8}[ :-]){1,15}[0-9a-f]{8})(?:$|[^0-9a-z])`,
	)
)

// valuesIn finds the values of a kind's algorithms in a text, as any text is read that a
// person has given, and counts those of others.
func valuesIn(text string, algorithms []digest.Algorithm) (found []Answer, others int) {
	add := func(a digest.Algorithm, value digest.Value, stated bool) {
		if !slices.ContainsFunc(found, func(o Answer) bool { return slices.Equal(o.Value, value) }) {
			found = append(found, Answer{Algorithm: a, Value: value, stated: stated})
		}
	}
	for _, e := range manifest.ValuesIn(text) {
		if a := ofKind(e, algorithms); a != digest.Unknown {
			add(a, e.Digest, e.Algorithm != digest.Unknown)
		} else {
			others++
		}
	}
	for _, a := range algorithms {
		if a.Size() >= digest.MD5.Size() {
			continue
		}
		for line := range strings.Lines(text) {
			matches := shortGrouped.FindAllStringSubmatch(line, -1)
			if len(matches) == 0 {
				matches = short.FindAllStringSubmatch(line, -1)
			}
			for _, match := range matches {
				if value, err := hex.DecodeString(bare.Replace(match[1])); err == nil && len(value) == a.Size() {
					add(a, value, false)
				}
			}
		}
	}
	return found, others
}

// Named lists algorithms for a sentence.
func Named(algorithms []digest.Algorithm) string {
	names := make([]string, len(algorithms))
	for i, a := range algorithms {
		names[i] = a.String()
	}
	return strings.Join(names, " or ")
}

// ofKind returns the algorithm among a kind's by which a value was computed: the one that
// is stated beside it; where none is, or only that it is a CRC, the one of its length.
func ofKind(e manifest.Entry, algorithms []digest.Algorithm) digest.Algorithm {
	if slices.Contains(algorithms, e.Algorithm) {
		return e.Algorithm
	}
	if e.Algorithm == digest.Unknown || e.Algorithm == digest.CRC32 {
		for _, a := range algorithms {
			if a.Size() == len(e.Digest) {
				return a
			}
		}
	}
	return digest.Unknown
}

// WithoutEcho takes the question away where a terminal has shown it again, wherever its
// lines were broken.
func WithoutEcho(text, question string) string {
	if question == "" {
		return text
	}
	at := strings.Index(text, question)
	if at < 0 {
		return text
	}
	return text[:at] + text[at+len(question):]
}

func unclear(format string, args ...any) *diagnose.Cause {
	return &diagnose.Cause{
		Code: diagnose.DeviceUnclear, Sentence: fmt.Sprintf(format, args...),
		Advice: "Look at what it said, below. If that is an answer, the description of its kind has to be mended.",
	}
}

func clip(text string) string {
	if runes := []rune(text); len(runes) > 200 {
		return string(runes[:200]) + "…"
	}
	return text
}
