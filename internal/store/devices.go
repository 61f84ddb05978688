package store

import (
	"context"
	"time"
)

// A Device is equipment that hashes what it holds.
type Device struct {
	Name       string    `db:"name"`
	Kind       string    `db:"kind"`
	Address    string    `db:"address"`
	Credential string    `db:"credential"`
	Publisher  string    `db:"publisher"`
	Place      string    `db:"place"`
	Retired    string    `db:"retired"`
	By         string    `db:"by_name"`
	At         time.Time `db:"at"`
	// Position is that of the record of its last change.
	Position int64 `db:"position"`
}

const selectDevices = `SELECT name, kind, address, credential, publisher, place, retired, by_name, at, position
	FROM devices `

// Devices lists all devices by name.
func (s Reads) Devices(ctx context.Context) ([]Device, error) {
	out := []Device{}
	err := s.q.SelectContext(ctx, &out, selectDevices+`ORDER BY name`)
	return out, explain(err)
}

// Device finds a device, or returns [ErrNotFound].
func (s Reads) Device(ctx context.Context, name string) (Device, error) {
	var d Device
	err := s.q.GetContext(ctx, &d, selectDevices+`WHERE name = $1`, name)
	return d, explain(err)
}

// LockDevice returns a device and keeps others from changing it until the transaction
// ends, or returns [ErrNotFound].
func (t *Tx) LockDevice(ctx context.Context, name string) (Device, error) {
	var d Device
	err := t.tx.GetContext(ctx, &d, selectDevices+`WHERE name = $1 FOR UPDATE`, name)
	return d, explain(err)
}

// SetDevice adds a device or changes what is known of it.
func (t *Tx) SetDevice(ctx context.Context, d Device) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`INSERT INTO devices (name, kind, address, credential, publisher, place, retired, by_name, at, position)
		VALUES (:name, :kind, :address, :credential, :publisher, :place, :retired, :by_name, :at, :position)
		ON CONFLICT (name) DO UPDATE SET kind = excluded.kind, address = excluded.address,
		credential = excluded.credential, publisher = excluded.publisher,
			place = excluded.place, retired = excluded.retired, by_name = excluded.by_name, at = excluded.at,
				position = excluded.position`,
		d,
	)
	return explain(err)
}

// AddDeviceCheck stores what a batch asks a device.
func (t *Tx) AddDeviceCheck(ctx context.Context, batch int64, asked []byte) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO device_checks (batch_id, asked) VALUES ($1, $2)`, batch, asked)
	return explain(err)
}

// DeviceCheck returns what a batch asks a device, or [ErrNotFound].
func (s Reads) DeviceCheck(ctx context.Context, batch int64) ([]byte, error) {
	var asked []byte
	err := s.q.GetContext(ctx, &asked, `SELECT asked FROM device_checks WHERE batch_id = $1`, batch)
	return asked, explain(err)
}

// A SlotSeen is what a slot of a device was found to hold at some time.
type SlotSeen struct {
	Device   string    `db:"device"`
	Batch    int64     `db:"batch_id"`
	N        int       `db:"n"`
	Path     string    `db:"path"`
	At       time.Time `db:"at"`
	By       string    `db:"asked_by"`
	Position int64     `db:"position"`
	Evidence Evidence  `db:"-"`
	Verdict  string    `db:"verdict"`
	// Now is the verdict that the newest reassessment made of it, or nil.
	Now *string `db:"now"`
}

// SlotsSeen lists what the slots of a device, or of all where the name is empty, were
// found to hold, the newest first; of each device those of the last checks.
func (s Reads) SlotsSeen(ctx context.Context, device string, checks int) ([]SlotSeen, error) {
	out := []SlotSeen{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT d.name AS device, b.id AS batch_id, i.n, i.path, b.created_at AS at, b.asked_by, o.position, o.verdict,
			`+newest("after", "i")+` AS now
		FROM devices d
		CROSS JOIN LATERAL (SELECT * FROM batches WHERE source_kind = 'device' AND source = d.name ORDER BY id DESC
		LIMIT $2) b
		JOIN items i ON i.batch_id = b.id `+withOutcome+`
		WHERE ($1 = '' OR d.name = $1) AND o.verdict IS NOT NULL ORDER BY d.name, b.id DESC, i.n`,
		device,
		checks,
	)
	if err != nil {
		return nil, explain(err)
	}
	return out, told(ctx, s, out, func(r *SlotSeen) about { return about{r.Batch, r.Path, &r.Position, &r.Evidence} })
}

