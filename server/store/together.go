package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/server/store/gen/db"
)

// Together runs f, which writes and asks for nothing, and then sends all that it wrote
// in its order and waits once. The error may be that of any of the statements, which
// fails them all with the transaction.
func Together(ctx context.Context, tx pgx.Tx, f func(db.DBTX, *db.Queries) error) error {
	var w writes
	if err := f(&w, db.New(&w)); err != nil {
		return err
	}
	if w.batch.Len() == 0 {
		return nil
	}
	sent := tx.SendBatch(ctx, &w.batch)
	for range w.batch.Len() {
		if _, err := sent.Exec(); err != nil {
			sent.Close()
			return err
		}
	}
	return sent.Close()
}

// writes keeps statements until they are sent.
type writes struct{ batch pgx.Batch }

var errAnswers = errors.New("what is sent together has no answers")

func (w *writes) Exec(_ context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	w.batch.Queue(sql, args...)
	return pgconn.CommandTag{}, nil
}

func (w *writes) Query(context.Context, string, ...any) (pgx.Rows, error) { return nil, errAnswers }

func (w *writes) QueryRow(context.Context, string, ...any) pgx.Row { return noRow{} }

func (w *writes) CopyFrom(context.Context, pgx.Identifier, []string, pgx.CopyFromSource) (int64, error) {
	return 0, errAnswers
}

type noRow struct{}

func (noRow) Scan(...any) error { return errAnswers }
