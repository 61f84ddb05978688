package survey

import (
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
)

// Target returns what is to be computed of an item: its digests, in their order,
// and behind them a hash for each signature that over lists. A signature that
// cannot be used, or is around the content itself, has none.
func (i *Item) Target() (target *measure.Target, over []*SignatureOver) {
	target = &measure.Target{Path: i.Path, Size: i.Size, ModTime: i.ModTime, Changed: i.Changed, Problem: i.Problem, Inside: i.Inside}
	for _, a := range i.Digests {
		target.Tasks = append(target.Tasks, measure.Task{Algorithm: a})
	}
	for n := range i.Signatures {
		if task, ok := i.Signatures[n].task(); ok {
			target.Tasks = append(target.Tasks, task)
			over = append(over, &i.Signatures[n])
		}
	}
	return target, over
}

// task returns what a signature hashes (RFC 9580, section 5.2.4).
func (o *SignatureOver) task() (measure.Task, bool) {
	if o.Problem != nil || o.Around != "" {
		return measure.Task{}, false
	}
	sig, err := openpgp.ParseSignature(o.Raw)
	if err != nil || sig.Unsupported() != nil {
		return measure.Task{}, false // judging it says what is wrong
	}
	algorithm, err := digest.Parse(sig.Hash.String())
	if err != nil {
		return measure.Task{}, false
	}
	return measure.Task{Algorithm: algorithm, Before: sig.Salt(), Text: sig.Type == openpgp.Text, Expanded: o.Uncompressed, After: sig.Trailer()}, true
}
