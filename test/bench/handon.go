package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"endeixis/core/digest"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/client"
	"endeixis/internal/measurer"
	"endeixis/internal/wire"
)

// fetching opens one file at the service.
type fetching struct {
	c     *client.Client
	batch int64
	item  wire.Item
}

func (f fetching) OpenAt(ctx context.Context, _ string, offset int64) (io.ReadCloser, error) {
	return f.c.Content(ctx, f.batch, f.item.N, offset, f.item.Size), nil
}

// handOn hands a file on through the service, against a bare copy that hashes what it reads,
// and again what is on the disk then.
func handOn(dir string) ([]row, error) {
	folder := filepath.Join(dir, "depot", "release")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	image := filepath.Join(folder, "bell.img")
	if err := write(image, large, 7); err != nil {
		return nil, err
	}
	content, err := os.ReadFile(image)
	if err != nil {
		return nil, err
	}
	born := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("hand-on", pgptest.Ed25519, born)
	list := fmt.Sprintf("%x  bell.img\n", sha256.Sum256(content))
	for name, text := range map[string][]byte{"SHA256SUMS": []byte(list), "SHA256SUMS.sig": key.Sign([]byte(list), pgptest.Sig{Created: born.AddDate(0, 1, 0)})} {
		if err := os.WriteFile(filepath.Join(folder, name), text, 0o644); err != nil {
			return nil, err
		}
	}
	ctx := context.Background()
	s, err := start(ctx, dir, "handon.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	if err := admit(
		ctx, s.client,
		pgptest.NewCertificate(key).UserID(
			"hand-on",
			pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}},
		).Bytes(),
		key.Fingerprint(),
	); err != nil {
		return nil, err
	}
	b, err := s.client.RunBatch(ctx, wire.NewBatch{Depot: "bench", Path: "release"}, "one")
	if err != nil {
		return nil, err
	}
	if b, err = s.client.Follow(ctx, b.ID, func(wire.Batch) {}); err != nil || b.Counts.Cleared != 1 {
		return nil, fmt.Errorf("%d cleared: %w", b.Counts.Cleared, err)
	}
	found, err := s.client.ItemsMatching(ctx, b.ID, "bell.img")
	if err != nil || len(found) != 1 {
		return nil, fmt.Errorf("%d items: %w", len(found), err)
	}
	to, err := os.MkdirTemp(dir, "stick")
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	sum := sha256.Sum256(content)
	product, floor, err := versus(func() error {
		files := []measurer.Handed{
			{Path: "bell.img", Size: large, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: sum[:]}},
		}
		if err := measurer.HandOn(ctx, fetching{s.client, b.ID, found[0]}, root, files, nil); err != nil ||
			files[0].Why != "" {
			return fmt.Errorf("not handed on: %s: %w", files[0].Why, err)
		}
		return root.Remove("bell.img")
	}, func() error { return bareCopy(image, filepath.Join(to, "copy.img")) })
	return []row{
		speed(
			"a file of 256 MiB handed on through the service",
			"a bare copy that hashes what it reads, and again what is on the disk", 0.8, product, floor,
		),
	}, err
}

// bareCopy copies a file and hashes it on both sides.
func bareCopy(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	defer os.Remove(to)
	defer out.Close()
	if _, err := io.CopyBuffer(
		struct{ io.Writer }{io.MultiWriter(sha256.New(), out)}, struct{ io.Reader }{in}, make([]byte, 256<<10),
	); err != nil {
		return err
	}
	if err := errors.Join(out.Sync(), unix.Fadvise(int(out.Fd()), 0, 0, unix.FADV_DONTNEED)); err != nil {
		return err
	}
	return bareHash(to, sha256.New())
}
