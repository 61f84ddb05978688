package openpgp

// A Vetting tells what became of each packet of a certificate: see [Vetting.Fates].
type Vetting struct {
	// Packets counts all that were read, and Counted those that are kept and say something
	// about the key.
	Packets, Counted int

	// Unknown counts what is kept and counts for nothing: signatures by keys that are not
	// known; Unread signatures that cannot be read, or not be computed; and Unsigned parts
	// that the owner has not signed.
	Unknown, Unread, Unsigned int

	// Forged counts signatures that claim to be by the owner, and do not hold.
	Forged int
	// Misplaced counts those of the owner that are about no part of a certificate, such as
	// a signature over a document.
	Misplaced int
	// Untrue counts signatures that say to be by a key that a person has decided about, and
	// are not.
	Untrue int
	// Unchecked counts those for which the effort did not suffice; they count for
	// nothing. Revocations are checked first, and then what is newest.
	Unchecked int
	// Surplus counts what is left out because there is more of it than one
	// certificate may have.
	Surplus int
	// PassedOver counts packets that need not be understood: local remarks of the program that wrote the
	// file, padding, and kinds that may be passed over.
	PassedOver int
	// Repeated counts copies of packets that are counted elsewhere.
	Repeated int
}

// A Standing is what a packet of a certificate is worth.
type Standing string

// The standings of packets.
const (
	// Counts is said of those that say something about the key.
	Counts Standing = "counts"
	// Idle is said of those that are kept and count for nothing.
	Idle Standing = "idle"
	// Dropped is said of those that are not kept.
	Dropped Standing = "dropped"
)

// Standings lists every standing.
func Standings() []Standing { return []Standing{Counts, Idle, Dropped} }

// A Fate is what became of some packets of a certificate, and why.
type Fate struct {
	Packets int
	Became  Standing
	Why     string
}

// Fates returns what became of the packets that were read: each is counted once, and nothing
// is dropped without a line.
func (v Vetting) Fates() []Fate {
	var out []Fate
	for _, f := range []Fate{
		{v.Counted, Counts, "keys, names and what their owner, or a key that is decided about here, says of them"},
		{v.Unknown, Idle, "signatures by keys that nobody has decided about here; they count as soon as somebody has"},
		{v.Unread, Idle, "signatures that cannot be read or computed here"},
		{v.Unsigned, Idle, "parts of the key that its owner has not signed"},
		{v.Forged, Dropped, "signatures said to be by the owner, which do not hold"},
		{v.Untrue, Dropped, "signatures said to be by a key that is decided about here, which do not hold"},
		{v.Misplaced, Dropped, "signatures by the owner that are about no part of a key"},
		{v.Unchecked, Dropped, "signatures that could not be checked, for there are too many of a kind that takes long; there may be a revocation among them"},
		{v.Surplus, Dropped, "more than one key may have here"},
		{v.PassedOver, Dropped, "remarks of whoever wrote the file, and kinds that need not be known"},
		{v.Repeated, Dropped, "copies of what the file says elsewhere"},
	} {
		if f.Packets > 0 {
			out = append(out, f)
		}
	}
	return out
}

// vetted completes what is known of a certificate that was checked by what is kept of it.
func (c *Certificate) vetted(k *keeper) Vetting {
	out := c.vetting
	out.Surplus, out.Untrue, out.Unknown, out.Unread = k.left, k.untrue, k.unknown, k.unread
	kept := countPackets(k.parts)
	for i, part := range k.parts {
		if part.tag != tagPublicKey && k.owned[i] == 0 {
			out.Unsigned++
		}
	}
	if out.Packets == 0 { // it was not read from a file
		out.Packets = c.Packets()
	}
	out.Counted = kept - out.Unknown - out.Unread - out.Unsigned
	out.Repeated = out.Packets - kept - out.Forged - out.Untrue - out.Misplaced - out.Unchecked - out.Surplus -
		out.PassedOver
	return out
}

// Packets counts the packets that a certificate is made of.
func (c *Certificate) Packets() int { return countPackets(c.components) }

func countPackets(parts []component) int {
	n := len(parts)
	for _, part := range parts {
		n += len(part.sigs)
	}
	return n
}
