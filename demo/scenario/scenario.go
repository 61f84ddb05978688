// Package scenario makes the demo data: the downloads that reach the Skerrow
// Harbour Trust from its publishers, their keys, and the people who look after
// them. All of it is made up, and all of it comes from fixed seeds: two runs
// give the same bytes, fingerprints and dates.
package scenario

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"endeixis/core/container/isotest"
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/roles"
)

// Depot is the name of the demo depot.
const Depot = "quayside"

// A Person has an account in the demo.
type Person struct {
	Name, FullName string
	Role           roles.Role
	Password, Does string
}

// People lists everybody with an account, the administrator first.
func People() []Person {
	return []Person{
		{"harbour", "Harbour Office", "administrator", "lantern-on-the-mole", "keeps people and settings"},
		{"ines", "Ines Corvane", "operator", "kelp-and-copper", "verifies what the publishers send"},
		{"tobiah", "Tobiah Hallam", "curator", "seven-brass-keys", "decides which keys count"},
		{"merit", "Merit Osei", "auditor", "ink-before-noon", "asks what was checked, and when"},
	}
}

// A Publisher of the scenario.
type Publisher struct {
	Slug, Name, Contact string
	Scope               []string
}

// Publishers lists the publishers that the demo starts with.
func Publishers() []Publisher {
	return []Publisher{
		{
			"tidewright", "Tidewright Instruments",
			"Release desk, +00 555 0142. Their fingerprint is on every delivery note.",
			[]string{"gauge-fw-*"},
		},
		{"brackwater", "Brackwater Radio", "support@brackwater.example", []string{"buoy-rx-*"}},
		{
			"lanternfell", "Lanternfell Controls",
			"lamps@lanternfell.example; they publish MD5 and CRC-32 lists, unsigned.",
			[]string{"lamp-ctl-*"},
		},
		{"corran", "Corran Charts", "desk@corran.example", []string{"chart-*"}},
		{
			"oarlock", "Oarlock Project", "oarlock.example; the list of digests is on two mirrors.",
			[]string{"oarlock-*"},
		},
	}
}

var (
	tidewrightBorn = time.Date(2025, 1, 14, 9, 30, 0, 0, time.UTC)
	brackwaterBorn = time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	nextBorn       = time.Date(2026, 2, 2, 8, 0, 0, 0, time.UTC)
	release        = time.Date(2026, 3, 3, 14, 0, 0, 0, time.UTC)
)

// image returns the made-up content of a firmware image: a readable head, and
// bytes that the seed determines.
func image(name string, size int) []byte {
	out := make([]byte, size)
	rand.NewChaCha8(sha256.Sum256([]byte("skerrow " + name))).Read(out) //nolint:errcheck // never fails
	copy(out, "SKERROW DEMO IMAGE "+name+"\n\x00")
	return out
}

// folder collects the files of one folder of the depot.
type folder map[string][]byte

// sums returns a digest-first SHA-256 manifest of the given files.
func (f folder) sums(names ...string) []byte {
	sort.Strings(names)
	var b bytes.Buffer
	for _, name := range names {
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(f[name]), name)
	}
	return b.Bytes()
}

// gauge returns a good release of the gauge firmware.
func gauge(version string, by *pgptest.Key) folder {
	prefix := "gauge-fw-" + version
	f := folder{
		prefix + "-boot.img": image(prefix+"-boot", 256<<10),
		prefix + "-main.img": image(prefix+"-main", 3<<20),
		prefix + "-notes.txt": []byte(
			"Tidewright gauge controller " + version + "\n\nTide prediction tables extended to 2031.\n" +
				"Sensor drift is now reported once an hour.\n",
		),
	}
	f["SHA256SUMS"] = f.sums(prefix+"-boot.img", prefix+"-main.img", prefix+"-notes.txt")
	f["SHA256SUMS.sig"] = by.Sign(f["SHA256SUMS"], pgptest.Sig{Created: release})
	return f
}

