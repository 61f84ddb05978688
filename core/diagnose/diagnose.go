// Package diagnose explains why a file does not match its digest: cut short,
// padded, swapped with another, converted, an error page under its name,
// damaged in places. It reads the file at most once more, and says nothing that
// it has not established.
package diagnose

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/lineend"
	"endeixis/core/manifest"
	"endeixis/core/plain"
)

// A Code is the stable name of a cause.
type Code string

// The causes.
const (
	// WrongAlgorithm: the expected value is another algorithm's digest of the
	// same bytes.
	WrongAlgorithm Code = "wrong-algorithm"
	// OtherEntry: the bytes are those of another entry.
	OtherEntry Code = "other-entry"
	// Truncated: the file ends early, by a stated size or its own structure.
	Truncated Code = "truncated"
	// Hole: the file ends in zeros, or has a long stretch of them.
	Hole Code = "hole"
	// Padded: the first part of the file matches, and something follows.
	Padded Code = "padded"
	// LineEndings: the digest matches after conversion of line endings.
	LineEndings Code = "line-endings"
	// NotTheArtifact: the content is a page or message under the file's name.
	NotTheArtifact Code = "not-the-artifact"
	// InnerFile: the digest is that of a file inside the archive, or of the
	// uncompressed form.
	InnerFile Code = "inner-file"
	// OtherRelease: the bytes are known from an earlier cleared item.
	OtherRelease Code = "other-release"
	// DamagedPieces: piece hashes locate the damage.
	DamagedPieces Code = "damaged-pieces"
	// MistypedValue: the value that is stated differs from the file's in one or two
	// characters, which no other file explains.
	MistypedValue Code = "mistyped-value"
	// Altered: none of these.
	Altered Code = "altered"
	// DeviceUnreached: a device that is to hash a slot cannot be reached.
	DeviceUnreached Code = "device-unreached"
	// DeviceKeyChanged: another host key than the one that was confirmed, and
	// DeviceKeyUnconfirmed: none was confirmed.
	DeviceKeyChanged     Code = "device-key-changed"
	DeviceKeyUnconfirmed Code = "device-key-unconfirmed"
	// DeviceLogin: the device does not let the service in.
	DeviceLogin Code = "device-login"
	// DeviceSilent: it did not answer, or not to the end, within its time.
	DeviceSilent Code = "device-silent"
	// DeviceLineCut: the connection ended before the answer did.
	DeviceLineCut Code = "device-line-cut"
	// DeviceUnclear: what it said is no answer, or more than one.
	DeviceUnclear Code = "device-unclear"
	// DeviceOtherSlot: it hashed another slot than the one that was asked for.
	DeviceOtherSlot Code = "device-other-slot"
	// DeviceRefused: it said that it does not do this.
	DeviceRefused Code = "device-refused"
)

// Codes lists every code.
func Codes() []Code {
	return []Code{
		WrongAlgorithm,
		OtherEntry,
		Truncated,
		Hole,
		Padded,
		LineEndings,
		NotTheArtifact,
		InnerFile,
		OtherRelease,
		DamagedPieces,
		MistypedValue,
		Altered,
		DeviceUnreached,
		DeviceKeyChanged,
		DeviceKeyUnconfirmed,
		DeviceLogin,
		DeviceSilent,
		DeviceLineCut,
		DeviceUnclear,
		DeviceOtherSlot,
		DeviceRefused,
	}
}

// A Range is a part of a file, in bytes.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// A Cause is one thing that was established about why a file does not match.
type Cause struct {
	Code Code `json:"code"`
	// Sentence says what was found and Advice what to do; both are safe to
	// show.
	Sentence string `json:"sentence"`
	Advice   string `json:"advice"`
	// Damage lists the damaged parts where piece hashes locate them.
	Damage []Range `json:"damage,omitempty"`
	// Size is that of the file where Damage is to be drawn.
	Size int64 `json:"size,omitempty"`
}

// A Diagnosis is what was found about one entry of a manifest.
type Diagnosis struct {
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
	// Expected is the digest that the entry states; a line can have several.
	Expected digest.Value `json:"expected"`
	Causes   []Cause      `json:"findings"`
}

// A StatedAt is an entry that states a digest.
type StatedAt struct {
	Name     string
	Manifest string
	Line     int
}