// A Candidate is a file that was cleared and may be what a slot holds.
type Candidate struct {
	Batch int64 `db:"batch_id"`
	N     int   `db:"n"`
	Size  int64 `db:"size"`
}

// CandidatesFor lists the newest files of a publisher that were cleared in depots, of a
// size or, where that is 0, of at most so many bytes.
func (s Reads) CandidatesFor(
	ctx context.Context, publisher string, size, atMost int64, limit int,
) ([]Candidate, error) {
	out := []Candidate{}
	err := s.q.SelectContext(ctx, &out, `SELECT DISTINCT ON (b.id, i.n) i.batch_id, i.n, i.size
		FROM (SELECT id FROM batches WHERE source_kind = 'depot' AND expected -> 'publishers' ? $1 AND state = 'done'
		AND total_cleared > 0 ORDER BY id DESC LIMIT 100) b
		JOIN items i ON i.batch_id = b.id `+withOutcome+`
		WHERE o.verdict = 'cleared' AND i.role = 'artifact' AND CASE WHEN $2 > 0 THEN i.size = $2 ELSE i.size <= $3 END
		ORDER BY b.id DESC, i.n LIMIT $4`, publisher, size, atMost, limit)
	return out, explain(err)
}

// A DeviceKind is a kind of device that a curator has described.
type DeviceKind struct {
	Name    string `db:"name"`
	Content string `db:"content"`
	// Retired says why it is not used any more, or is empty.
	Retired  string    `db:"retired"`
	By       string    `db:"by_name"`
	At       time.Time `db:"at"`
	Position int64     `db:"position"`
}

const selectDeviceKinds = `SELECT name, content, retired, by_name, at, position FROM device_kinds `

// DeviceKinds lists the kinds that curators have described, by name.
func (s Reads) DeviceKinds(ctx context.Context) ([]DeviceKind, error) {
	out := []DeviceKind{}
	err := s.q.SelectContext(ctx, &out, selectDeviceKinds+`ORDER BY name`)
	return out, explain(err)
}

// DeviceKind finds a kind, or returns [ErrNotFound].
func (s Reads) DeviceKind(ctx context.Context, name string) (DeviceKind, error) {
	var k DeviceKind
	err := s.q.GetContext(ctx, &k, selectDeviceKinds+`WHERE name = $1`, name)
	return k, explain(err)
}

// LockDeviceKind returns a kind and keeps others from changing it until the transaction ends,
// or returns [ErrNotFound].
func (t *Tx) LockDeviceKind(ctx context.Context, name string) (DeviceKind, error) {
	var k DeviceKind
	err := t.tx.GetContext(ctx, &k, selectDeviceKinds+`WHERE name = $1 FOR UPDATE`, name)
	return k, explain(err)
}

// SetDeviceKind adds a kind or changes it.
func (t *Tx) SetDeviceKind(ctx context.Context, k DeviceKind) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`INSERT INTO device_kinds (name, content, retired, by_name, at, position)
			VALUES (:name, :content, :retired, :by_name, :at, :position)
		ON CONFLICT (name) DO UPDATE SET content = excluded.content, retired = excluded.retired,
			by_name = excluded.by_name, at = excluded.at, position = excluded.position`,
		k,
	)
	return explain(err)
}
