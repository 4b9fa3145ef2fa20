package store

import (
	"context"
	"embed"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// NewerError is a database whose schema a later version of the program made.
type NewerError struct{ Database, Program int64 }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database's schema is version %d and this program knows up to %d: it was brought up to date by a later version; run that one", e.Database, e.Program)
}

// migrationLock is held while the schema changes, so that any number of
// processes may start at once.
const migrationLock = 0x6b657374697465 // "kestite"

// Migrate brings the schema up to date, then runs after, all while no other
// process does. The error is a *NewerError where the database is ahead.
func (s *Store) Migrate(ctx context.Context, after func() error) error {
	// A pool of its own: a migration may take longer than any other work.
	config := s.pools[Jobs].Config()
	for _, name := range []string{"statement_timeout", "idle_in_transaction_session_timeout"} {
		delete(config.ConnConfig.RuntimeParams, name)
	}
	config.ConnConfig.RuntimeParams["lock_timeout"] = "30000"
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer pool.Close()
	alone, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer alone.Release()
	if err := lockFor(ctx, alone.Conn()); err != nil {
		return err
	}
	defer alone.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", migrationLock)
	if err := migrate(ctx, pool); err != nil {
		return err
	}
	return after()
}

func lockFor(ctx context.Context, conn *pgx.Conn) error {
	if _, err := conn.Exec(ctx, "SET lock_timeout = 0"); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", migrationLock); err != nil {
		return fmt.Errorf("wait for other processes that migrate: %w", err)
	}
	return nil
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	conn := stdlib.OpenDBFromPool(pool)
	defer conn.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, conn, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	has, err := provider.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("read the schema's version: %w", err)
	}
	if knows := known(); has > knows {
		return &NewerError{has, knows}
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate: %w", err)
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	if _, err := jobs.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job queue: %w", err)
	}
	return nil
}

// known is the version of the schema that this program makes.
func known() int64 {
	entries, err := migrations.ReadDir("migrations")
	if err != nil || len(entries) == 0 {
		return 0
	}
	version, _ := goose.NumericComponent(entries[len(entries)-1].Name())
	return version
}

// Fits says whether the schema is still the one that this program works with;
// the error is a *NewerError where another program has moved on.
func (s *Store) Fits(ctx context.Context) error {
	var has int64
	err := s.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied").Scan(&has)
	if err != nil {
		return fmt.Errorf("read the schema's version: %w", err)
	}
	if knows := known(); has > knows {
		return &NewerError{has, knows}
	}
	return nil
}
