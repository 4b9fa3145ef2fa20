package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// refusals remembers when the database last had no room for something: a full
// disk is seen by those who write, and not by a look from outside.
type refusals struct {
	mu   sync.Mutex
	at   time.Time
	what string
}

// recent is for how long a refusal counts.
const recent = 30 * time.Second

// TraceQueryStart is a part of pgx.QueryTracer.
func (r *refusals) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return ctx
}

// TraceQueryEnd is a part of pgx.QueryTracer.
func (r *refusals) TraceQueryEnd(_ context.Context, _ *pgx.Conn, data pgx.TraceQueryEndData) {
	var pg *pgconn.PgError
	if !errors.As(data.Err, &pg) {
		return
	}
	switch pg.Code {
	case "53100", "53200", "58030", "25006": // disk full, out of memory, I/O error, read-only
		r.mu.Lock()
		defer r.mu.Unlock()
		r.at, r.what = time.Now(), pg.Message
	}
}

// TraceCopyFromStart is a part of pgx.CopyFromTracer.
func (r *refusals) TraceCopyFromStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceCopyFromStartData) context.Context {
	return ctx
}

// TraceCopyFromEnd is a part of pgx.CopyFromTracer.
func (r *refusals) TraceCopyFromEnd(ctx context.Context, conn *pgx.Conn, data pgx.TraceCopyFromEndData) {
	r.TraceQueryEnd(ctx, conn, pgx.TraceQueryEndData{Err: data.Err})
}

// TraceBatchStart is a part of pgx.BatchTracer.
func (r *refusals) TraceBatchStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return ctx
}

// TraceBatchQuery is a part of pgx.BatchTracer.
func (r *refusals) TraceBatchQuery(ctx context.Context, conn *pgx.Conn, data pgx.TraceBatchQueryData) {
	r.TraceQueryEnd(ctx, conn, pgx.TraceQueryEndData{Err: data.Err})
}

// TraceBatchEnd is a part of pgx.BatchTracer.
func (r *refusals) TraceBatchEnd(ctx context.Context, conn *pgx.Conn, data pgx.TraceBatchEndData) {
	r.TraceQueryEnd(ctx, conn, pgx.TraceQueryEndData{Err: data.Err})
}

// Copy sends what a COPY … FROM STDIN statement takes.
func (s *Store) Copy(ctx context.Context, tx pgx.Tx, statement string, data io.Reader) error {
	_, err := tx.Conn().PgConn().CopyFrom(ctx, data, statement)
	s.refused.TraceQueryEnd(ctx, tx.Conn(), pgx.TraceQueryEndData{Err: err}) // pgx does not see it
	return err
}

// Refused says what the database had no room for in the last half minute.
func (s *Store) Refused(time.Time) error {
	s.refused.mu.Lock()
	defer s.refused.mu.Unlock()
	if s.refused.at.IsZero() || time.Since(s.refused.at) > recent {
		return nil
	}
	return fmt.Errorf("the database refuses what is written: %s", s.refused.what)
}
