// Package store keeps everything in PostgreSQL. The queries are in queries/ as
// SQL, the code in db/ is generated from them.
package store

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"kestite/server/store/gen/db"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a pool of connections with the generated queries on it.
type Store struct {
	*db.Queries
	Pool *pgxpool.Pool

	mu         sync.Mutex
	partitions map[time.Time]bool
}

// connections at most, where the URL does not say pool_max_conns: two listen
// for good (live changes and the job queue), the rest serve requests and jobs.
const connections = 24

// Open connects to the database at url; it does not migrate.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's URL: %w", err)
	}
	if !strings.Contains(url, "pool_max_conns") {
		config.MaxConns = connections
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	return &Store{Queries: db.New(pool), Pool: pool, partitions: map[time.Time]bool{}}, nil
}

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

// Migrate brings the schema up to date. Several processes may do so at once.
func (s *Store) Migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	conn := stdlib.OpenDBFromPool(s.Pool)
	defer conn.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, conn, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate: %w", err)
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := jobs.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job queue: %w", err)
	}
	return nil
}

// Tx runs f in a transaction: committed when f returns nil, undone otherwise.
func (s *Store) Tx(ctx context.Context, f func(pgx.Tx, *db.Queries) error) error {
	return pgx.BeginFunc(ctx, s.Pool, func(tx pgx.Tx) error { return f(tx, s.Queries.WithTx(tx)) })
}

// partitioned are the tables that have a partition a day.
var partitioned = []string{"measurement", "findings"}

// EnsurePartitions makes the day partitions of measurements and findings that
// days (any instants) fall into, in UTC.
func (s *Store) EnsurePartitions(ctx context.Context, days map[time.Time]bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for d := range days {
		day := d.UTC().Truncate(24 * time.Hour)
		if s.partitions[day] {
			continue
		}
		for _, table := range partitioned {
			name := table + "_" + day.Format("20060102")
			_, err := s.Pool.Exec(ctx, fmt.Sprintf(
				`CREATE TABLE IF NOT EXISTS %s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')`,
				name, table, day.Format(time.RFC3339), day.AddDate(0, 0, 1).Format(time.RFC3339)))
			if err != nil && !strings.Contains(err.Error(), "42P07") {
				return fmt.Errorf("make the partition %s: %w", name, err)
			}
		}
		s.partitions[day] = true
	}
	return nil
}

// RawDays is how long raw measurements are kept.
const RawDays = 396

// DropPartitions drops the day partitions of measurements and findings whose last day ended
// more than RawDays and two days before now, and returns their names. What
// follows from their measurements — stretches and hourly summaries — stays.
func (s *Store) DropPartitions(ctx context.Context, now time.Time) ([]string, error) {
	rows, err := s.Pool.Query(ctx, `SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent IN ('measurement'::regclass, 'findings'::regclass) ORDER BY 1`)
	if err != nil {
		return nil, fmt.Errorf("list the partitions: %w", err)
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("list the partitions: %w", err)
	}
	var dropped []string
	for _, name := range names {
		_, date, _ := strings.Cut(name, "_")
		day, err := time.Parse("20060102", date)
		if err != nil || !day.AddDate(0, 0, 1).Before(now.AddDate(0, 0, -RawDays-2)) {
			continue
		}
		if _, err := s.Pool.Exec(ctx, "DROP TABLE IF EXISTS "+pgx.Identifier{name}.Sanitize()); err != nil {
			return dropped, fmt.Errorf("drop the partition %s: %w", name, err)
		}
		dropped = append(dropped, name)
	}
	return dropped, nil
}
