// Package scenario makes the demo data: the downloads that reach the Skerrow
// Harbour Trust from its publishers, their keys, and the people who look after
// them. All of it is made up, and all of it comes from fixed seeds: two runs
// give the same bytes, fingerprints and dates.
package scenario

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"time"

	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/openpgp/pgptest"
)

// Depot is the name of the demo depot.
const Depot = "quayside"

// A Person has an account in the demo.
type Person struct {
	Name, FullName, Role, Password, Does string
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
		{"tidewright", "Tidewright Instruments", "Release desk, +00 555 0142. Their fingerprint is on every delivery note.", []string{"gauge-fw-*"}},
		{"brackwater", "Brackwater Radio", "support@brackwater.example", []string{"buoy-rx-*"}},
		{"lanternfell", "Lanternfell Controls", "lamps@lanternfell.example; they publish MD5 and CRC-32 lists, unsigned.", []string{"lamp-ctl-*"}},
		{"corran", "Corran Charts", "desk@corran.example", []string{"chart-*"}},
	}
}

var (
	tidewrightBorn = time.Date(2025, 1, 14, 9, 30, 0, 0, time.UTC)
	brackwaterBorn = time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	nextBorn       = time.Date(2026, 2, 2, 8, 0, 0, 0, time.UTC)
	release        = time.Date(2026, 3, 3, 14, 0, 0, 0, time.UTC)
)

// tidewright's primary key only certifies; a subkey signs the releases.
func tidewright() (cert *pgptest.Certificate, signer *pgptest.Key) {
	primary := pgptest.NewKey("tidewright release", pgptest.Ed25519Legacy, tidewrightBorn)
	signer = pgptest.NewKey("tidewright release, signing", pgptest.Ed25519Legacy, tidewrightBorn)
	life := pgptest.KeyExpires(6 * 365 * 24 * time.Hour)
	cert = pgptest.NewCertificate(primary).
		UserID("Tidewright Instruments (releases) <release@tidewright.example>", pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), life}}).
		Subkey(signer, pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign), life}}, &pgptest.Sig{Created: tidewrightBorn})
	return cert, signer
}

func brackwater() *pgptest.Certificate {
	return pgptest.Simple("brackwater release", pgptest.RSA2048, brackwaterBorn, "Brackwater Radio <sign@brackwater.example>")
}

func brackwaterNext() *pgptest.Certificate {
	return pgptest.Simple("brackwater release, next", pgptest.Ed25519, nextBorn, "Brackwater Radio <sign@brackwater.example>")
}

// A KeyFile is a publisher's key as it would be downloaded.
type KeyFile struct {
	Name, Publisher, Fingerprint string
	Armored                      []byte
}

// Keys returns the publishers' keys. The demo's keyring starts with the first
// admitted and the second as a candidate; the third is not in it.
func Keys() []KeyFile {
	t, _ := tidewright()
	file := func(name, publisher string, c *pgptest.Certificate) KeyFile {
		return KeyFile{name, publisher, c.Primary.Fingerprint(), c.Armored()}
	}
	return []KeyFile{
		file("tidewright-release.asc", "tidewright", t),
		file("brackwater-release.asc", "brackwater", brackwater()),
		file("brackwater-release-2026.asc", "brackwater", brackwaterNext()),
	}
}

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
		prefix + "-notes.txt": []byte("Tidewright gauge controller " + version + "\n\nTide prediction tables extended to 2031.\n" +
			"Sensor drift is now reported once an hour.\n"),
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
		f[name+".asc"] = pgptest.Armor("PGP SIGNATURE", by.Sign(f[name], pgptest.Sig{Created: release.AddDate(0, 0, 9), Hash: pgptest.SHA512}))
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
func chart(month string) folder {
	name := "chart-" + month + ".img"
	content := image("chart-"+month, 4<<20)
	file := manifest.File{Name: name, Size: int64(len(content)), Digests: map[digest.Algorithm]digest.Value{}, Pieces: &manifest.Pieces{Algorithm: digest.SHA256, Length: 256 << 10}}
	for _, a := range []digest.Algorithm{digest.MD5, digest.SHA256} {
		h := a.New()
		h.Write(content) //nolint:errcheck // hashes do not fail
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
		h.Write(f[name]) //nolint:errcheck // hashes do not fail
		fmt.Fprintf(&list, "%s %X\n", name, h.Sum(nil))
	}
	f["CRC32.txt"] = list.Bytes()
	return f
}

// folders returns the depot without the large folder.
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
	outward["SHA256SUMS"] = append(outward["SHA256SUMS"], []byte(fmt.Sprintf("%x  ../../etc/hostname\n", sha256.Sum256([]byte("skerrow"))))...)
	outward["SHA256SUMS.sig"] = tide.Sign(outward["SHA256SUMS"], pgptest.Sig{Created: release})

	emptySignature := buoy("1.9", brack, 1<<20, "south")
	emptySignature["buoy-rx-1.9-south.bin.asc"] = nil

	swapped := gauge("4.2", tide)
	swapped["gauge-fw-4.2-boot.img"], swapped["gauge-fw-4.2-main.img"] = swapped["gauge-fw-4.2-main.img"], swapped["gauge-fw-4.2-boot.img"]

	errorPage := gauge("4.2", tide)
	errorPage["gauge-fw-4.2-main.img"] = []byte("<!DOCTYPE html>\n<html><head><title>Session expired</title></head>\n<body><p>Please sign in again.</p></body></html>\n")

	converted := gauge("4.2", tide)
	converted["gauge-fw-4.2-notes.txt"] = bytes.ReplaceAll(converted["gauge-fw-4.2-notes.txt"], []byte("\n"), []byte("\r\n"))

	damaged, padded, short := chart("2026-10"), chart("2026-10"), chart("2026-10")
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
		must(archive.WriteHeader(&tar.Header{Name: "buoy-rx-2.1/" + part + ".bin", Mode: 0o644, Size: int64(len(body)), ModTime: release}))
		_, err := archive.Write(body)
		must(err)
	}
	must(archive.Close())
	zip := gzip.NewWriter(&squeezed)
	_, err := zip.Write(content.Bytes())
	must(errors.Join(err, zip.Close()))
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
		listed = append(listed, manifest.File{Name: name, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: s[:]}})
	}
	var odd bytes.Buffer
	must(manifest.Write(&odd, manifest.DigestFirst, listed))
	names["SHA256SUMS"] = odd.Bytes()

	renamed := gauge("4.3", tide)
	renamed["gauge-main-new.img"] = renamed["gauge-fw-4.3-main.img"]
	delete(renamed, "gauge-fw-4.3-main.img")

	return map[string]folder{
		"tidewright/gauge-fw-4.3-renamed":     renamed,
		"lanternfell/lamp-ctl-3.3-names":      names,
		"brackwater/buoy-rx-2.1":              packed,
		"tidewright/gauge-fw-4.2-swapped":     swapped,
		"tidewright/gauge-fw-4.2-error-page":  errorPage,
		"tidewright/gauge-fw-4.2-converted":   converted,
		"corran/chart-2026-10":                chart("2026-10"),
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
	for path, files := range folders() {
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

// WriteKeys writes the publishers' key files below dir.
func WriteKeys(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, k := range Keys() {
		if err := os.WriteFile(filepath.Join(dir, k.Name), k.Armored, 0o644); err != nil {
			return err
		}
	}
	return nil
}
