package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// ErrThroughPool reports a question to the pool from within a transaction. The
// transaction holds one connection and would wait for a second: as many of
// these at once as the pool has connections wait for each other for ever.
// The caller has to ask the [Tx] instead.
var ErrThroughPool = errors.New("the pool was asked from within a transaction")

// within marks the context of a transaction.
type within struct{}

// pooled asks over any connection of the pool, except from within a transaction.
type pooled struct{ *sqlx.DB }

func check(ctx context.Context) error {
	if ctx.Value(within{}) != nil {
		return ErrThroughPool
	}
	return nil
}

func (p pooled) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	if err := check(ctx); err != nil {
		return err
	}
	return p.DB.GetContext(ctx, dest, query, args...)
}

func (p pooled) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	if err := check(ctx); err != nil {
		return err
	}
	return p.DB.SelectContext(ctx, dest, query, args...)
}

func (p pooled) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := check(ctx); err != nil {
		return nil, err
	}
	return p.DB.ExecContext(ctx, query, args...)
}

func (p pooled) BeginTxx(ctx context.Context, opts *sql.TxOptions) (*sqlx.Tx, error) {
	if err := check(ctx); err != nil {
		return nil, err
	}
	return p.DB.BeginTxx(ctx, opts)
}
