package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// workerLocks is the class of the advisory locks that living workers hold.
const workerLocks = 7474002

// A WorkerLock is held by a worker while it lives.
type WorkerLock struct {
	conn *pgx.Conn
}

// HoldWorker registers a worker and takes its lock, which PostgreSQL lets go
// of when the worker's connection ends, however that happens.
func (s *Store) HoldWorker(ctx context.Context, id string) (*WorkerLock, error) {
	pooled, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, explain(err)
	}
	conn := pooled.Hijack()
	if _, err := conn.Exec(ctx, `WITH mine AS (
			INSERT INTO workers (id, started_at) VALUES ($1, $2) ON CONFLICT (id) DO UPDATE
			SET started_at = excluded.started_at RETURNING lock_key)
		SELECT pg_advisory_lock($3, lock_key::int) FROM mine`, id, time.Now().UTC(), workerLocks); err != nil {
		conn.Close(ctx)
		return nil, explain(err)
	}
	return &WorkerLock{conn}, nil
}

// Alive reports whether the lock is still held.
func (l *WorkerLock) Alive(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	return l.conn.Ping(ctx) == nil
}

// Release lets go of the lock.
func (l *WorkerLock) Release(ctx context.Context) { l.conn.Close(ctx) }

// RescueJobs makes the jobs of dead workers available again, and returns how
// many there were. A worker is dead when nobody holds its lock.
func (s *Store) RescueJobs(ctx context.Context) (int, error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now()
		WHERE state = 'running' AND NOT EXISTS (
			SELECT FROM workers w JOIN pg_locks l ON l.locktype = 'advisory' AND l.classid = $1
			AND l.objid = w.lock_key AND l.granted
				AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
			WHERE w.id = river_job.attempted_by[array_upper(river_job.attempted_by, 1)])`, workerLocks)
	if err != nil {
		return 0, explain(err)
	}
	return int(tag.RowsAffected()), nil
}

// DueNow makes new jobs due at once by the database's clock. The queue takes the
// time of the host that inserts them, and a database whose clock is behind would
// wait for it.
func (t *Tx) DueNow(ctx context.Context, jobs []int64) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE river_job SET scheduled_at = now() WHERE id = ANY($1) AND scheduled_at > now()`, jobs,
	)
	return err
}
