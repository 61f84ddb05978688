package main

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"endeixis/demo/scenario"
	"endeixis/internal/config"
	"endeixis/internal/wire"
	"endeixis/internal/world"
)

// fleet asks 200 gauges, each of which takes a second for its two slots, twenty at a time.
// The slowest share is what one of the twenty places has to do at least: ten gauges, one
// after the other.
func fleet(dir string) ([]row, error) {
	const gauges, atOnce, takes = 200, 20, 500 * time.Millisecond
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	addresses := map[string]string{}
	for i := range gauges {
		g, err := scenario.Gauge(fmt.Sprintf("G-%03d", i), world.Plain, []byte("image a"), []byte("image b"))
		if err != nil {
			return nil, err
		}
		g.Takes = takes
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		go g.Serve(ctx, listener)
		addresses[g.Name] = listener.Addr().String()
	}
	key, hosts := filepath.Join(dir, "gauges.key"), filepath.Join(dir, "host_keys")
	if err := scenario.WriteLogin(key, hosts, addresses); err != nil {
		return nil, err
	}
	s, err := start(ctx, dir, "fleet.key", func(c *config.Config) {
		c.Devices = config.Devices{
			HostKeys: hosts, AtOnce: atOnce,
			Credentials: map[string]config.Credential{"gauges": {User: scenario.GaugeUser, KeyFile: key}},
		}
	})
	if err != nil {
		return nil, err
	}
	defer s.stop()
	for name, address := range addresses {
		if _, err := s.client.SetDevice(
			ctx, name, wire.DeviceDetails{Kind: "harbour-gauge", Address: address, Credential: "gauges"},
		); err != nil {
			return nil, err
		}
	}
	begun := time.Now()
	batches, err := s.client.CheckDevices(ctx, wire.NewDeviceCheck{All: true}, "")
	if err != nil {
		return nil, err
	}
	for _, b := range batches {
		b, err := s.client.Follow(ctx, b.ID, func(wire.Batch) {})
		if err != nil {
			return nil, err
		}
		if b.Counts.Unproven != 2 {
			return nil, fmt.Errorf("%s: %d slots answered; %s", b.Source.Reference, b.Counts.Unproven, b.Note)
		}
	}
	return []row{
		cost(
			fmt.Sprintf("a fleet of %d devices, %d at a time", gauges, atOnce),
			"the slowest share: ten devices, a second each", 1.2, time.Since(begun), gauges/atOnce*2*takes,
		),
	}, nil
}