// A Case is a file that does not match.
type Case struct {
	// Name is the file's own name.
	Name string
	// Size is its length in bytes.
	Size int64
	// Computed are the digests that were measured.
	Computed map[digest.Algorithm]digest.Value
	// Expected, of one of the Algorithms, is what the manifest states, and
	// ExpectedSize the length it states, or nil.
	Expected     digest.Value
	Algorithms   []digest.Algorithm
	ExpectedSize *int64
	Pieces       *manifest.Pieces
	// Known are the digests of all entries of the batch, in hexadecimal.
	Known map[string]StatedAt
	// Earlier is the earlier item that was cleared with the same bytes, or
	// nil.
	Earlier *Earlier
	// At gives access to any part of the file, or is nil. The directory of
	// an archive is read through it.
	At io.ReaderAt
	// Around are files here that by their names may hold this one.
	Around []Holder
}

// A Holder is a file that may hold another.
type Holder struct {
	Name string
	Open func() (io.ReadCloser, error)
}

// An Earlier is an item that was cleared before.
type Earlier struct {
	// Name is the file's path, Folder where it lay, and Label what the batch
	// was called.
	Name, Folder, Label string
	Batch               int64
	On                  time.Time
}

// headSize is how much of the file's beginning is looked at.
const headSize = 64 << 10

// Run diagnoses a case, reading r once from the beginning of the file. It
// returns at least one cause, and an error only when r fails or ctx ends.
func Run(ctx context.Context, r io.Reader, c Case) ([]Cause, error) {
	head := make([]byte, headSize)
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	head = head[:n]
	d := &examination{Case: c, head: head}
	d.prepare()
	d.interior = newInterior(ctx, head, c.At, &d.Case)
	if _, err := digest.Pump(ctx, io.MultiReader(bytes.NewReader(head), r), d.writers(), nil); err != nil {
		return nil, err
	}
	out := d.causes()
	if out[0].Code == Altered {
		if found := d.holder(ctx); found != nil {
			out = []Cause{*found}
		}
	}
	return out, nil
}

// holder looks among the files that may hold this one for the one whose digest
// is stated.
func (d *examination) holder(ctx context.Context) *Cause {
	for _, h := range d.Around {
		r, err := h.Open()
		if err != nil {
			continue
		}
		set := digest.NewSet(d.Algorithms)
		_, err = digest.Pump(ctx, r, set.Writers(), nil)
		r.Close()
		if err == nil && d.matches(set.Sums()) {
			return &Cause{
				Code: InnerFile,
				Sentence: fmt.Sprintf(
					"The value stated is the digest of %s beside it, not of this file, which by its name comes from in there.",
					plain.Quoted(h.Name),
				),
				Advice: "Compare that file instead, and take this one from it anew.",
			}
		}
	}
	return nil
}

// An examination collects everything in the one read.
type examination struct {
	Case
	head     []byte
	others   *digest.Set
	prefix   *prefix
	toLF     *converter
	toCRLF   *converter
	zeros    zeroRuns
	pieces   *manifest.PieceHasher
	tail     tail
	isoBytes int64
	interior *interior
}

func (d *examination) prepare() {
	d.others = digest.NewSet(digest.OfSize(len(d.Expected)))
	d.isoBytes = isoSize(d.head)
	length := d.isoBytes
	if d.ExpectedSize != nil {
		length = *d.ExpectedSize
	}
	if length > 0 && length < d.Size {
		d.prefix = &prefix{set: digest.NewSet(d.Algorithms), left: length}
	}
	// Images are moved in text mode too.
	d.toLF = &converter{set: digest.NewSet(d.Algorithms), convert: lineend.ToLF()}
	d.toCRLF = &converter{set: digest.NewSet(d.Algorithms), convert: lineend.ToCRLF()}
	if d.Pieces != nil && d.Pieces.Length > 0 {
		d.pieces = manifest.NewPieceHasher(d.Pieces.Algorithm, d.Pieces.Length)
	}
}

func (d *examination) writers() []io.Writer {
	out := append(d.others.Writers(), &d.zeros, &d.tail, d.toLF, d.toCRLF)
	if d.prefix != nil {
		out = append(out, d.prefix)
	}
	if d.pieces != nil {
		out = append(out, d.pieces)
	}
	if d.interior != nil {
		out = append(out, d.interior)
	}
	return out
}

func (d *examination) matches(sums map[digest.Algorithm]digest.Value) bool {
	for _, v := range sums {
		if slices.Equal(v, d.Expected) {
			return true
		}
	}
	return false
}

