// Package openpgp reads OpenPGP certificates and detached signatures (RFC 9580,
// and what RFC 4880 left in the world) and decides whether a signature over
// some data holds, by which key, and whether that key was fit to make it.
//
// It verifies only; it cannot make keys or signatures and has no use for
// secret key material. It does no I/O and knows no clock: the data comes as
// the finished hash of a stream, and every time that matters is an argument.
//
// The pieces, in the order in which they are used:
//
//   - [ReadSignatures] and [ReadCertificates] turn a file, armored or binary,
//     into packets of ours. They never trust a length they have not seen bytes
//     for, and fail with a [*FormatError] that names packet, offset and reason.
//   - [Signature.NewHash] and [Signature.Trailer] say what has to be hashed
//     over the data, so that one pass over a file can serve any number of
//     signatures.
//   - [Verify] takes the resulting digest and the candidate keys, and returns a
//     [Result] whose [Status] can be switched on and whose Steps can be shown.
//
// What is supported grows; what is not is reported as [Unsupported] with the
// reason, never guessed at.
package openpgp

import "fmt"

// A FormatError reports input that is not well-formed.
type FormatError struct {
	// Offset is where in the binary form (after armor is removed) the
	// trouble lies, in bytes.
	Offset int
	// Packet names the packet being read, or is empty outside packets.
	Packet string
	// Reason says what is wrong.
	Reason string
}

// A PartError is a [FormatError] for which one part of a key was left out, with the
// signatures about it, and the rest was read.
type PartError struct{ FormatError }

// Error names packet, offset and reason.
func (e *FormatError) Error() string {
	if e.Packet == "" {
		return fmt.Sprintf("at byte %d: %s", e.Offset, e.Reason)
	}
	return fmt.Sprintf("%s packet at byte %d: %s", e.Packet, e.Offset, e.Reason)
}

// An UnsupportedError reports well-formed input that uses a version or
// algorithm we do not compute.
type UnsupportedError struct {
	// What names it, such as "signature version 6".
	What string
}

// Error says what is not supported.
func (e *UnsupportedError) Error() string { return e.What + " is not supported" }

// A SecretKeyError reports that the input holds a secret key. Nothing of it is
// kept.
type SecretKeyError struct{}

// Error tells the sender what to do, for a secret key must never be passed on.
func (*SecretKeyError) Error() string {
	return "this is a secret key, not a public one; nothing of it was kept. Ask for the public key, and tell whoever gave you this that their secret key has been handed around"
}

// An EmptyError reports input without any OpenPGP data.
type EmptyError struct {
	// Want is what was looked for: "signature" or "public key".
	Want string
	// Found describes what the input looks like instead, or is empty.
	Found string
}

// Error says what was found in its place.
func (e *EmptyError) Error() string {
	if e.Found != "" {
		return fmt.Sprintf("no OpenPGP %s in it: %s", e.Want, e.Found)
	}
	return fmt.Sprintf("no OpenPGP %s in it", e.Want)
}
