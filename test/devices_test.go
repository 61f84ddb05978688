package test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/demo/scenario"
	"endeixis/internal/browser"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
	"endeixis/internal/world"
)

// withGauges starts the service, with gauges beside it that it knows.
func withGauges(t *testing.T, all []*world.Gauge) (*testkit.Service, map[string]string) {
	t.Helper()
	c := testkit.Prepare(t)
	var addresses map[string]string
	c.Devices, addresses = testkit.Gauges(t, all)
	return testkit.StartWith(t, c), addresses
}

// clearedGauge verifies the releases that the gauges run.
func clearedGauge(t *testing.T, s *testkit.Service) (older, newer []byte) {
	t.Helper()
	run := func(folder, file string) []byte {
		operator := s.Client(t, roles.Operator)
		batch, err := operator.RunBatch(
			t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "tidewright/" + folder}, "",
		)
		require.NoError(t, err)
		_, err = operator.Follow(t.Context(), batch.ID, nothing)
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(s.Depot, "tidewright", folder, file))
		require.NoError(t, err)
		return b
	}
	return run("gauge-fw-4.2", "gauge-fw-4.2-main.img"), run("gauge-fw-4.3-partial", "gauge-fw-4.3-main.img")
}

// TestFleet is the harbour's gauges, as the person who looks after them meets them.
func TestFleet(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	clearedGauge(t, s)
	curator := s.Client(t, roles.Curator)
	require.NoError(t, scenario.KeepGauges(t.Context(), curator, addresses))
	endeixis := func(args ...string) ran {
		return endeixisWith(
			t,
			[]string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator)},
			"",
			args...)
	}

	// What is in it, by the releases that were cleared.
	shown := endeixis("device", "show", "KG-08")
	assert.Equal(t, 0, shown.code, shown.err)
	assert.Contains(t, shown.out, "Slot A of KG-08 has the SHA-256 of gauge-fw-4.2-main.img")
	assert.Contains(t, shown.out, "Slot B of KG-08 has the SHA-256 of gauge-fw-4.3-main.img")

	// What a device says is no file that was verified.
	h := digest.SHA256.New()
	h.Write(gauges[0].Slots["A"])
	found := endeixis("reference", "find", fmt.Sprintf("%x", h.Sum(nil)), "-o", "json")
	assert.Equal(t, 0, found.code, found.err)
	assert.Contains(t, found.out, "gauge-fw-4.2-main.img")
	assert.NotContains(t, found.out, "KG-08")

	// Before slot B is activated.
	against := "quayside:tidewright/gauge-fw-4.3-partial/gauge-fw-4.3-main.img"
	refused := endeixis("device", "check", "KG-07", "--slot", "b", "--against", against)
	assert.Equal(t, 10, refused.code, refused.err)
	assert.Contains(t, refused.out, "Do not activate this slot")

	all := endeixis("device", "check", "--all", "--output", "json")
	assert.Equal(t, 11, all.code, all.err)
	var checked []struct {
		wire.Batch
		Slots []wire.Item `json:"slots"`
	}
	require.NoError(t, json.Unmarshal([]byte(all.out), &checked))
	slots := map[string]string{}
	for _, b := range checked {
		for _, item := range b.Slots {
			word := string(*item.Verdict)
			if f := item.Device.Cause; f != nil {
				word += " " + string(f.Code)
			}
			for _, g := range item.Grounds {
				for _, f := range g.Causes {
					word += " " + string(f.Code)
				}
			}
			slots[b.Source.Reference+" "+item.Device.Slot] = word
		}
	}
	assert.Equal(t, map[string]string{
		"KG-07 a": "cleared", "KG-07 b": "unproven", // nothing that was cleared has these bytes
		"KG-08 a": "cleared", "KG-08 b": "cleared",
		"KG-09 a": "unproven wrong-algorithm", "KG-09 b": "unproven wrong-algorithm",
		"KG-10 a": "unproven device-key-changed", "KG-10 b": "unproven device-key-changed",
		"KG-11 a": "unproven device-silent", "KG-11 b": "unproven device-silent",
	}, slots)

	list := endeixis("device", "list")
	assert.Contains(t, list.out, "no answer: key changed")
	history, err := curator.Device(t.Context(), "KG-07")
	require.NoError(t, err)
	assert.Len(t, history.History, 3)
	assert.Equal(t, judge.Unproven, history.Slots[1].Checked.Verdict)

	// Every answer is on record, and the audit finds each device as it was set.
	audit := endeixis("record", "audit")
	assert.Equal(t, 0, audit.code, audit.out+audit.err)

	// What a slot holds counts as the release counts: with its key falls the slot.
	ring, err := curator.Keys(t.Context(), client.KeyFilter{Publisher: "tidewright", State: keyring.Admitted})
	require.NoError(t, err)
	for _, key := range ring {
		_, err := curator.WithdrawKey(t.Context(), key.Fingerprint, "lost")
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool {
		d, err := curator.Device(t.Context(), "KG-08")
		return err == nil && d.Slots[0].Checked.Now != nil && *d.Slots[0].Checked.Now != judge.Cleared
	}, 30*time.Second, 200*time.Millisecond)
}

