// Command bench measures the product's work against a floor in the same run,
// prints a table and writes docs/benchmarks.md. Run it with “make bench”, which
// gives it a PostgreSQL server.
package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/md5"
	secure "crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"flag"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/cpu"
	"golang.org/x/sys/unix"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/readback"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/client"
	"endeixis/internal/config"
	"endeixis/internal/measurer"
	"endeixis/internal/pgserver"
	"endeixis/internal/serve"
	"endeixis/internal/wire"
)

const (
	large    = 256 << 20
	rounds   = 5
	target   = "docs/benchmarks.md"
	password = "bench-bench-bench"
)

// A row compares our time with the floor's.
type row struct {
	work, floor, aim string
	ours, against    time.Duration
	// reached says whether the aim is met, and figure how it is put.
	reached bool
	figure  string
	note    string
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "endeixis-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	only := flag.String("only", "", "measure just the parts whose names match this expression, and write no file")
	flag.Parse()
	wanted, err := regexp.Compile(*only)
	if err != nil {
		return err
	}
	var rows []row
	for _, part := range []struct {
		name    string
		measure func(dir string) ([]row, error)
	}{
		{"one-file", oneFile},
		{"many-files", manyFiles},
		{"many-md5", manyMD5},
		{"many-sha256", manySHA256},
		{"local-files", localFiles},
		{"readback", readBack},
		{"hand-on", handOn},
		{"fleet", fleet},
		{"browser", inBrowser},
		{"four-algorithms", fourAlgorithms},
		{"million-lines", millionLines},
		{"texts", texts},
		{"signatures", signatures},
		{"big-keyring", bigKeyring},
		{"hostile-keys", hostileKeys},
		{"small-files", smallFiles},
		{"room", room},
		{"reach", reachAndLists},
		{"certified-keys", certifiedKeys},
		{"lists", lists},
		{"ledger", theLedger},
	} {
		if !wanted.MatchString(part.name) {
			continue
		}
		r, err := part.measure(dir)
		if err != nil {
			return err
		}
		rows = append(rows, r...)
	}
	text := table(rows)
	fmt.Print(text)
	if *only != "" {
		return nil
	}
	return os.WriteFile(target, []byte(text), 0o644)
}

// versus runs both sides in turn and returns the best time of each: the least
// disturbed one.
func versus(product, floor func() error) (a, b time.Duration, err error) {
	var as, bs []time.Duration
	for range rounds {
		for _, side := range []struct {
			f   func() error
			out *[]time.Duration
		}{{floor, &bs}, {product, &as}} {
			runtime.GC()
			start := time.Now()
			if err := side.f(); err != nil {
				return 0, 0, err
			}
			*side.out = append(*side.out, time.Since(start))
		}
	}
	return slices.Min(as), slices.Min(bs), nil
}

// speed is a row whose aim is a share of the floor's throughput.
func speed(work, floor string, aim float64, a, b time.Duration) row {
	share := b.Seconds() / a.Seconds()
	return row{
		work: work, floor: floor, aim: fmt.Sprintf("≥ %.2f", aim), ours: a, against: b, reached: share >= aim,
		figure: fmt.Sprintf("%.2f", share),
	}
}

// cost is a row whose aim is a multiple of the floor's time.
func cost(work, floor string, aim float64, a, b time.Duration) row {
	times := a.Seconds() / b.Seconds()
	return row{
		work: work, floor: floor, aim: fmt.Sprintf("≤ %.2f ×", aim), ours: a, against: b, reached: times <= aim,
		figure: fmt.Sprintf("%.2f ×", times),
	}
}

func write(path string, size int, seed byte) error {
	content := make([]byte, size)
	rand.NewChaCha8([32]byte{seed}).Read(content) //nolint:errcheck // never fails
	return os.WriteFile(path, content, 0o644)
}

func item(name string, algorithms ...digest.Algorithm) *survey.Item {
	return &survey.Item{Path: name, Role: survey.Artifact, Digests: algorithms}
}

func measureOne(fsys fs.FS, it *survey.Item) error {
	_, err := measured(fsys, it)
	return err
}