// buoy returns a release of the buoy software: a signature beside every
// artifact, and no manifest.
func buoy(version string, by *pgptest.Key, size int, parts ...string) folder {
	f := folder{}
	for _, part := range parts {
		name := "buoy-rx-" + version + "-" + part + ".bin"
		f[name] = image(name, size)
		f[name+".asc"] = pgptest.Armor(
			"PGP SIGNATURE", by.Sign(f[name], pgptest.Sig{Created: release.AddDate(0, 0, 9), Hash: pgptest.SHA512}),
		)
	}
	return f
}

// large returns a folder that takes long enough for progress to be seen.
func large() folder {
	parts := make([]string, 8)
	for i := range parts {
		parts[i] = fmt.Sprintf("area%02d", i+1)
	}
	return buoy("survey-2026", brackwater().Primary, 48<<20, parts...)
}

// must stops at errors that only a mistake of ours can cause.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

// chart returns a monthly chart image with a Metalink file that has piece
// hashes, unsigned.
func chart() folder {
	const month = "2026-10"
	name := "chart-" + month + ".img"
	content := image("chart-"+month, 4<<20)
	file := manifest.File{
		Name: name, Size: int64(len(content)), Digests: map[digest.Algorithm]digest.Value{},
		Pieces: &manifest.Pieces{Algorithm: digest.SHA256, Length: 256 << 10},
	}
	for _, a := range []digest.Algorithm{digest.MD5, digest.SHA256} {
		h := a.New()
		h.Write(content)
		file.Digests[a] = h.Sum(nil)
	}
	for at := 0; at < len(content); at += 256 << 10 {
		s := sha256.Sum256(content[at : at+256<<10])
		file.Pieces.Digests = append(file.Pieces.Digests, s[:])
	}
	var list bytes.Buffer
	must(manifest.Write(&list, manifest.Metalink, []manifest.File{file}))
	return folder{name: content, "chart-" + month + ".meta4": list.Bytes()}
}

// lamp returns light controller firmware with a list of CRC-32 values. The
// list says CRC-32 whichever variant it holds, as such lists do.
func lamp(version string, variant digest.Algorithm) folder {
	f := folder{}
	var list bytes.Buffer
	list.WriteString("; Lanternfell Controls, lamp controller " + version + "\nCRC-32:\n")
	for _, part := range []string{"head", "drive"} {
		name := "lamp-ctl-" + version + "-" + part + ".bin"
		f[name] = image(name, 96<<10)
		h := variant.New()
		h.Write(f[name])
		fmt.Fprintf(&list, "%s %X\n", name, h.Sum(nil))
	}
	f["CRC32.txt"] = list.Bytes()
	return f
}

// lampArchive returns light controller firmware in a zip archive, with an
// unsigned MD5 list of the images inside.
func lampArchive(version string) folder {
	inside := folder{
		"readme.txt": []byte(
			"Lanternfell Controls, lamp controller " + version + ".\r\nFlash the head before the drive.\r\n",
		),
	}
	var list bytes.Buffer
	for _, part := range []string{"head", "drive"} {
		name := "lamp-ctl-" + version + "-" + part + ".img"
		inside["fw/"+name] = image("lamp-ctl-"+version+"-"+part, 192<<10)
		fmt.Fprintf(&list, "%x  %s\n", md5.Sum(inside["fw/"+name]), name) //nolint:gosec // as such lists are
	}
	return folder{"lamp-ctl-" + version + ".zip": zipOf(inside), "MD5SUMS.txt": list.Bytes()}
}

// zipOf packs files into a zip archive.
func zipOf(files folder) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		out, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: release})
		must(err)
		_, err = out.Write(files[name])
		must(err)
	}
	must(w.Close())
	return b.Bytes()
}

// replaceInZip changes one byte of a member and packs the archive anew.
func replaceInZip(f folder, archive, member string, at int) error {
	r, err := zip.NewReader(bytes.NewReader(f[archive]), int64(len(f[archive])))
	if err != nil {
		return err
	}
	files := folder{}
	for _, m := range r.File {
		in, err := m.Open()
		if err != nil {
			return err
		}
		if files[m.Name], err = io.ReadAll(in); err != nil {
			return err
		}
	}
	files[member][at] ^= 0x04
	f[archive] = zipOf(files)
	return nil
}