// TestDeviceTempers: each way in which a device can go wrong is a finding of its own, and
// none clears anything.
func TestDeviceTempers(t *testing.T) {
	t.Parallel()
	image := []byte(strings.Repeat("what the slot holds ", 5000))
	tempers := map[world.Temper]diagnose.Code{
		world.Plain:     "",
		world.Slow:      "",
		world.Coloured:  "",
		world.Hanging:   diagnose.DeviceSilent,
		world.Silent:    diagnose.DeviceSilent,
		world.Rubbish:   diagnose.DeviceUnclear,
		world.Cutting:   diagnose.DeviceLineCut,
		world.OtherSlot: diagnose.DeviceOtherSlot,
		world.Endless:   diagnose.DeviceUnclear,
		world.Echoing:   diagnose.DeviceUnclear,
		world.Refusing:  diagnose.DeviceRefused,
		world.Several:   diagnose.DeviceUnclear,
		world.OtherKey:  diagnose.DeviceKeyChanged,
	}
	var gauges []*world.Gauge
	for temper := range tempers {
		g, err := scenario.Gauge(string(temper), temper, image, []byte("the other slot"))
		require.NoError(t, err)
		gauges = append(gauges, g)
	}
	stranger, err := scenario.Gauge("stranger", world.Plain, image, nil)
	require.NoError(t, err)
	stranger.User = "somebody-else"
	s, addresses := withGauges(t, append(gauges, stranger))
	s.Write(t, "pumps", map[string][]byte{"image.bin": image})
	curator := s.Client(t, roles.Curator)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	known, err := os.ReadFile(s.Config.Devices.HostKeys)
	require.NoError(t, err)
	gone := closed.Addr().String()
	closed.Close()
	// It was confirmed, and is not there any more.
	line := strings.Fields(strings.Split(string(known), "\n")[0])
	line[0] = "[127.0.0.1]:" + strings.TrimPrefix(gone, "127.0.0.1:")
	require.NoError(t, os.WriteFile(s.Config.Devices.HostKeys, append(known, strings.Join(line, " ")+"\n"...), 0o644))
	unconfirmed := testkit.Listen(t, gauges[0])
	for name, address := range addresses {
		_, err := curator.SetDevice(
			t.Context(), name,
			wire.DeviceDetails{Kind: "far-gauge", Address: address, Credential: scenario.GaugeCredential},
		)
		require.NoError(t, err)
	}
	for name, address := range map[string]string{"gone": gone, "unconfirmed": unconfirmed} {
		_, err := curator.SetDevice(
			t.Context(), name,
			wire.DeviceDetails{Kind: "far-gauge", Address: address, Credential: scenario.GaugeCredential},
		)
		require.NoError(t, err)
	}
	want := map[string]diagnose.Code{
		"stranger": diagnose.DeviceLogin, "gone": diagnose.DeviceUnreached,
		"unconfirmed": diagnose.DeviceKeyUnconfirmed,
	}
	for temper, code := range tempers {
		want[string(temper)] = code
	}

	value := digest.SHA256.New()
	value.Write(image)
	operator := s.Client(t, roles.Operator)
	batches, err := operator.CheckDevices(
		t.Context(),
		wire.NewDeviceCheck{
			All: true, Slots: []string{"a"},
			Against: &wire.NewAgainst{Digest: fmt.Sprintf("%x", value.Sum(nil)), Length: int64(len(image))},
		},
		"once",
	)
	require.NoError(t, err)
	require.Len(t, batches, len(want))
	again, err := operator.CheckDevices(t.Context(), wire.NewDeviceCheck{All: true, Slots: []string{"a"}}, "once")
	require.NoError(t, err)
	assert.Equal(t, batches[0].ID, again[0].ID, "nobody is asked twice")
	for _, b := range batches {
		b, err := operator.Follow(t.Context(), b.ID, nothing)
		require.NoError(t, err)
		items, err := operator.Items(t.Context(), b.ID)
		require.NoError(t, err)
		require.Len(t, items, 1, b.Note)
		name := b.Source.Reference
		code := diagnose.Code("")
		if f := items[0].Device.Cause; f != nil {
			code = f.Code
			assert.NotEmpty(t, f.Advice)
		}
		assert.Equal(t, want[name], code, "%s: %s", name, items[0].Deciding)
		assert.Equal(t, judge.Unproven, *items[0].Verdict, name)
		assert.NotContains(t, items[0].Device.Said, "\x1b")
		assert.LessOrEqual(t, len(items[0].Device.Said), 10_000)
		if code == "" {
			assert.Contains(t, items[0].Deciding, "anybody could have given it")
		}
	}
}