// An adder adds a cause, and returns it for what else is known of it.
type adder func(code Code, advice, format string, args ...any) *Cause

// again is the advice where the bytes on the way were damaged.
const again = "Download the file again; if it stays so, try another mirror or ask the publisher."

// causes says what holds, the most telling first.
func (d *examination) causes() []Cause {
	var out []Cause
	add := func(code Code, advice, format string, args ...any) *Cause {
		out = append(out, Cause{Code: code, Advice: advice, Sentence: fmt.Sprintf(format, args...)})
		return &out[len(out)-1]
	}
	d.otherAlgorithms(add)
	if d.mistyped(add) {
		return out // the bytes are the right ones
	}
	if renamed := UnderAnotherName(d.Name, d.Computed, d.Known); renamed != nil {
		out = append(out, *renamed)
	}
	if known := KnownRelease(d.Earlier); known != nil {
		out = append(out, *known)
	}
	d.innerFile(add)
	if what := pretender(d.Name, d.head); what != "" {
		add(NotTheArtifact, "Open the address in a browser to see the message, and download the file again.",
			"The content is %s, not what the name %s promises.", what, plain.Quoted(path.Base(d.Name)))
	}
	d.cutShort(add)
	padded := d.padded(add)
	d.lineEndings(add)
	if !padded {
		d.hole(add)
	}
	d.damagedPieces(add)
	if len(out) == 0 {
		size := ""
		if d.ExpectedSize != nil && *d.ExpectedSize == d.Size {
			size = " It has the length that is stated."
		}
		add(
			Altered,
			"Do not use it. Download it again; if it stays so, tell the publisher: the file may have been tampered with.",
			"Its content is another one, and nothing that usually goes wrong explains it.%s",
			size,
		)
	}
	return out
}

// innerFile tells, if it is so, that the stated value is that of something inside the file.
func (d *examination) innerFile(add adder) {
	if d.interior == nil {
		return
	}
	const advice = "Nothing is wrong with that. Compare what is inside instead: have the list name the file as it is called in there, or ask the publisher for a digest of the whole."
	algorithm := "digest"
	if len(d.Algorithms) == 1 {
		algorithm = d.Algorithms[0].String() + " digest"
	}
	if member, uncompressed := d.interior.finish(); uncompressed {
		add(
			InnerFile, advice,
			"The value stated is the %s of what this file holds once it is uncompressed, not of the file as it is.",
			algorithm,
		)
	} else if member != "" {
		add(
			InnerFile, advice, "The value stated is the %s of %s inside this file, not of the file itself.",
			algorithm, plain.Quoted(member),
		)
	}
}

// cutShort tells, if it is so, that the end of the file is missing.
func (d *examination) cutShort(add adder) {
	switch {
	case d.ExpectedSize != nil && d.Size < *d.ExpectedSize:
		add(
			Truncated, again, "It is cut short: %d of %d bytes are here, %d are missing.", d.Size, *d.ExpectedSize,
			*d.ExpectedSize-d.Size,
		)
	case d.isoBytes > d.Size:
		add(
			Truncated, again, "It is cut short: by its own structure the disc image has %d bytes, and %d are here.",
			d.isoBytes, d.Size,
		)
	case d.interior != nil && d.interior.cutShort:
		add(Truncated, again, "It is cut short: the compressed data ends in the middle.")
	case d.tail.endsEarly(d.head):
		add(Truncated, again, "It is cut short: the archive's closing part is not at the end of the file.")
	}
}

// padded reports whether the file is what is expected with more behind it, and tells so.
func (d *examination) padded(add adder) bool {
	padded := d.prefix != nil && d.matches(d.prefix.set.Sums())
	if padded {
		add(
			Padded, "Cut the file to that length, or have the comparison end there.",
			"The first %d bytes are exactly what is expected; %d bytes more follow, %s.", d.Size-d.prefix.tail,
			d.prefix.tail, d.prefix.holds(),
		)
	}
	return padded
}

// lineEndings tells, if it is so, that the file is what is expected with other line endings.
func (d *examination) lineEndings(add adder) {
	const transfer = "Something on the way converted line endings. Transfer the file again as binary."
	if d.matches(d.toLF.set.Sums()) {
		add(LineEndings, transfer, "It matches once CR LF line endings are turned into LF.")
	} else if d.matches(d.toCRLF.set.Sums()) {
		add(LineEndings, transfer, "It matches once LF line endings are turned into CR LF.")
	}
}