// packages returns the list of charts of a month, with their editions.
func packages(month string) (list []byte, names []string) {
	editions := map[string]string{"coast-north": "14", "coast-south": "9", "estuary": "22", "harbour-skerrow": "31"}
	if month == "2026-10" {
		editions["harbour-skerrow"], editions["lights"] = "32", "1"
		delete(editions, "estuary")
	}
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(editions)) {
		fmt.Fprintf(&b, "%s %s\n", name, editions[name])
		names = append(names, name+"-"+editions[name])
	}
	return b.Bytes(), names
}

// disc returns a monthly chart disc image with a package list and a manifest
// inside; beside it three manifests, one per algorithm, the strongest signed.
// When they do not agree, the MD5 list is last month's.
func disc(month string, agree bool) folder {
	name := "chart-disc-" + month + ".iso"
	list, charts := packages(month)
	files := []isotest.File{{Name: "packages.txt", Content: list}}
	var inside bytes.Buffer
	for _, chart := range charts {
		content := image(chart, 300_000)
		files = append(files, isotest.File{Name: "charts/" + chart + ".chart", Content: content})
		fmt.Fprintf(&inside, "%x  charts/%s.chart\n", sha256.Sum256(content), chart)
	}
	files = append(files, isotest.File{Name: "SHA256SUMS", Content: inside.Bytes()})
	f := folder{
		name: isotest.Image(
			files,
			isotest.Options{
				Volume: "CORRAN_" + strings.ReplaceAll(month, "-", "_"), RockRidge: true, Joliet: true, Time: release,
			},
		),
	}
	listed := f[name]
	if !agree {
		listed = disc("2026-09", true)["chart-disc-2026-09.iso"]
	}
	f["packages-"+month+".txt"] = list
	f["MD5SUMS"] = fmt.Appendf(nil, "%x  %s\n", md5.Sum(listed), name)    //nolint:gosec // as such lists are
	f["SHA1SUMS"] = fmt.Appendf(nil, "%x  %s\n", sha1.Sum(f[name]), name) //nolint:gosec // as such lists are
	f["SHA256SUMS"] = f.sums(name, "packages-"+month+".txt")
	f["SHA256SUMS.asc"] = pgptest.Armor(
		"PGP SIGNATURE", corran().Primary.Sign(f["SHA256SUMS"], pgptest.Sig{Created: release.AddDate(0, 6, 0)}),
	)
	return f
}

// oarlockEditions are the editions of the data logger, of which a folder holds
// but a few.
var oarlockEditions = []string{"armv6", "armv7", "arm64", "mips", "riscv64", "x86-64"}

// logger returns editions of the open data logger with the list of digests as
// the project writes it, in a message. When altered is set, the first edition is
// not what the project built, and the list fits it.
func logger(altered bool, editions ...string) folder {
	f := folder{}
	all := folder{}
	for _, e := range oarlockEditions {
		seed := e
		if altered && e == editions[0] {
			seed += ", with something added"
		}
		name := "oarlock-logger-2.4-" + e + ".img"
		all[name] = image("oarlock-logger-2.4-"+seed, 320<<10)
		if slices.Contains(editions, e) {
			f[name] = all[name]
		}
	}
	var b bytes.Buffer
	b.WriteString(
		"Hello everybody,\n\nlogger 2.4 is out. Battery life is up by a third; thanks to all who sent traces.\n\nSHA-256 of the images:\n\n",
	)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintf(&b, "  %s is %x\n", name, sha256.Sum256(all[name]))
	}
	b.WriteString("\nFair winds,\nthe Oarlock maintainers\n")
	f["oarlock-logger-2.4-digests.txt"] = b.Bytes()
	return f
}

