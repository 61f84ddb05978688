package scenario

import (
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"errors"
	"fmt"
	"maps"
	"time"

	"endeixis/core/openpgp/pgptest"
)

// small returns a gauge release of small images with a list, signed as asked.
func small(version string, sign func(list []byte) []byte) folder {
	prefix := "gauge-fw-" + version
	f := folder{}
	for _, part := range []string{"-boot.img", "-main.img"} {
		f[prefix+part] = image(prefix+part, 96<<10)
	}
	f["SHA256SUMS"] = f.sums(prefix+"-boot.img", prefix+"-main.img")
	f["SHA256SUMS.sig"] = sign(f["SHA256SUMS"])
	return f
}

// gzipped compresses content with a header.
func gzipped(content []byte, header gzip.Header) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Header = header
	_, err := w.Write(content)
	must(errors.Join(err, w.Close()))
	return b.Bytes()
}

// signatureFolders returns a folder for each thing that can become of a
// signature beside those that the other folders show.
func signatureFolders() map[string]folder {
	_, tide := tidewright()
	by := func(key *pgptest.Key, spec pgptest.Sig) func([]byte) []byte {
		return func(list []byte) []byte { return key.Sign(list, spec) }
	}
	spec := func(change func(*pgptest.Sig)) func([]byte) []byte {
		s := pgptest.Sig{Created: release}
		change(&s)
		return by(tide, s)
	}
	retired, _ := tidewrightRetired()
	compromised, _ := tidewrightCompromised()
	field, _ := brackwaterField()
	_, bench := brackwaterBench()
	former := brackwaterFormer()

	detached := func(version string, key *pgptest.Key, at time.Time) folder {
		name := "buoy-rx-" + version + "-north.bin"
		f := folder{name: image(name, 256<<10)}
		f[name+".asc"] = pgptest.Armor("PGP SIGNATURE", key.Sign(f[name], pgptest.Sig{Created: at}))
		return f
	}
	textImage := folder{"gauge-fw-4.6-probe.img": image("gauge-fw-4.6-probe.img", 96<<10)}
	textImage["gauge-fw-4.6-probe.img.sig"] = tide.Sign(
		textImage["gauge-fw-4.6-probe.img"], pgptest.Sig{Type: pgptest.Text, Created: release},
	)
	cut := small("4.6", spec(func(*pgptest.Sig) {}))
	cut["SHA256SUMS.sig"] = cut["SHA256SUMS.sig"][:60]
	several := small("4.6", func(list []byte) []byte {
		return bytes.Join(
			[][]byte{
				tide.Sign(list, pgptest.Sig{Created: release}),
				brackwaterNext().Primary.Sign(list, pgptest.Sig{Created: release}),
			},
			nil,
		)
	})
	// What lies beside the list is a signed message over another release's.
	other := small("4.5", func([]byte) []byte { return nil })["SHA256SUMS"]
	message := small("4.6", func([]byte) []byte { return pgptest.Message(other, pgptest.Sig{Created: release}, tide) })

	// What Lanternfell sends since they were asked for more: still MD5.
	waived := folder{
		"lamp-ctl-3.6-head.bin":  image("lamp-ctl-3.6-head", 96<<10),
		"lamp-ctl-3.6-drive.bin": image("lamp-ctl-3.6-drive", 96<<10),
	}
	for _, name := range []string{"lamp-ctl-3.6-drive.bin", "lamp-ctl-3.6-head.bin"} {
		waived["MD5SUMS"] = fmt.Appendf(
			waived["MD5SUMS"], "%x  %s\n", md5.Sum(waived[name]), name,
		) //nolint:gosec // as such lists are
	}

	proof := folder{"chart-proof-14.img": image("chart-proof-14.img", 128<<10)}
	proof["chart-proof-14.img.sig"] = corranProofs().Primary.Sign(
		proof["chart-proof-14.img"], pgptest.Sig{Created: release},
	)

	// Two publishers' files in one folder, and one of them signed by the other.
	mixed := small("4.6", spec(func(*pgptest.Sig) {}))
	maps.Copy(mixed, detached("2.4", tide, release))
	maps.Copy(mixed, detached("1.2", former.Primary, formerUntil.AddDate(-1, 0, 0)))

	// The archive is signed in its uncompressed form; somebody wrote into its header.
	surplus := folder{
		"gauge-fw-4.6-manual.txt.gz": gzipped(
			[]byte("Gauge controller, manual, edition 4.6\n"),
			gzip.Header{Name: "gauge-fw-4.6-manual.txt", Comment: "call +00 555 0199 for support"},
		),
	}
	surplus["gauge-fw-4.6-manual.txt.sig"] = tide.Sign(
		[]byte("Gauge controller, manual, edition 4.6\n"), pgptest.Sig{Created: release},
	)

	anybody := folder{"oarlock-logger-2.5-arm64.img": image("not what oarlock built", 96<<10)}
	anybody["oarlock-logger-2.5-arm64.img.asc"] = pgptest.Armor(
		"PGP SIGNATURE",
		oarlockAnybody().Primary.Sign(anybody["oarlock-logger-2.5-arm64.img"], pgptest.Sig{Created: release}),
	)

	return map[string]folder{
		"incoming/two-publishers":           mixed,
		"tidewright/gauge-fw-4.6-surplus":   surplus,
		"oarlock/logger-2.5-anybody":        anybody,
		"brackwater/buoy-rx-1.2-superseded": detached("1.2", former.Primary, formerUntil.AddDate(-1, 0, 0)),
		"brackwater/buoy-rx-2.4-superseded": detached("2.4", former.Primary, formerUntil.AddDate(1, 0, 0)),
		"corran/chart-proof-14":             proof,
		"lanternfell/lamp-ctl-3.6":          waived,
		"tidewright/gauge-fw-4.6-weak-hash": small("4.6", spec(func(s *pgptest.Sig) { s.Hash = pgptest.SHA1 })),
		"tidewright/gauge-fw-4.6-future": small(
			"4.6", spec(func(s *pgptest.Sig) { s.Created = release.AddDate(40, 0, 0) }),
		),
		"tidewright/gauge-fw-4.6-lapsed": small(
			"4.6", spec(func(s *pgptest.Sig) { s.Hashed = []pgptest.Sub{pgptest.Expires(30 * 24 * time.Hour)} }),
		),
		"tidewright/gauge-fw-4.6-timestamp": small(
			"4.6", spec(func(s *pgptest.Sig) { s.Type = pgptest.Timestamp }),
		),
		"tidewright/gauge-fw-4.6-critical": small(
			"4.6", spec(func(s *pgptest.Sig) { s.Hashed = []pgptest.Sub{{Type: 99, Critical: true, Body: []byte{1}}} }),
		),
		"tidewright/gauge-fw-4.6-text":       small("4.6", spec(func(s *pgptest.Sig) { s.Type = pgptest.Text })),
		"tidewright/gauge-fw-4.6-text-image": textImage,
		"tidewright/gauge-fw-4.6-version-5":  small("4.6", spec(func(s *pgptest.Sig) { s.Version = 5 })),
		"tidewright/gauge-fw-4.6-cut":        cut, "tidewright/gauge-fw-4.6-several": several,
		"tidewright/gauge-fw-4.6-message": message,
		"tidewright/gauge-fw-3.9-retired": small(
			"3.9", by(retired.Primary, pgptest.Sig{Version: 3, Created: retiredOn.AddDate(0, -3, 0)}),
		),
		"tidewright/gauge-fw-4.0-after-retirement": small(
			"4.0", by(retired.Primary, pgptest.Sig{Created: retiredOn.AddDate(0, 1, 0)}),
		),
		"tidewright/gauge-fw-3.2-compromised": small(
			"3.2", by(compromised.Primary, pgptest.Sig{Created: compromisedOn.AddDate(0, -6, 0)}),
		),
		"brackwater/buoy-rx-1.7-expired-since":  detached("1.7", field.Primary, fieldBorn.AddDate(2, 0, 0)),
		"brackwater/buoy-rx-2.3-expired-before": detached("2.3", field.Primary, fieldBorn.AddDate(4, 0, 0)),
		"brackwater/buoy-rx-2.3-unbound":        detached("2.3", bench, release),
	}
}