// hole tells, if it is so, that a long part of the file is zero.
func (d *examination) hole(add adder) {
	if run, atEnd := d.zeros.longest(d.Size); run.Length >= 64<<10 && run.Length*100 >= d.Size {
		if atEnd {
			add(
				Hole,
				again,
				"The last %d bytes are all zero, from byte %d on: a download that reserved its space and did not finish looks like this.",
				run.Length,
				run.Offset,
			)
		} else {
			add(
				Hole, again, "%d bytes from byte %d on are all zero: a download with a missing part looks like this.",
				run.Length, run.Offset,
			)
		}
	}
}

// damagedPieces tells, where the list has digests of pieces, which of them differ.
func (d *examination) damagedPieces(add adder) {
	if d.pieces == nil {
		return
	}
	computed := d.pieces.Pieces()
	if damage := damaged(&computed, d.Pieces, d.Size); len(damage) > 0 {
		total := int64(0)
		for _, r := range damage {
			total += r.Length
		}
		f := add(
			DamagedPieces, "Fetch just these parts again, if your download program can; otherwise the whole file.",
			"The damage lies in %s, %d bytes of %d together; the first begins at byte %d.",
			plain.Count(len(damage), "part"), total, d.Size, damage[0].Offset,
		)
		f.Damage, f.Size = damage, d.Size
	}
}

// mistypedMost is in how many characters a value that was copied wrongly differs.
const mistypedMost = 2

// mistyped tells, if it is so, that the stated value is the file's but for one or two characters. A
// checksum is too short for that to say anything.
func (d *examination) mistyped(add adder) bool {
	if len(d.Expected) < 16 {
		return false
	}
	for _, a := range d.Algorithms {
		computed, ok := d.Computed[a]
		if !ok || len(computed) != len(d.Expected) {
			continue
		}
		want, have := d.Expected.String(), computed.String()
		var at []int
		for i := range want {
			if want[i] != have[i] {
				at = append(at, i)
			}
		}
		if len(at) == 0 || len(at) > mistypedMost {
			continue
		}
		const advice = "Read the value again where it comes from, character by character. The file need not be downloaded again: another file has another value altogether."
		switch {
		case len(at) == 2 && at[1] == at[0]+1 && want[at[0]] == have[at[1]] && want[at[1]] == have[at[0]]:
			add(
				MistypedValue,
				advice,
				"The value that is stated is the file's %s digest with two characters swapped, the %s and the one behind it: it was copied wrongly, or changed.",
				a,
				ordinal(at[0]+1),
			)
		case len(at) == 2:
			add(
				MistypedValue,
				advice,
				"The value that is stated is the file's %s digest but for two characters, the %s and the %s: it was copied wrongly, or changed.",
				a,
				ordinal(at[0]+1),
				ordinal(at[1]+1),
			)
		default:
			add(
				MistypedValue,
				advice,
				"The value that is stated is the file's %s digest but for one character, the %s: it was copied wrongly, or changed.",
				a,
				ordinal(at[0]+1),
			)
		}
		return true
	}
	return false
}

// ordinal words a place: 1st, 2nd, 13th.
func ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, suffix)
}

// UnderAnotherName looks for a file's digests among those stated for other names, and
// returns the cause, or nil. A CRC is too short to identify a file by.
func UnderAnotherName(name string, computed map[digest.Algorithm]digest.Value, known map[string]StatedAt) *Cause {
	for _, a := range digest.All() {
		v := computed[a]
		if e, ok := known[v.String()]; ok && len(v) >= 16 && e.Name != name {
			f := &Cause{
				Code: OtherEntry,
				Sentence: fmt.Sprintf(
					"These bytes are those of %s, as %s states in line %d.", plain.Quoted(e.Name),
					plain.Text(e.Manifest), e.Line,
				),
				Advice: "Files were swapped or renamed, or this is another edition. Give it its published name and check again.",
			}
			if packs(e.Name, name) {
				f.Sentence = fmt.Sprintf(
					"The digest that %s states in line %d for %s is that of this file, which by its name is what that holds.",
					plain.Text(e.Manifest),
					e.Line,
					plain.Quoted(e.Name),
				)
				f.Advice = "Keep the names as they are. Ask the publisher for the digest of this file, or expand the archive and compare again."
			}
			return f
		}
	}
	return nil
}