// announced returns a release whose list is signed by maintainers, in a message.
func announced(by ...*pgptest.Certificate) folder {
	f := logger(false, "armv7", "x86-64")
	const name = "oarlock-logger-2.4-digests.txt"
	var keys []*pgptest.Key
	for _, c := range by {
		keys = append(keys, c.Primary)
	}
	f["oarlock-logger-2.4-announcement.txt"] = pgptest.Cleartext(
		strings.TrimSuffix(string(f[name]), "\n"),
		pgptest.Sig{Created: release.AddDate(0, 3, 2)},
		keys...)
	delete(f, name)
	return f
}

var mirrored = sync.OnceValue(func() map[string]folder {
	return map[string]folder{
		"oarlock-north": logger(false, oarlockEditions...), "oarlock-south": logger(true, oarlockEditions...),
	}
})

// WriteMirrors writes below dir what the mirrors of Oarlock serve: the northern
// one what the project published, the southern one an altered release.
func WriteMirrors(dir string) error {
	for name, files := range mirrored() {
		if err := writeFolder(filepath.Join(dir, name, "2.4"), files); err != nil {
			return err
		}
	}
	return nil
}

// Mirrors are the names of the mirrors.
func Mirrors() []string { return []string{"oarlock-north", "oarlock-south"} }

// made returns the depot without the large folder. Signing all of it takes a
// while, and nobody changes it.
var made = sync.OnceValue(folders)