func measured(fsys fs.FS, it *survey.Item) (measure.Measurement, error) {
	all, err := verify.Open(
		context.Background(), fsys, verify.Files([]*survey.Item{it}), measure.Attribution{}, digest.Gain{}, nil,
	)
	m := all[it.Path]
	if err == nil && m.Problem != nil {
		err = errors.New(m.Problem.Message)
	}
	return m, err
}

func bareHash(path string, h hash.Hash) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{f}, make([]byte, 256<<10))
	return err
}

func oneFile(dir string) ([]row, error) {
	path := filepath.Join(dir, "one.img")
	if err := write(path, large, 1); err != nil {
		return nil, err
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	product := func() error { return measureOne(os.DirFS(dir), item("one.img", digest.SHA256)) }
	a, b, err := versus(product, func() error { sha256.Sum256(content); return nil })
	if err != nil {
		return nil, err
	}
	c, d, err := versus(product, func() error { return bareHash(path, sha256.New()) })
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(content)
	unlabelled := item("one.img", digest.OfSize(len(sum))...)
	unlabelled.Listed = []survey.Entry{{Algorithms: digest.OfSize(len(sum)), Digest: sum[:]}}
	e, f, err := versus(func() error { return measureOne(os.DirFS(dir), unlabelled) }, product)
	return []row{
		cost("a value of 64 digits without a label, of the likeliest algorithm", "the same with its label", 1.1, e, f),
		speed("one cached file of 256 MiB, SHA-256", "hashing the same bytes already in memory", 0.95, a, b),
		speed("the same", "the bare loop that reads and hashes", 0.90, c, d),
	}, err
}

func manyFiles(dir string) ([]row, error) {
	const n = 8
	for i := range n {
		if err := write(filepath.Join(dir, fmt.Sprintf("many%d.img", i)), large/4, byte(i)); err != nil {
			return nil, err
		}
	}
	parallel := func(f func(i int) error) error {
		errs := make([]error, n)
		next := make(chan int, n)
		for i := range n {
			next <- i
		}
		close(next)
		var wg sync.WaitGroup
		for range runtime.NumCPU() {
			wg.Go(func() {
				for i := range next {
					errs[i] = f(i)
				}
			})
		}
		wg.Wait()
		return errors.Join(errs...)
	}
	fsys := os.DirFS(dir)
	a, b, err := versus(
		func() error {
			return parallel(
				func(i int) error { return measureOne(fsys, item(fmt.Sprintf("many%d.img", i), digest.SHA256)) },
			)
		},
		func() error {
			return parallel(
				func(i int) error { return bareHash(filepath.Join(dir, fmt.Sprintf("many%d.img", i)), sha256.New()) },
			)
		})
	return []row{
		speed("8 cached files of 64 MiB on every core, SHA-256", "the bare loop on every core", 0.95, a, b),
	}, err
}

// manySmall reads files that are listed by one algorithm only, in as many parts as
// there are cores, as the service's workers do.
// Whatever it is, SHA-256 is computed too.
func manySmall(dir string, algorithm digest.Algorithm, bare func() hash.Hash, what string, aim float64) ([]row, error) {
	const n, size = 128, 4 << 20
	var items []*survey.Item
	for i := range n {
		name := fmt.Sprintf("small-%03d.img", i)
		if err := write(filepath.Join(dir, name), size, byte(i)); err != nil {
			return nil, err
		}
		it := item(name, slices.Compact([]digest.Algorithm{algorithm, digest.SHA256})...)
		it.Size = size
		items = append(items, it)
	}
	cores := runtime.NumCPU()
	parts := func(f func(part []*survey.Item) error) error {
		var wg errgroup.Group
		for i := range cores {
			wg.Go(func() error { return f(items[i*n/cores : (i+1)*n/cores]) })
		}
		return wg.Wait()
	}
	fsys := os.DirFS(dir)
	gain := digest.MeasureGain(time.Now)
	a, b, err := versus(func() error {
		return parts(func(part []*survey.Item) error {
			for _, group := range verify.Groups(verify.Files(part), gain) {
				all, err := verify.Open(context.Background(), fsys, group, measure.Attribution{}, gain, nil)
				if err != nil {
					return err
				}
				for _, m := range all {
					if m.Problem != nil {
						return errors.New(m.Problem.Message)
					}
				}
			}
			return nil
		})
	}, func() error {
		return parts(func(part []*survey.Item) error {
			for _, it := range part {
				if err := bareHash(filepath.Join(dir, it.Path), bare()); err != nil {
					return err
				}
			}
			return nil
		})
	})
	return []row{speed("128 files of 4 MiB listed only by "+algorithm.String(), what, aim, a, b)}, err
}

// manyMD5 is held against the slower of both digests alone.
func manyMD5(dir string) ([]row, error) {
	aim := 0.95
	if cpu.X86.HasAVX512F && !shaInstructions() {
		aim = 2
	}
	slower := sha256.New
	if took := func(h hash.Hash) time.Duration {
		start := time.Now()
		h.Write(make([]byte, 8<<20))
		return time.Since(start)
	}; took(md5.New()) > took(sha256.New()) {
		slower = md5.New
	}
	return manySmall(dir, digest.MD5, slower, "the slower of MD5 and SHA-256 alone, bare, on every core", aim)
}

func manySHA256(dir string) ([]row, error) {
	aim := 0.95
	if cpu.X86.HasAVX512F && !shaInstructions() {
		aim = 2.5
	}
	return manySmall(dir, digest.SHA256, sha256.New, "bare hashing by the standard library on every core", aim)
}

// shaInstructions reports whether the processor hashes by SHA-256 itself.
func shaInstructions() bool {
	b, err := os.ReadFile("/proc/cpuinfo")
	return err == nil && bytes.Contains(b, []byte(" sha_ni"))
}

func fourAlgorithms(dir string) ([]row, error) {
	path := filepath.Join(dir, "one.img")
	single := func(h func() hash.Hash) (time.Duration, error) {
		best := time.Hour
		for range rounds {
			start := time.Now()
			if err := bareHash(path, h()); err != nil {
				return 0, err
			}
			best = min(best, time.Since(start))
		}
		return best, nil
	}
	slowest, sum := time.Duration(0), time.Duration(0)
	for _, h := range []func() hash.Hash{md5.New, digest.SHA1.New, sha256.New, sha512.New} {
		took, err := single(h)
		if err != nil {
			return nil, err
		}
		slowest, sum = max(slowest, took), sum+took
	}
	plainSHA1, err := single(sha1.New)
	if err != nil {
		return nil, err
	}
	a, _, err := versus(func() error {
		return measureOne(os.DirFS(dir), item("one.img", digest.MD5, digest.SHA1, digest.SHA256, digest.SHA512))
	}, func() error { return nil })
	r := cost(
		"one file, MD5 + SHA-1 + SHA-256 + SHA-512 at once",
		"the larger of the slowest alone and the sum over the cores", 1.15, a,
		max(slowest, sum/time.Duration(runtime.NumCPU())),
	)
	r.note = fmt.Sprintf(
		"SHA-1 is computed with collision detection on both sides; without it SHA-1 alone takes %s.", round(plainSHA1),
	)
	return []row{r}, err
}

func millionLines(string) ([]row, error) {
	const n = 1_000_000
	var text bytes.Buffer
	for i := range n {
		fmt.Fprintf(
			&text, "%x  firmware/part-%07d.img\n", sha256.Sum256([]byte{byte(i), byte(i >> 8), byte(i >> 16)}), i,
		)
	}
	list := text.String()
	var allocations float64
	a, b, err := versus(func() error {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		m, err := manifest.Parse(list, manifest.Options{FileName: "SHA256SUMS", MaxBytes: 1 << 30})
		runtime.ReadMemStats(&after)
		allocations = float64(after.Mallocs-before.Mallocs) / n
		if err == nil && m.Entries.Len() != n {
			err = fmt.Errorf("%d entries", m.Entries.Len())
		}
		return err
	}, func() error {
		lines := bufio.NewScanner(bytes.NewReader(text.Bytes()))
		count := 0
		for lines.Scan() {
			if len(lines.Bytes()) > 0 {
				count++
			}
		}
		return lines.Err()
	})
	r := speed("a manifest of 1,000,000 lines", "scanning the same lines", 0.4, a, b)
	if err != nil {
		return nil, err
	}
	m, err := manifest.Parse(list, manifest.Options{FileName: "SHA256SUMS", MaxBytes: 1 << 30})
	start := time.Now()
	for _, e := range m.Entries.All() {
		if len(e.Digest) == 0 {
			err = errors.New("an entry without a digest")
		}
	}
	r.note = fmt.Sprintf(
		"%.1f allocations an entry. Entries are made when they are asked for: going through all of them takes %s.",
		allocations, round(time.Since(start)),
	)
	return []row{r}, err
}

// bigKeyring verifies with 10,000 certificates in the keyring, by a few signers.
func bigKeyring(string) ([]row, error) {
	const certificates, signers, times = 10_000, 20, 200
	born := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	raw := make([][]byte, certificates)
	var sigs [][]byte
	document := []byte("a release of the gauge controller")
	for i := range raw {
		made := pgptest.Simple(fmt.Sprintf("bench %d", i), pgptest.Ed25519, born, fmt.Sprintf("Publisher %d", i))
		raw[i] = made.Bytes()
		if i < signers {
			sigs = append(sigs, made.Primary.Sign(document, pgptest.Sig{Created: born.AddDate(0, 1, 0)}))
		}
	}
	var ring *keyring.Keyring
	ready := func() error {
		keys := make([]*keyring.Key, 0, certificates)
		for _, b := range raw {
			certs, _, err := openpgp.ReadCertificates(b)
			if err != nil {
				return err
			}
			keys = append(keys, &keyring.Key{Certificate: certs[0]})
		}
		ring = keyring.New(keys, nil)
		return nil
	}
	a, b, err := versus(ready, func() error {
		for _, b := range raw {
			sha1.Sum(b)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	rows := []row{
		{
			work: "a keyring of 10,000 certificates, read and indexed", floor: "SHA-1 of the same bytes", aim: "≤ 3 s",
			ours: a, against: b, reached: a <= 3*time.Second, figure: round(a),
		},
	}

	var parsed []*openpgp.Signature
	var docs []openpgp.Document
	for _, data := range sigs {
		s, err := openpgp.ReadSignatures(data)
		if err != nil {
			return nil, err
		}
		h, err := s[0].NewHash()
		if err != nil {
			return nil, err
		}
		h.Write(document)
		parsed, docs = append(parsed, s[0]), append(docs, openpgp.Document{Digest: s[0].Finish(h)})
	}
	rules := judge.DefaultPolicy().Rules(time.Now())
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, err
	}
	digest := docs[0].Digest
	armored := ed25519.Sign(private, digest)
	a, b, err = versus(func() error {
		for i := range times * signers {
			s := parsed[i%signers]
			if r := openpgp.Verify(s, docs[i%signers], ring.Issuers(s), rules); r.Status != openpgp.Valid {
				return fmt.Errorf("%s: %s", r.Status, r.Reason)
			}
		}
		return nil
	}, func() error {
		for range times * signers {
			if !ed25519.Verify(public, digest, armored) {
				return errors.New("ed25519")
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	rows = append(
		rows,
		cost(
			"4,000 verifications with 10,000 certificates in the keyring", "the bare public-key operations", 1.1, a, b,
		),
	)
	const lookups = 1_000_000
	start := time.Now()
	found := 0
	for i := range lookups {
		found += len(ring.Issuers(parsed[i%signers]))
	}
	each := time.Since(start) / lookups
	if found != lookups {
		return nil, fmt.Errorf("%d found", found)
	}
	return append(
		rows,
		row{
			work: "a look-up in it", floor: "—", aim: "≤ 5 µs", ours: each, against: each,
			reached: each <= 5*time.Microsecond, figure: each.String(),
		},
	), nil
}

// signatures verifies a signature of each kind over a large file, against
// hashing the file and one bare operation of the same kind.
func signatures(dir string) ([]row, error) {
	path := filepath.Join(dir, "many0.img")
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte("x"))
	public, private, err1 := ed25519.GenerateKey(nil)
	edSigned := ed25519.Sign(private, sum[:])
	ec, err2 := ecdsa.GenerateKey(elliptic.P256(), secure.Reader)
	rsaKey, err3 := rsa.GenerateKey(secure.Reader, 4096)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	ecSigned, err1 := ecdsa.SignASN1(secure.Reader, ec, sum[:])
	rsaSigned, err2 := rsa.SignPKCS1v15(nil, rsaKey, crypto.SHA256, sum[:])
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	var rows []row
	for _, kind := range []struct {
		name      string
		algorithm pgptest.Algorithm
		bare      func() bool
	}{
		{"Ed25519", pgptest.Ed25519, func() bool { return ed25519.Verify(public, sum[:], edSigned) }},
		{"P-256", pgptest.P256, func() bool { return ecdsa.VerifyASN1(&ec.PublicKey, sum[:], ecSigned) }},
		{"RSA-4096", pgptest.RSA4096, func() bool {
			return rsa.VerifyPKCS1v15(&rsaKey.PublicKey, crypto.SHA256, sum[:], rsaSigned) == nil
		}},
	} {
		born := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
		made := pgptest.Simple("bench", kind.algorithm, born, "Bench")
		certs, _, err := openpgp.ReadCertificates(made.Bytes())
		if err != nil {
			return nil, err
		}
		ring := keyring.New(
			[]*keyring.Key{
				{
					Certificate: certs[0], Publisher: "bench",
					History: []keyring.Change{{At: born, To: keyring.Admitted}},
				},
			},
			nil,
		)
		sigs, err := openpgp.ReadSignatures(made.Primary.Sign(content, pgptest.Sig{Created: born.AddDate(0, 1, 0)}))
		if err != nil {
			return nil, err
		}
		it := item("many0.img", digest.SHA256)
		it.Signatures = []survey.SignatureOver{{File: "many0.img.sig", Raw: sigs[0].Raw}}
		basis := judge.Basis{Keyring: ring, Policy: judge.DefaultPolicy(), Now: time.Now()}
		a, b, err := versus(func() error {
			m, err := measured(os.DirFS(dir), it)
			if err != nil {
				return err
			}
			if o := basis.Artifact(it, &m, judge.Surroundings{}); o.Verdict != judge.Cleared {
				return fmt.Errorf("verdict %s", o.Verdict)
			}
			return nil
		}, func() error {
			if !kind.bare() {
				return errors.New(kind.name)
			}
			return bareHash(path, sha256.New())
		})
		if err != nil {
			return nil, err
		}
		rows = append(
			rows,
			cost(
				"a detached "+kind.name+" signature over a cached file of 64 MiB",
				"hashing the file and one public-key operation", 1.1, a, b,
			),
		)
	}
	return rows, nil
}

// A running is the whole service with a database of its own.
type running struct {
	url            string
	client         *client.Client
	conn           *pgx.Conn
	address, token string
	stop           func()
}

// start starts it over the depot in dir; key names the file of the ledger's key.
func start(ctx context.Context, dir, key string, change ...func(*config.Config)) (*running, error) {
	url, err := pgserver.CreateDatabase(ctx, os.Getenv(pgserver.TestVariable))
	if err != nil {
		return nil, fmt.Errorf("run this with “make bench”, which starts PostgreSQL: %w", err)
	}
	return startOn(ctx, dir, key, url, "", change...)
}

// startOn starts it on a database: on a new one without a token, or again with the one
// that was issued.
func startOn(ctx context.Context, dir, key, url, token string, change ...func(*config.Config)) (*running, error) {
	ctx, cancel := context.WithCancel(ctx)
	c := config.Config{
		Name:     "bench.example",
		Listen:   "127.0.0.1:0",
		Database: config.Database{URL: url},
		Ledger:   config.Ledger{KeyFile: filepath.Join(dir, key)},
		Depots: map[string]string{
			"bench": filepath.Join(dir, "depot"),
		},
		Work: config.Work{SliceBytes: 256 << 20, SliceItems: 1000, MeasurerHours: 24},
	}
	for _, f := range change {
		f(&c)
	}
	service, err := serve.Open(ctx, c, slog.New(slog.DiscardHandler))
	if err != nil {
		cancel()
		return nil, err
	}
	if token == "" {
		first, err := service.Init(ctx, "bench", func() (string, error) { return password, nil })
		if err != nil {
			cancel()
			return nil, err
		}
		token = first.Token
	}
	address, done := make(chan string, 1), make(chan error, 1)
	go func() { done <- service.Serve(ctx, serve.Start{Ready: func(a string) { address <- a }}) }()
	r := &running{address: "http://" + <-address, token: token, url: url}
	r.stop = func() {
		if r.conn != nil {
			r.conn.Close(ctx)
		}
		cancel()
		<-done //nolint:errcheck // it was told to end, and only that it did is wanted
		service.Close()
	}
	if r.client, err = client.New(r.address, token); err == nil {
		r.conn, err = pgx.Connect(ctx, url)
	}
	if err != nil {
		r.stop()
		return nil, err
	}
	return r, nil
}

// smallFiles runs a batch of 20,000 files through the whole service, against
// one bulk COPY of the same rows and one walk that hashes the same files.
func smallFiles(dir string) ([]row, error) {
	const n = 20_000
	folder := filepath.Join(dir, "depot", "many")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	for i := range n {
		if err := write(filepath.Join(folder, fmt.Sprintf("part-%05d.img", i)), 4096, byte(i)); err != nil {
			return nil, err
		}
	}
	ctx := context.Background()
	s, err := start(ctx, dir, "ledger.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	c, conn := s.client, s.conn
	round := 0
	batch := func() error {
		round++
		b, err := c.RunBatch(ctx, wire.NewBatch{Depot: "bench", Path: "many"}, fmt.Sprint(round))
		if err != nil {
			return err
		}
		b, err = c.Follow(ctx, b.ID, func(wire.Batch) {})
		if err == nil && b.Counts.Unproven != n {
			err = fmt.Errorf("%d of %d items settled", b.Counts.Unproven, n)
		}
		return err
	}
	if err := batch(); err != nil {
		return nil, err
	}
	if _, err := conn.Exec(
		ctx,
		`CREATE TABLE floor_items (LIKE items); CREATE TABLE floor_outcomes (LIKE outcomes); ALTER TABLE floor_outcomes DROP COLUMN rank;
		CREATE TABLE floor_digests (LIKE outcome_digests); CREATE TABLE floor_records (LIKE ledger_records); CREATE TABLE floor_pages (LIKE ledger_pages); CREATE TABLE floor_hashes (LIKE ledger_hashes)`,
	); err != nil {
		return nil, err
	}
	var dumps [6]bytes.Buffer
	tables := []string{"items", "outcomes", "outcome_digests", "ledger_records", "ledger_pages", "ledger_hashes"}
	floors := []string{"floor_items", "floor_outcomes", "floor_digests", "floor_records", "floor_pages", "floor_hashes"}
	for i, name := range tables {
		if _, err := conn.PgConn().CopyTo(ctx, &dumps[i], "COPY "+name+" TO STDOUT (FORMAT binary)"); err != nil {
			return nil, err
		}
	}
	floor := func() error {
		for i, name := range floors {
			if _, err := conn.PgConn().CopyFrom(
				ctx, bytes.NewReader(dumps[i].Bytes()), "COPY "+name+" FROM STDIN (FORMAT binary)",
			); err != nil {
				return err
			}
		}
		return filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			return bareHash(path, sha256.New())
		})
	}
	const floored = "one COPY of the same rows and one walk that hashes the files"
	a, b, err := versus(batch, floor)
	if err != nil {
		return nil, err
	}
	rows := []row{cost("20,000 files of 4 KiB, survey to records, through the service", floored, 2, a, b)}
	a, b, err = versus(func() error { return localBatch(ctx, c, folder, n) }, floor)
	return append(rows, cost("the same files, read by a client beside a service on loopback", floored, 2.5, a, b)), err
}

// localBatch verifies a folder that the client reads.
func localBatch(ctx context.Context, c *client.Client, folder string, n int) error {
	b, err := c.RunBatch(
		ctx, wire.NewBatch{Measurer: &wire.Measurer{Kind: measure.Client, Host: "bench", Path: folder}}, "",
	)
	if err != nil {
		return err
	}
	files := os.DirFS(folder)
	found, err := survey.Gather(ctx, files, survey.Limits{})
	if err != nil {
		return err
	}
	if err := measurer.List(ctx, c, b.ID, found); err != nil {
		return err
	}
	if _, err := measurer.Surveyed(ctx, c, b.ID); err != nil {
		return err
	}
	if err := measurer.Measure(ctx, c, b.ID, files, 0, nil); err != nil {
		return err
	}
	b, err = c.Follow(ctx, b.ID, func(wire.Batch) {})
	if err == nil && b.Counts.Unproven != n {
		err = fmt.Errorf("%d of %d items settled", b.Counts.Unproven, n)
	}
	return err
}

// stub is a service that asks for what it was made with and takes what it is sent.
type stub struct{ assignments []wire.Assignment }

func (stub) SendListing(context.Context, int64, int, wire.ListingPage) error { return nil }
func (stub) CloseListing(context.Context, int64, int) (wire.Batch, error)    { return wire.Batch{}, nil }

func (stub) FollowUntil(context.Context, int64, func(wire.Batch) bool) (wire.Batch, error) {
	return wire.Batch{}, nil
}

func (s stub) Assignments(context.Context, int64) ([]wire.Assignment, error) {
	return s.assignments, nil
}

func (stub) SendMeasurements(_ context.Context, _ int64, measured []wire.Submission) (wire.Taken, error) {
	return wire.Taken{Taken: len(measured)}, nil
}

// localFiles measures large files as the client does on its own machine.
func localFiles(dir string) ([]row, error) {
	const n = 8
	s := stub{}
	for i := range n {
		name := fmt.Sprintf("local%d.img", i)
		if err := write(filepath.Join(dir, name), large/4, byte(i)); err != nil {
			return nil, err
		}
		s.assignments = append(
			s.assignments,
			wire.Assignment{
				N:      i,
				Target: measure.Target{Path: name, Size: large / 4, Tasks: []measure.Task{{Algorithm: digest.SHA256}}},
			},
		)
	}
	a, b, err := versus(
		func() error { return measurer.Measure(context.Background(), s, 1, os.DirFS(dir), 0, nil) },
		func() error {
			var wg errgroup.Group
			wg.SetLimit(runtime.NumCPU())
			for i := range n {
				wg.Go(func() error { return bareHash(filepath.Join(dir, fmt.Sprintf("local%d.img", i)), sha256.New()) })
			}
			return wg.Wait()
		},
	)
	return []row{
		speed("8 files of 64 MiB measured by the client", "the bare read-and-hash loop on every core", 0.95, a, b),
	}, err
}

// readBack reads a medium back as the client does, past the system's memory.
func readBack(dir string) ([]row, error) {
	path := filepath.Join(dir, "medium.bin")
	if err := write(path, large, 3); err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	cache := readback.NotAvoided
	a, b, err := versus(func() error {
		m, err := measurer.OpenMedium(path)
		if err != nil {
			return err
		}
		defer m.Close()
		cache = m.Cache
		_, err = readback.Read(context.Background(), m, m.Info.Size, digest.Only(digest.SHA256), nil)
		return err
	}, func() error {
		// What is in memory is forgotten, so that the disk is read here too.
		if err := errors.Join(f.Sync(), unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)); err != nil {
			return err
		}
		return bareHash(path, sha256.New())
	})
	r := speed("a medium of 256 MiB, read back", "the bare loop that reads it from the disk and hashes it", 0.95, a, b)
	r.note = "the system's memory is " + string(cache) + "."
	return []row{r}, err
}

// round tells a time, and nothing where none was taken.
func round(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return d.Round(100 * time.Microsecond).String()
}

func table(rows []row) string {
	var b strings.Builder
	b.WriteString(
		"# Benchmarks\n\nWritten by `make bench`. Every figure is held against a floor measured in the same run on the same machine;\nthe best of five runs counts on both sides.\n\n",
	)
	fmt.Fprintf(
		&b, "Machine: %d cores, %s/%s, %s.\n\n", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH, runtime.Version(),
	)
	b.WriteString("| work | floor | aim | measured | ours | floor's |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, r := range rows {
		mark := "reached"
		if !r.reached {
			mark = "**missed**"
		}
		fmt.Fprintf(
			&b, "| %s | %s | %s | %s, %s | %s | %s |\n", r.work, r.floor, r.aim, r.figure, mark, round(r.ours),
			round(r.against),
		)
	}
	b.WriteString("\n")
	for _, r := range rows {
		if r.note != "" {
			fmt.Fprintf(&b, "- %s: %s\n", r.work, r.note)
		}
	}
	return b.String()
}