// packs reports whether one file is, by its name, the archive or the compressed form of
// the other.
func packs(archive, name string) bool {
	base := path.Base(archive)
	possible, _ := container.Named(base)
	if _, _, compressed := container.OfName(base); !possible && !compressed {
		return false
	}
	stem := strings.TrimSuffix(base, path.Ext(base))
	own := path.Base(name)
	return stem == own || stem == strings.TrimSuffix(own, path.Ext(own))
}

// KnownRelease words that the same bytes were cleared before, or returns nil.
func KnownRelease(e *Earlier) *Cause {
	if e == nil {
		return nil
	}
	label := ""
	if e.Label != "" {
		label = fmt.Sprintf(" (%s)", plain.Text(e.Label))
	}
	return &Cause{
		Code: OtherRelease,
		Sentence: fmt.Sprintf(
			"These bytes are known: they are those of %s in %s, cleared on %s in batch %d%s.", plain.Quoted(e.Name),
			plain.Text(e.Folder), e.On.Format(time.DateOnly), e.Batch, label,
		),
		Advice: "This is that release under another name, or in place of the one that you meant. Download the release that you want.",
	}
}

// otherAlgorithms looks for the expected value among all algorithms of its
// length and, for a CRC, in the other byte order.
func (d *examination) otherAlgorithms(add adder) {
	const advice = "The bytes are as listed. Correct the list's label, or name the algorithm when comparing; mind what the algorithm is worth."
	sums := d.others.Sums()
	for _, a := range digest.OfSize(len(d.Expected)) {
		v := sums[a]
		if slices.Contains(d.Algorithms, a) {
			continue
		}
		if slices.Equal(v, d.Expected) {
			add(
				WrongAlgorithm, advice, "The value stated is the %s digest of exactly these bytes, not %s.", a,
				d.Algorithms[0],
			)
			return
		}
	}
	if len(d.Expected) != 4 {
		return
	}
	reversed := slices.Clone(d.Expected)
	slices.Reverse(reversed)
	for _, a := range digest.OfSize(4) {
		if slices.Equal(sums[a], reversed) {
			add(
				WrongAlgorithm, advice,
				"The value stated is the %s checksum of exactly these bytes with its bytes in reverse order.", a,
			)
			return
		}
	}
}

// binaryNames are endings of files that are never pages or messages.
var binaryNames = []string{
	".img", ".bin", ".iso", ".zip", ".gz", ".xz", ".bz2", ".zst", ".tar", ".tgz", ".txz", ".deb", ".rpm", ".exe",
	".msi", ".dmg", ".rom", ".fw", ".hex", ".7z", ".jar", ".cab", ".squashfs",
}

// pretender says what a file with a binary's name holds instead, or nothing.
func pretender(name string, head []byte) string {
	if !slices.Contains(binaryNames, strings.ToLower(path.Ext(name))) || len(head) == 0 {
		return ""
	}
	text := bytes.ToLower(bytes.TrimSpace(head))
	switch {
	case bytes.HasPrefix(text, []byte("<!doctype html")),
		bytes.HasPrefix(text, []byte("<html")),
		bytes.HasPrefix(text, []byte("<head")):
		return "an HTML page, such as an error or sign-in page"
	case bytes.HasPrefix(text, []byte("{")) && (bytes.Contains(text[:min(len(text), 400)], []byte(`"error"`)) || bytes.Contains(text[:min(len(text), 400)], []byte(`"message"`))):
		return "a message of a web service in JSON"
	case bytes.HasPrefix(text, []byte("<?xml")) && bytes.Contains(text[:min(len(text), 400)], []byte("<error")):
		return "an error message in XML"
	case len(head) < 2048 && len(text) > 0 && printable(head):
		return "a short text"
	}
	return ""
}

func printable(b []byte) bool {
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return true
}

// isoSize returns the length that an ISO 9660 image states in its primary
// volume descriptor (ECMA-119, section 8.4), or 0.
func isoSize(head []byte) int64 {
	const at = 16 * 2048
	if len(head) < at+2048 || head[at] != 1 || string(head[at+1:at+6]) != "CD001" {
		return 0
	}
	return int64(binary.LittleEndian.Uint32(head[at+80:])) * int64(binary.LittleEndian.Uint16(head[at+128:]))
}
