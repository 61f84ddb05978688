package survey

import (
	"slices"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
)

// Target returns what is to be computed of an item: its digests, in their order,
// and behind them a hash for each signature that over lists. A signature that
// cannot be used, or is around the content itself, has none.
func (i *Item) Target() (target *measure.Target, over []*SignatureOver) {
	target = &measure.Target{
		Path: i.Path, Size: i.Size, ModTime: i.ModTime, Changed: i.Changed, Problem: i.Problem, Inside: i.Inside,
	}
	for _, a := range i.Digests {
		target.Tasks = append(target.Tasks, measure.Task{Algorithm: a, Unless: i.unless(a)})
	}
	for n := range i.Signatures {
		if task, ok := i.Signatures[n].task(); ok {
			target.Tasks = append(target.Tasks, task)
			over = append(over, &i.Signatures[n])
		}
	}
	return target, over
}

// unless says when a digest is not needed, or returns nil for one that always is: it is one
// only where a value without a label may be of several algorithms and is not of the
// likeliest.
func (i *Item) unless(a digest.Algorithm) *measure.Unless {
	var out *measure.Unless
	for _, l := range i.Listed {
		if !slices.Contains(l.Algorithms, a) {
			continue
		}
		if l.Algorithms[0] == a ||
			out != nil && (out.Algorithm != l.Algorithms[0] || !slices.Equal(out.Digest, l.Digest)) {
			return nil
		}
		out = &measure.Unless{Algorithm: l.Algorithms[0], Digest: l.Digest}
	}
	if a == digest.SHA256 ||
		slices.ContainsFunc(i.Sighted, func(l CopyEntry) bool { return slices.Contains(l.Algorithms, a) }) {
		return nil
	}
	return out
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
	return measure.Task{
		Algorithm: algorithm, Before: sig.Salt(), Text: sig.Type == openpgp.Text, Expanded: o.Uncompressed,
		After: sig.Trailer(),
	}, true
}
