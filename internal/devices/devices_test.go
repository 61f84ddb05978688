package devices_test

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/demo/scenario"
	"endeixis/internal/devices"
	"endeixis/internal/fault"
	"endeixis/internal/testkit"
	"endeixis/internal/world"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// asking is a service that can only ask, the kind of the gauges with little patience, and the
// addresses of gauges.
func asking(t *testing.T, gauges ...*world.Gauge) (*devices.Service, *device.Kind, map[string]string) {
	t.Helper()
	set, addresses := testkit.Gauges(t, gauges)
	credentials := map[string]devices.Credential{}
	for name, c := range set.Credentials {
		credentials[name] = devices.Credential(c)
	}
	kinds, err := devices.Kinds(set.Kinds)
	require.NoError(t, err)
	s, err := devices.New(
		nil, nil, nil, devices.Settings{Kinds: set.Kinds, HostKeys: set.HostKeys, Credentials: credentials},
		slog.New(slog.DiscardHandler), testkit.Now,
	)
	require.NoError(t, err)
	kind := *kinds["harbour-gauge"].Kind
	kind.ConnectWithin, kind.AnswerWithin = 5*time.Second, time.Second
	return s, &kind, addresses
}

func details(address string) devices.Details {
	return devices.Details{
		Name: "KG", Kind: "harbour-gauge", Address: address, Credential: scenario.GaugeCredential,
	}
}

// TestAsk asks gauges of many tempers about one slot: what comes is an answer of this slot, or a
// cause, and never both.
func TestAsk(t *testing.T) {
	t.Parallel()
	image := []byte(strings.Repeat("what the slot holds ", 500))
	causes := map[world.Temper]diagnose.Code{
		world.Plain: "", world.Slow: "", world.Coloured: "",
		world.Hanging: diagnose.DeviceSilent, world.Silent: diagnose.DeviceSilent,
		world.Cutting: diagnose.DeviceLineCut, world.OtherKey: diagnose.DeviceKeyChanged,
	}
	var gauges []*world.Gauge
	for temper := range causes {
		g, err := scenario.Gauge(string(temper), temper, image, []byte("the other slot"))
		require.NoError(t, err)
		gauges = append(gauges, g)
	}
	s, kind, addresses := asking(t, gauges...)
	slot := kind.Slot("a")
	require.NotNil(t, slot)
	for temper, cause := range causes {
		t.Run(string(temper), func(t *testing.T) {
			t.Parallel()
			replies, err := s.Ask(
				t.Context(), details(addresses[string(temper)]), kind,
				[]devices.Question{{Slot: slot, Algorithms: []digest.Algorithm{digest.SHA256}}},
			)
			require.NoError(t, err)
			require.Len(t, replies, 1)
			if cause != "" {
				require.NotNil(t, replies[0].Cause)
				assert.Equal(t, cause, replies[0].Cause.Code)
				return
			}
			require.Nil(t, replies[0].Cause)
			answer, trouble := kind.Read(slot, digest.SHA256, replies[0].Said)
			require.Nil(t, trouble)
			assert.Equal(t, digest.SHA256, answer.Algorithm)
			assert.NotEmpty(t, answer.Value)
			assert.Contains(t, replies[0].HostKey, "SHA256:")
		})
	}
}

// TestAskNobody: where nobody answers, where the host was never confirmed and where there is no
// credential, the cause says so; whoever gives up is told their own cause.
func TestAskNobody(t *testing.T) {
	t.Parallel()
	plain, err := scenario.Gauge("plain", world.Plain, []byte("a"), []byte("b"))
	require.NoError(t, err)
	s, kind, addresses := asking(t, plain)
	question := []devices.Question{{Slot: kind.Slot("a"), Algorithms: []digest.Algorithm{digest.SHA256}}}
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed.Close()
	stranger := details(addresses["plain"])
	stranger.Credential = "none"
	for name, d := range map[string]devices.Details{
		"nobody there": details(closed.Addr().String()), "not confirmed": details(testkit.Listen(t, plain)), "no credential": stranger,
	} {
		replies, err := s.Ask(t.Context(), d, kind, question)
		require.NoError(t, err, name)
		require.NotNil(t, replies[0].Cause, name)
		assert.NotEmpty(t, replies[0].Cause.Advice, name)
		assert.Empty(t, replies[0].Said, name)
	}
	given := errors.New("the batch was cancelled")
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(given)
	_, err = s.Ask(ctx, details(addresses["plain"]), kind, question)
	assert.Equal(t, given, err)
}

// TestDetailsAreChecked: what is kept of a device fits its kind, and is another than before.
func TestDetailsAreChecked(t *testing.T) {
	t.Parallel()
	plain, err := scenario.Gauge("plain", world.Plain, []byte("a"), []byte("b"))
	require.NoError(t, err)
	set, addresses := testkit.Gauges(t, []*world.Gauge{plain})
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	credentials := map[string]devices.Credential{}
	for name, c := range set.Credentials {
		credentials[name] = devices.Credential(c)
	}
	s, err := devices.New(
		p.Store, p.Records, p.Publishers,
		devices.Settings{Kinds: set.Kinds, HostKeys: set.HostKeys, Credentials: credentials},
		slog.New(slog.DiscardHandler), testkit.Now,
	)
	require.NoError(t, err)
	good := details(addresses["plain"])
	for code, change := range map[fault.Code]func(*devices.Details){
		fault.BadName:           func(d *devices.Details) { d.Name = "a/b" },
		fault.KindUnknown:       func(d *devices.Details) { d.Kind = "lamp" },
		fault.BadAddress:        func(d *devices.Details) { d.Address = "kg-07" },
		fault.CredentialUnknown: func(d *devices.Details) { d.Credential = "root" },
		fault.PublisherUnknown:  func(d *devices.Details) { d.Publisher = "nobody" },
	} {
		d := good
		change(&d)
		_, err := s.Set(t.Context(), "ines", d)
		assert.True(t, fault.Is(err, code), "%s: %v", code, err)
	}
	kept, err := s.Set(t.Context(), "ines", good)
	require.NoError(t, err)
	assert.Equal(t, good, kept.Details)
	_, err = s.Set(t.Context(), "ines", good)
	assert.True(t, fault.Is(err, fault.DeviceUnchanged))
	other := good
	other.Name = "KG-99"
	_, err = s.Set(t.Context(), "ines", other)
	assert.True(t, fault.Is(err, fault.AddressTaken))
	retired, err := s.Retire(t.Context(), "tobiah", "KG", "sold")
	require.NoError(t, err)
	assert.Equal(t, "sold", retired.Retired)
	_, err = s.Retire(t.Context(), "tobiah", "KG-1", "sold")
	assert.True(t, fault.Is(err, fault.DeviceUnknown))
}

// TestKindsThatCannotBeUsed are named with their files when the service starts.
func TestKindsThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/lamp.yaml", []byte("reach: console\n"), 0o600))
	_, err := devices.New(
		nil, nil, nil, devices.Settings{Kinds: dir}, slog.New(slog.DiscardHandler), testkit.Now,
	)
	assert.ErrorContains(t, err, "lamp.yaml")
}
