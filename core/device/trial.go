package device

import (
	"strings"

	"endeixis/core/diagnose"
	"endeixis/core/plain"
)

// Try reads what somebody has pasted from such a device about a slot, as it would be read if
// the device were asked: of a console the question, the answer and the prompt that follows. The
// cause tells why that is no answer.
func (k *Kind) Try(slot *Slot, pasted []byte) (Answer, *diagnose.Cause) {
	if k.Connection == Typed {
		return k.Copied(slot, k.Algorithms(), pasted)
	}
	if k.Connection == Console {
		text := strings.TrimRight(Printed(pasted), "\n")
		at := strings.LastIndexByte(text, '\n') + 1
		if !k.Prompt.MatchString(text[at:]) {
			return Answer{}, unclear(
				"The last line that was pasted, %s, is not the prompt as the description has it.",
				plain.Quoted(clip(text[at:])),
			)
		}
		pasted = []byte(text[:at])
	}
	var first *diagnose.Cause
	for _, a := range k.Algorithms() {
		answer, cause := k.Read(slot, a, pasted)
		if cause == nil {
			return answer, nil
		}
		if first == nil {
			first = cause
		}
	}
	return Answer{}, first
}