// TestLateAnswers: slot A holds a release that is cleared and slot B other bytes. Whatever a
// device says between, and however late, no slot is given the answer of another.
func TestLateAnswers(t *testing.T) {
	t.Parallel()
	known, err := scenario.Gauges()
	require.NoError(t, err)
	image := known[0].Slots["A"]
	var gauges []*world.Gauge
	for _, temper := range []world.Temper{
		world.Late, world.Nameless, world.Chatting, world.Plain, world.Paging,
		world.Old,
	} {
		g, err := scenario.Gauge(string(temper), temper, image, []byte("other bytes"))
		require.NoError(t, err)
		gauges = append(gauges, g)
	}
	c := testkit.Prepare(t)
	var addresses map[string]string
	c.Devices, addresses = testkit.Gauges(t, gauges)
	require.NoError(t, os.WriteFile(filepath.Join(c.Devices.Kinds, "nameless.yaml"), []byte(`kind: nameless
title: A gauge that names no slot
reach: console
prompt: '^[A-Za-z0-9-]+> ?$'
slots:
  a: {sent: A}
  b: {sent: B}
ask:
  SHA-256: "sum slot {slot} with sha-256"
answer: '(?m)(?P<size>\d+) bytes, (?P<algorithm>[a-z0-9-]+): (?P<digest>[0-9a-f]+)'
`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(c.Devices.Kinds, "paging.yaml"), []byte(`kind: paging
title: A gauge that stops for a key
reach: console
prompt: '^[A-Za-z0-9-]+> ?$'
before: [unlock]
pager: '--More--$'
slots:
  a: {sent: A}
  b: {sent: B}
ask:
  SHA-256: "sum slot {slot} with sha-256"
answer: '(?m)^ *slot (?P<slot>\w+), (?P<size>\d+) bytes, (?P<algorithm>[a-z0-9-]+): (?P<digest>[0-9a-f]+)'
refusal: '(?m)^cannot: (?P<reason>.+)$'
`), 0o600))
	s := testkit.StartWith(t, c)
	clearedGauge(t, s)
	curator, operator := s.Client(t, roles.Curator), s.Client(t, roles.Operator)
	kinds := map[string]string{
		"late": "harbour-gauge", "nameless": "nameless", "chatting": "harbour-gauge", "plain": "nameless",
		"paging": "paging", "old": "harbour-gauge",
	}
	got := map[string]string{}
	for name, kind := range kinds {
		_, err := curator.SetDevice(
			t.Context(), name,
			wire.DeviceDetails{Kind: kind, Address: addresses[name], Credential: scenario.GaugeCredential},
		)
		require.NoError(t, err)
		batches, err := operator.CheckDevices(
			t.Context(),
			wire.NewDeviceCheck{
				Device:  name,
				Against: &wire.NewAgainst{Depot: scenario.Depot, Path: "tidewright/gauge-fw-4.2/gauge-fw-4.2-main.img"},
			},
			"",
		)
		require.NoError(t, err)
		_, err = operator.Follow(t.Context(), batches[0].ID, nothing)
		require.NoError(t, err)
		items, err := operator.Items(t.Context(), batches[0].ID)
		require.NoError(t, err)
		for _, item := range items {
			word := string(*item.Verdict)
			if f := item.Device.Cause; f != nil {
				word += " " + string(f.Code)
				if strings.Contains(f.Sentence, "It was not asked") {
					word += ", not asked"
				}
			}
			got[name+" "+item.Device.Slot] = word
		}
	}
	assert.Equal(t, map[string]string{
		"late a": "unproven device-unclear", "late b": "unproven device-unclear, not asked",
		"nameless a": "unproven device-unclear", "nameless b": "unproven device-unclear",
		"chatting a": "cleared", "chatting b": "refused",
		"plain a": "cleared", "plain b": "refused", // each on a connection of its own
		"paging a": "cleared", "paging b": "refused",
		"old a": "cleared", "old b": "refused", // by MD5, as SHA-256 is refused
	}, got)
}

// TestDeviceLimits: what a credential allows, and what may not be asked.
func TestDeviceLimits(t *testing.T) {
	t.Parallel()
	g, err := scenario.Gauge("KG-20", world.Plain, []byte("one"), []byte("two"))
	require.NoError(t, err)
	s, addresses := withGauges(t, []*world.Gauge{g})
	curator, operator := s.Client(t, roles.Curator), s.Client(t, roles.Operator)
	details := wire.DeviceDetails{
		Kind: "harbour-gauge", Address: addresses["KG-20"], Credential: scenario.GaugeCredential,
	}
	_, err = operator.SetDevice(t.Context(), "KG-20", details)
	assert.ErrorContains(t, err, "curator")
	for name, c := range map[string]struct {
		name   string
		change func(*wire.DeviceDetails)
		says   string
	}{
		"a kind of no name":       {"KG-20", func(d *wire.DeviceDetails) { d.Kind = "none" }, "No kind of device"},
		"a credential of no name": {"KG-20", func(d *wire.DeviceDetails) { d.Credential = "root" }, "no credential"},
		"an address of no port":   {"KG-20", func(d *wire.DeviceDetails) { d.Address = "192.0.2.1" }, "no address"},
		"an address with a line":  {"KG-20", func(d *wire.DeviceDetails) { d.Address = "192.0.2.1:22\n" }, "no address"},
		"a port of no number":     {"KG-20", func(d *wire.DeviceDetails) { d.Address = "192.0.2.1:ssh" }, "no address"},
		"a name of two lines":     {"KG 20", func(*wire.DeviceDetails) {}, "letters, digits"},
		"a publisher of no name":  {"KG-20", func(d *wire.DeviceDetails) { d.Publisher = "nobody" }, "no publisher"},
		"a panel with an address": {"KG-20", func(d *wire.DeviceDetails) { d.Kind = "lamp-panel" }, "Only a person"},
	} {
		d := details
		c.change(&d)
		_, err := curator.SetDevice(t.Context(), c.name, d)
		assert.ErrorContains(t, err, c.says, name)
	}
	_, err = curator.SetDevice(t.Context(), "KG-20", details)
	require.NoError(t, err)
	_, err = curator.SetDevice(t.Context(), "KG-20", details)
	assert.ErrorContains(t, err, "already")
	_, err = curator.SetDevice(t.Context(), "KG-21", details)
	assert.ErrorContains(t, err, "KG-20 has the address", "two devices behind one address")

	check := func() *diagnose.Cause {
		t.Helper()
		batches, err := operator.CheckDevices(
			t.Context(), wire.NewDeviceCheck{Device: "KG-20", Slots: []string{"a"}}, "",
		)
		require.NoError(t, err)
		_, err = operator.Follow(t.Context(), batches[0].ID, nothing)
		require.NoError(t, err)
		items, err := operator.Items(t.Context(), batches[0].ID)
		require.NoError(t, err)
		return items[0].Device.Cause
	}
	assert.Nil(t, check())
	key := s.Config.Devices.Credentials[scenario.GaugeCredential].KeyFile
	require.NoError(t, os.Chmod(key, 0o640))
	f := check()
	require.NotNil(t, f)
	assert.Equal(t, diagnose.DeviceLogin, f.Code)
	assert.Contains(t, f.Sentence, "can be read by others")
	assert.NotContains(t, f.Sentence+f.Advice, key, "where secrets are is nobody's business")
	require.NoError(t, os.Chmod(key, 0o600))
	require.NoError(t, os.WriteFile(key, []byte("no key"), 0o600))
	assert.Contains(t, check().Sentence, "no private key")

	for _, c := range []struct {
		check wire.NewDeviceCheck
		says  string
	}{
		{wire.NewDeviceCheck{}, "which device"},
		{wire.NewDeviceCheck{Device: "KG-20", All: true}, "which device"},
		{wire.NewDeviceCheck{Device: "KG-99"}, "no device"},
		{wire.NewDeviceCheck{Device: "KG-20", Slots: []string{"c"}}, "no slot"},
		{wire.NewDeviceCheck{Device: "KG-20", Printed: "x"}, "which slot"},
		{wire.NewDeviceCheck{Device: "KG-20", Against: &wire.NewAgainst{Depot: "quayside", Path: "none.img"}}, "was not verified yet"},
	} {
		_, err := operator.CheckDevices(t.Context(), c.check, "")
		assert.ErrorContains(t, err, c.says)
	}
	_, err = curator.RetireDevice(t.Context(), "KG-20", "taken down")
	require.NoError(t, err)
	_, err = operator.CheckDevices(t.Context(), wire.NewDeviceCheck{Device: "KG-20"}, "")
	assert.ErrorContains(t, err, "taken down")
	_, err = operator.CheckDevices(t.Context(), wire.NewDeviceCheck{All: true}, "")
	assert.ErrorContains(t, err, "no device that could be asked")

	// An image whose bytes were only ever here cannot be hashed anew; a batch of a device
	// cannot be drilled.
	_, err = operator.Drill(t.Context(), 1, nil)
	assert.ErrorContains(t, err, "no bytes")
}

// TestDeviceCopied: the panel that only a person reaches gives a digest of the whole slot,
// with what fills it.
func TestDeviceCopied(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	older, _ := clearedGauge(t, s)
	boot, err := os.ReadFile(filepath.Join(s.Depot, "tidewright/gauge-fw-4.2/gauge-fw-4.2-boot.img"))
	require.NoError(t, err)
	require.Less(t, len(boot), 1<<20)
	curator := s.Client(t, roles.Curator)
	_, err = curator.SetDevice(
		t.Context(), "LP-9", wire.DeviceDetails{Kind: "lamp-panel", Publisher: "tidewright", Place: "Skerrow Light"},
	)
	require.NoError(t, err)
	endeixis := func(stdin string, args ...string) ran {
		return endeixisWith(
			t,
			[]string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator)},
			stdin,
			args...)
	}
	filled := append([]byte(strings.Clone(string(boot))), []byte(strings.Repeat("\xff", 1<<20-len(boot)))...)
	of := func(a digest.Algorithm, content []byte) string {
		h := a.New()
		h.Write(content)
		return fmt.Sprintf("%X", h.Sum(nil))
	}
	against := "quayside:tidewright/gauge-fw-4.2/gauge-fw-4.2-boot.img"
	cleared := endeixis(
		"Menu 7\nFLASH SUM: "+of(digest.MD5, filled)+"\n", "device", "check", "LP-9", "--printed", "-", "--against",
		against,
	)
	assert.Equal(t, 0, cleared.code, cleared.out+cleared.err)
	assert.Contains(t, cleared.out, "has the MD5 of gauge-fw-4.2-boot.img")
	named := endeixis("Menu 7\nFLASH SUM: "+of(digest.MD5, filled)+"\n", "device", "check", "LP-9", "--printed", "-")
	assert.Equal(t, 0, named.code, named.out+named.err)
	assert.Contains(t, named.out, "gauge-fw-4.2-boot.img")

	weak := endeixis(of(digest.CRC32, filled), "device", "check", "LP-9", "--printed", "-", "--against", against)
	assert.Equal(t, 11, weak.code, weak.out+weak.err)
	assert.Contains(t, weak.out, "damage would show")
	bare := endeixis(of(digest.MD5, boot), "device", "check", "LP-9", "--printed", "-", "--against", against)
	assert.Equal(t, 0, bare.code, "the digest of the image alone says that it is in the slot")
	assert.Contains(t, words(bare), "over the image alone, and not over the whole slot")
	zeros := append([]byte(strings.Clone(string(boot))), make([]byte, 1<<20-len(boot))...)
	other := endeixis(
		"flash sum "+of(digest.MD5, zeros), "device", "check", "LP-9", "--printed", "-", "--against", against,
	)
	assert.Equal(t, 0, other.code, other.out)
	assert.Contains(t, words(other), "Behind the image the slot has 00")
	short := endeixis(
		of(digest.MD5, filled[:len(filled)-1]), "device", "check", "LP-9", "--printed", "-", "--against", against,
	)
	assert.Equal(t, 10, short.code, short.out)
	two := endeixis(
		"MD5: "+of(digest.MD5, filled)+"\nCRC-32: "+of(digest.CRC32, filled)+"\n", "device", "check", "LP-9",
		"--printed", "-", "--against", against,
	)
	assert.Equal(t, 0, two.code, two.out)
	lines := endeixis(
		"MD5 of the flash:\n  "+of(digest.MD5, filled)[:16]+"\n  "+of(digest.MD5, filled)[16:]+"\n", "device", "check",
		"LP-9", "--printed", "-", "--against", against,
	)
	assert.Equal(t, 0, lines.code, lines.out)
	large := endeixis(
		of(digest.MD5, older), "device", "check", "LP-9", "--printed", "-", "--against",
		"quayside:tidewright/gauge-fw-4.2/gauge-fw-4.2-main.img",
	)
	assert.Equal(t, 10, large.code, "an image that does not fit is not in the slot")
	result := endeixis(
		of(digest.MD5, filled)+"\n"+of(digest.MD5, boot), "device", "check", "LP-9", "--printed", "-", "--against",
		against,
	)
	assert.Equal(t, 11, result.code)
	assert.Contains(t, result.out, "2 different values")
	neighbour := endeixis(
		"MD5 "+of(digest.MD5, filled)+"\nSHA-512 "+of(digest.SHA512, filled), "device", "check", "LP-9", "--printed",
		"-", "--against", against,
	)
	assert.Equal(t, 11, neighbour.code)
	assert.Contains(t, neighbour.out, "does not give")
	nothing := endeixis("Menu 7\nFLASH OK\n", "device", "check", "LP-9", "--printed", "-", "--against", against)
	assert.Equal(t, 1, nothing.code, nothing.out+nothing.err)
	assert.Contains(t, nothing.err, "there is no value")
	half := endeixis(
		"FLASH SUM: "+of(digest.MD5, filled)[:30]+"\n", "device", "check", "LP-9", "--printed", "-", "--against",
		against,
	)
	assert.Equal(t, 1, half.code, half.out+half.err)
	assert.Contains(t, half.err, "it has 30 digits")

	// The file has changed since: its digest by another algorithm cannot be known any more.
	require.NoError(
		t, os.WriteFile(filepath.Join(s.Depot, "tidewright/gauge-fw-4.2/gauge-fw-4.2-main.img"), older[:100], 0o644),
	)
	_, err = curator.SetDevice(t.Context(), "LP-8", wire.DeviceDetails{Kind: "lamp-panel", Publisher: "tidewright"})
	require.NoError(t, err)
	pol := endeixis("x", "device", "show", "LP-8")
	assert.Contains(t, pol.out, "never asked")
}

