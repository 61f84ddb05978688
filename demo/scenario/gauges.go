package scenario

import (
	"bytes"
	"context"
	"os"
	"time"

	"golang.org/x/crypto/ssh/knownhosts"

	"endeixis/internal/client"
	"endeixis/internal/wire"
	"endeixis/internal/world"
)

// The user and the seed of the key with which the gauges let the service in.
const (
	GaugeUser = "verify"
	GaugeSeed = "the key for the harbour's gauges"
	// GaugeCredential is what the configuration calls it.
	GaugeCredential = "gauges"
)

// Gauges returns the harbour's gauges, each with a temper of its own. Slot B of KG-07
// holds a corrupted image.
func Gauges() ([]*world.Gauge, error) {
	_, signer := tidewright()
	older, newer := gauge("4.2", signer)["gauge-fw-4.2-main.img"], gauge("4.3", signer)["gauge-fw-4.3-main.img"]
	corrupted := bytes.Clone(newer)
	corrupted[len(corrupted)/2] ^= 0x04
	var out []*world.Gauge
	for _, g := range []struct {
		name   string
		temper world.Temper
		a, b   []byte
	}{
		{"KG-07", world.Plain, older, corrupted},
		{"KG-08", world.Slow, older, newer},
		{"KG-09", world.OtherCRC, older, newer},
		{"KG-10", world.OtherKey, older, newer},
		{"KG-11", world.Hanging, older, newer},
	} {
		made, err := Gauge(g.name, g.temper, g.a, g.b)
		if err != nil {
			return nil, err
		}
		made.Takes = 300 * time.Millisecond
		out = append(out, made)
	}
	return out, nil
}

// Gauge returns one with a temper and what its slots hold.
func Gauge(name string, temper world.Temper, a, b []byte) (*world.Gauge, error) {
	login, err := world.HostKey(GaugeSeed)
	if err != nil {
		return nil, err
	}
	host, err := world.HostKey(hostSeed(name))
	return &world.Gauge{
		Name: name, Temper: temper, Slots: map[string][]byte{"A": a, "B": b}, Host: host, Client: login.PublicKey(),
		User: GaugeUser,
	}, err
}

func hostSeed(name string) string { return "the host key of " + name }

// WriteGauges writes the gauges for the stand-in of the world.
func WriteGauges(dir string) error {
	gauges, err := Gauges()
	if err != nil {
		return err
	}
	for _, g := range gauges {
		if err := world.WriteGauge(dir, g, hostSeed(g.Name), GaugeSeed); err != nil {
			return err
		}
	}
	return nil
}

// WriteLogin writes what the service needs to be let in by the gauges: the private key, and
// their host keys as they were confirmed, by the addresses at which they are.
func WriteLogin(keyFile, hostKeys string, addresses map[string]string) error {
	private, err := world.PrivateKey(GaugeSeed)
	if err != nil {
		return err
	}
	if err := os.WriteFile(keyFile, private, 0o600); err != nil {
		return err
	}
	var lines bytes.Buffer
	for name, address := range addresses {
		host, err := world.HostKey(hostSeed(name))
		if err != nil {
			return err
		}
		lines.WriteString(knownhosts.Line([]string{address}, host.PublicKey()) + "\n")
	}
	return os.WriteFile(hostKeys, lines.Bytes(), 0o644)
}

// gaugeKinds are the descriptions of the harbour's own kinds, by file name: KG-09 is of an
// old make that knows a CRC only, and KG-11 is given less time.
var gaugeKinds = map[string]string{
	"old-gauge.yaml": `# A gauge of the first make: its console knows a CRC only.
kind: old-gauge
title: Tide gauge of the first make
reach: console
prompt: '^[A-Za-z0-9-]+> ?$'
answer_within: 20s
slots:
  a: {title: slot A, sent: "A"}
  b: {title: slot B, sent: "B"}
ask:
  CRC-32: "sum slot {slot} with crc-32"
answer: '(?m)^slot (?P<slot>\w+), (?P<size>\d+) bytes, [a-z0-9-]+: (?P<digest>[0-9a-f]{8})$'
refusal: '(?m)^cannot: (?P<reason>.+)$'
`,
	"far-gauge.yaml": `# A gauge at the end of a long line, which is asked no longer than it has to be.
kind: far-gauge
title: Tide gauge at the end of a long line
reach: console
prompt: '^[A-Za-z0-9-]+> ?$'
connect_within: 5s
answer_within: 3s
slots:
  a: {title: slot A, sent: "A"}
  b: {title: slot B, sent: "B"}
ask:
  SHA-256: "sum slot {slot} with sha-256"
answer: '(?m)^slot (?P<slot>\w+), (?P<size>\d+) bytes, (?P<algorithm>[a-z0-9-]+): (?P<digest>[0-9a-f]+)$'
refusal: '(?m)^cannot: (?P<reason>.+)$'
`,
}

// WriteGaugeKinds writes the descriptions of the harbour's own kinds.
func WriteGaugeKinds(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, text := range gaugeKinds {
		if err := os.WriteFile(dir+"/"+name, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// KeepGauges adds the gauges, at their addresses, and the panel at the light.
func KeepGauges(ctx context.Context, curator *client.Client, addresses map[string]string) error {
	kinds := map[string]string{"KG-09": "old-gauge", "KG-11": "far-gauge"}
	places := map[string]string{
		"KG-07": "north mole", "KG-08": "slipway", "KG-09": "old quay", "KG-10": "lifeboat station",
		"KG-11": "outer breakwater",
	}
	for name, address := range addresses {
		kind := kinds[name]
		if kind == "" {
			kind = "harbour-gauge"
		}
		if _, err := curator.SetDevice(
			ctx, name,
			wire.DeviceDetails{
				Kind: kind, Address: address, Credential: GaugeCredential, Publisher: "tidewright", Place: places[name],
			},
		); err != nil {
			return err
		}
	}
	_, err := curator.SetDevice(
		ctx, "LP-1", wire.DeviceDetails{Kind: "lamp-panel", Publisher: "lanternfell", Place: "Skerrow Light"},
	)
	return err
}