func folders() map[string]folder {
	_, tide := tidewright()
	brack, next := brackwater().Primary, brackwaterNext().Primary

	flipped := gauge("4.2", tide)
	flipped["gauge-fw-4.2-main.img"][1<<20] ^= 0x10

	truncated := gauge("4.2", tide)
	truncated["gauge-fw-4.2-main.img"] = truncated["gauge-fw-4.2-main.img"][:2_100_000]

	unlisted := gauge("4.3", tide)
	unlisted["gauge-fw-4.3-extra.img"] = image("gauge-fw-4.3-extra", 128<<10)

	partial := gauge("4.3", tide)
	delete(partial, "gauge-fw-4.3-boot.img")

	rewritten := gauge("4.4", tide)
	rewritten["gauge-fw-4.4-main.img"] = image("not what tidewright built", 3<<20)
	rewritten["SHA256SUMS"] = rewritten.sums("gauge-fw-4.4-boot.img", "gauge-fw-4.4-main.img", "gauge-fw-4.4-notes.txt")

	unsigned := gauge("4.1", tide)
	delete(unsigned, "SHA256SUMS.sig")

	wrong := buoy("1.8", tide, 1<<20, "north")

	outward := gauge("4.3", tide)
	outward["SHA256SUMS"] = append(
		outward["SHA256SUMS"],
		[]byte(fmt.Sprintf("%x  ../../etc/hostname\n", sha256.Sum256([]byte("skerrow"))))...)
	outward["SHA256SUMS.sig"] = tide.Sign(outward["SHA256SUMS"], pgptest.Sig{Created: release})

	emptySignature := buoy("1.9", brack, 1<<20, "south")
	emptySignature["buoy-rx-1.9-south.bin.asc"] = nil

	swapped := gauge("4.2", tide)
	swapped["gauge-fw-4.2-boot.img"], swapped["gauge-fw-4.2-main.img"] = swapped["gauge-fw-4.2-main.img"], swapped["gauge-fw-4.2-boot.img"]

	errorPage := gauge("4.2", tide)
	errorPage["gauge-fw-4.2-main.img"] = []byte(
		"<!DOCTYPE html>\n<html><head><title>Session expired</title></head>\n<body><p>Please sign in again.</p></body></html>\n",
	)

	hole := gauge("4.2", tide)
	clear(hole["gauge-fw-4.2-main.img"][2<<20:])

	converted := gauge("4.2", tide)
	converted["gauge-fw-4.2-notes.txt"] = bytes.ReplaceAll(
		converted["gauge-fw-4.2-notes.txt"], []byte("\n"), []byte("\r\n"),
	)

	damaged, padded, short := chart(), chart(), chart()
	for _, at := range []int{700_000, 2_500_000, 2_600_000} {
		copy(damaged["chart-2026-10.img"][at:], "a scratch on the disc")
	}
	padded["chart-2026-10.img"] = append(padded["chart-2026-10.img"], make([]byte, 150*2048)...)
	short["chart-2026-10.img"] = short["chart-2026-10.img"][:3_000_000]

	// One release comes as a compressed tar, signed in its uncompressed form.
	packed := folder{}
	var content, squeezed bytes.Buffer
	archive := tar.NewWriter(&content)
	for _, part := range []string{"north", "south"} {
		body := image("buoy-rx-2.1-"+part, 512<<10)
		must(
			archive.WriteHeader(
				&tar.Header{
					Name: "buoy-rx-2.1/" + part + ".bin", Mode: 0o644, Size: int64(len(body)), ModTime: release,
				},
			),
		)
		_, err := archive.Write(body)
		must(err)
	}
	must(archive.Close())
	squeeze := gzip.NewWriter(&squeezed)
	_, err := squeeze.Write(content.Bytes())
	must(errors.Join(err, squeeze.Close()))
	packed["buoy-rx-2.1.tar.gz"] = squeezed.Bytes()
	packed["buoy-rx-2.1.tar.sig"] = brack.Sign(content.Bytes(), pgptest.Sig{Created: release.AddDate(0, 1, 0)})

	// Names that a careless program stumbles over: spaces, letters of other
	// scripts, a line break, terminal escapes, markup.
	names := folder{}
	for _, name := range []string{"lamp ctl 3.3 head.bin", "Größe über Süd.bin", "潮位-灯台.bin", "two\nlines.bin", "red\x1b[31m.bin", "<img src=x>.bin", "=cmd.bin"} {
		names[name] = image(name, 16<<10)
	}
	var listed []manifest.File
	for name, content := range names {
		s := sha256.Sum256(content)
		listed = append(
			listed, manifest.File{Name: name, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: s[:]}},
		)
	}
	var odd bytes.Buffer
	must(manifest.Write(&odd, manifest.DigestFirst, listed))
	names["SHA256SUMS"] = odd.Bytes()

	renamed := gauge("4.3", tide)
	renamed["gauge-main-new.img"] = renamed["gauge-fw-4.3-main.img"]
	delete(renamed, "gauge-fw-4.3-main.img")

	// Lanternfell packs its images and lists the MD5 of what is inside; once
	// it put the digest of an image under the archive's own name.
	inner, innerDamaged, innerListed := lampArchive("3.4"), lampArchive("3.4"), lampArchive("3.5")
	must(replaceInZip(innerDamaged, "lamp-ctl-3.4.zip", "fw/lamp-ctl-3.4-drive.img", 70_000))
	innerListed["MD5SUMS.txt"] = fmt.Appendf(
		nil, "%x  lamp-ctl-3.5.zip\n", md5.Sum(image("lamp-ctl-3.5-head", 192<<10)),
	) //nolint:gosec // as such lists are

	// A release in one archive, with its own manifest inside, signed from
	// the outside.
	whole := folder{}
	bundle := gauge("4.5", tide)
	delete(bundle, "SHA256SUMS.sig")
	whole["gauge-fw-4.5.zip"] = zipOf(bundle)
	whole["gauge-fw-4.5.zip.sig"] = tide.Sign(whole["gauge-fw-4.5.zip"], pgptest.Sig{Created: release.AddDate(0, 2, 0)})

	// Bytes that were cleared before, under a newer release's name.
	older := gauge("4.3", tide)
	older["gauge-fw-4.3-main.img"] = gauge("4.2", tide)["gauge-fw-4.2-main.img"]

	// A signature with a name of its own, beside two images.
	unclear := buoy("2.2", brack, 256<<10, "east", "west")
	unclear["release.asc"] = unclear["buoy-rx-2.2-west.bin.asc"]
	delete(unclear, "buoy-rx-2.2-west.bin.asc")
	delete(unclear, "buoy-rx-2.2-east.bin.asc")

	maintainers := oarlock()
	edited := announced(maintainers[0])
	edited["oarlock-logger-2.4-announcement.txt"] = bytes.Replace(
		edited["oarlock-logger-2.4-announcement.txt"], []byte("a third"), []byte("one half"), 1,
	)
	framed := announced(maintainers[2])
	framed["oarlock-logger-2.4-announcement.txt"] = append(
		[]byte("NOTE: the images have moved to another server, take them from there.\n\n"),
		framed["oarlock-logger-2.4-announcement.txt"]...)

	out := map[string]folder{
		"oarlock/logger-2.4-signed":           announced(maintainers[0], maintainers[2]),
		"oarlock/logger-2.4-unknown":          announced(maintainers[1]),
		"oarlock/logger-2.4-edited":           edited,
		"oarlock/logger-2.4-framed":           framed,
		"oarlock/logger-2.4":                  logger(false, "armv6", "arm64", "riscv64"),
		"oarlock/logger-2.4-altered":          logger(true, "armv6", "arm64"),
		"lanternfell/lamp-ctl-3.4-archive":    inner,
		"lanternfell/lamp-ctl-3.4-damaged":    innerDamaged,
		"lanternfell/lamp-ctl-3.5-archive":    innerListed,
		"tidewright/gauge-fw-4.5-archive":     whole,
		"tidewright/gauge-fw-4.3-older":       older,
		"brackwater/buoy-rx-2.2-unclear":      unclear,
		"corran/chart-disc-2026-09":           disc("2026-09", true),
		"corran/chart-disc-2026-10":           disc("2026-10", true),
		"corran/chart-disc-2026-10-retold":    disc("2026-10", false),
		"tidewright/gauge-fw-4.3-renamed":     renamed,
		"lanternfell/lamp-ctl-3.3-names":      names,
		"brackwater/buoy-rx-2.1":              packed,
		"tidewright/gauge-fw-4.2-swapped":     swapped,
		"tidewright/gauge-fw-4.2-error-page":  errorPage,
		"tidewright/gauge-fw-4.2-hole":        hole,
		"tidewright/gauge-fw-4.2-converted":   converted,
		"corran/chart-2026-10":                chart(),
		"corran/chart-2026-10-damaged":        damaged,
		"corran/chart-2026-10-padded":         padded,
		"corran/chart-2026-10-short":          short,
		"lanternfell/lamp-ctl-3.1":            lamp("3.1", digest.CRC32),
		"lanternfell/lamp-ctl-3.2":            lamp("3.2", digest.CRC32BZIP2),
		"tidewright/gauge-fw-4.2":             gauge("4.2", tide),
		"tidewright/gauge-fw-4.2-flipped":     flipped,
		"tidewright/gauge-fw-4.2-truncated":   truncated,
		"tidewright/gauge-fw-4.3-unlisted":    unlisted,
		"tidewright/gauge-fw-4.3-partial":     partial,
		"tidewright/gauge-fw-4.3-outward":     outward,
		"tidewright/gauge-fw-4.4-rewritten":   rewritten,
		"tidewright/gauge-fw-4.1-unsigned":    unsigned,
		"brackwater/buoy-rx-1.9":              buoy("1.9", brack, 1<<20, "north", "south"),
		"brackwater/buoy-rx-1.9-no-signature": emptySignature,
		"brackwater/buoy-rx-1.8-wrong-signer": wrong,
		"brackwater/buoy-rx-2.0-new-signer":   buoy("2.0", next, 1<<20, "north", "south"),
	}
	maps.Copy(out, signatureFolders())
	maps.Copy(out, awkwardLists())
	return out
}

// Write makes the whole depot below dir.
func Write(dir string) error {
	if err := WriteSmall(dir); err != nil {
		return err
	}
	return writeFolder(filepath.Join(dir, "brackwater", "buoy-rx-survey-2026"), large())
}

// WriteSmall makes the depot without the large folder, for tests.
func WriteSmall(dir string) error {
	for path, files := range made() {
		if err := writeFolder(filepath.Join(dir, filepath.FromSlash(path)), files); err != nil {
			return err
		}
	}
	return os.MkdirAll(filepath.Join(dir, "incoming", "empty"), 0o755)
}

func writeFolder(dir string, files folder) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, content, 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(path, release, release); err != nil {
			return err
		}
	}
	return nil
}