// TestConsoleDevices does in the browser what the person does who looks after the gauges.
func TestConsoleDevices(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	clearedGauge(t, s)
	b := open(t, s)
	b.signIn(roles.Curator)
	b.visit("/devices", "No device is known yet")
	b.press("Add a device")
	b.fill("Name", "KG-07")
	b.choose("Kind", "harbour-gauge")
	b.fill("Address", addresses["KG-07"])
	b.choose("Let in by", scenario.GaugeCredential)
	b.choose("Runs releases of", "tidewright")
	b.fill("Place", "north mole")
	b.accessible("device form")
	b.press("Keep it")
	b.sees("never asked")
	delete(addresses, "KG-07")
	require.NoError(t, scenario.KeepGauges(t.Context(), s.Client(t, roles.Curator), addresses))
	b.visit("/devices", "outer breakwater")
	b.press("Ask all devices")
	b.sees("All 5 have answered")
	b.sees("another host key")
	b.sees("It said nothing within")
	b.accessible("devices")
	b.press("KG-07")
	b.sees("Check before it is activated")
	b.choose("Slot", "b")
	b.fill("Held against", "quayside:tidewright/gauge-fw-4.3-partial/gauge-fw-4.3-main.img")
	b.press("Ask the device")
	b.sees("not gauge-fw-4.3-main.img")
	b.accessible("device")
	b.do(browser.Press(`//table//a[text()="8"]`))
	b.sees("Do not activate this slot")
	b.sees("What the device said")
	b.accessible("slot")

	// A kind is described, tried, and kept.
	b.visit("/devices", "outer breakwater")
	b.press("Describe a kind")
	panel := strings.Replace(
		endeixis(t, s, "operator", "device", "kinds", "lamp-panel").out, "kind: lamp-panel", "kind: mole-panel", 1,
	)
	b.fill("Description", panel)
	b.fill("What such a device has said", "nothing of use")
	b.press("Try it")
	b.sees("stands in what was copied")
	b.fill("What such a device has said", "\nFlash sum: 0123 4567")
	b.gone("stands in what was copied")
	b.press("Try it")
	b.sees("It is read: CRC-32")
	b.accessible("kind form")
	b.press("Keep the kind")
	b.sees("mole-panel, described by tobiah")
	b.press("Retire…")
	b.fill("Why", "it was a trial")
	b.press("Retire the kind")
	b.gone("mole-panel")

	// Where only a person can come.
	b.visit("/devices/LP-1", "Copied from its console")
	b.fill("Copied from its console", "FLASH SUM: 00112233 44556677 8899AABB CCDDEEFF")
	b.press("Check it")
	b.sees("no release that is known")
	b.press("Change")
	b.fill("Ask it no more, because", "the lamp is LED now")
	b.press("Retire it")
	b.sees("Retired: the lamp is LED now")
}
