package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
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

// OlderError is a database whose schema is not up to date, and who is connected
// may not change it.
type OlderError struct{ Database, Program int64 }

func (e *OlderError) Error() string {
	return fmt.Sprintf("the database's schema is version %d and this program needs %d, which the role it works with may not make: run kestite migrate with the owner of the database, and --worker with this role", e.Database, e.Program)
}

// Prepare brings the schema up to date, where the role that is connected may, and
// otherwise looks whether it is; then it runs after, all while no other process
// does. The error is a *NewerError where the database is ahead, an *OlderError
// where it is behind.
func (s *Store) Prepare(ctx context.Context, after func() error) error {
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
	owns, err := s.Owns(ctx)
	if err != nil {
		return err
	}
	if owns {
		err = migrate(ctx, pool)
	} else {
		err = s.UpToDate(ctx)
	}
	if err != nil {
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

// Owns says whether the role that is connected may change the schema: it owns the
// trail, or may make everything where there is nothing yet.
func (s *Store) Owns(ctx context.Context) (owns bool, err error) {
	err = s.QueryRow(ctx, `SELECT coalesce((SELECT pg_has_role(current_user, relowner, 'USAGE') FROM pg_class WHERE oid = coalesce(to_regclass('public.trail'), to_regclass('public.audit'))),
		has_schema_privilege(current_user, 'public', 'CREATE'))`).Scan(&owns)
	if err != nil {
		return false, fmt.Errorf("look who owns the schema: %w", err)
	}
	return owns, nil
}

// UpToDate says whether the schema is the one that this program works with.
func (s *Store) UpToDate(ctx context.Context) error {
	var has int64
	err := s.QueryRow(ctx, "SELECT coalesce((SELECT max(version_id) FROM goose_db_version WHERE is_applied), 0)").Scan(&has)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "42P01" { // there is no such table
		has, err = 0, nil
	}
	switch knows := known(); {
	case err != nil:
		return fmt.Errorf("read the schema's version: %w", err)
	case has > knows:
		return &NewerError{has, knows}
	case has < knows:
		return &OlderError{has, knows}
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
