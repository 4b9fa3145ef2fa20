package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// RawDays is how long raw measurements are kept.
const RawDays = 396

// DaysAhead is for how many days partitions are made before they come.
const DaysAhead = 7

// partitioned are the tables that have a partition a day.
var partitioned = []string{"measurement", "findings"}

// EnsurePartitions makes the day partitions of measurements and findings that
// days (any instants) fall into, in UTC. Neither readers nor writers of other
// days wait for it.
func (s *Store) EnsurePartitions(ctx context.Context, days map[time.Time]bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for d := range days {
		day := d.UTC().Truncate(24 * time.Hour)
		if s.partitions[day] {
			continue
		}
		for _, table := range partitioned {
			if err := s.ensurePartition(ctx, table, day); err != nil {
				return err
			}
		}
		s.partitions[day] = true
	}
	return nil
}

// EnsurePartitionsAhead makes today's partitions and those of the coming days.
func (s *Store) EnsurePartitionsAhead(ctx context.Context, now time.Time) error {
	days := map[time.Time]bool{}
	for n := range DaysAhead + 1 {
		days[now.UTC().Truncate(24*time.Hour).AddDate(0, 0, n)] = true
	}
	s.forgetPartitions() // somebody may have dropped what was known
	return s.EnsurePartitions(ctx, days)
}

// forgetPartitions lets the next EnsurePartitions look at the database again.
func (s *Store) forgetPartitions() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.partitions)
}

// Missing says whether an error is a row for which there is no partition. What
// is known of partitions is forgotten then, and trying again makes it.
func (s *Store) Missing(err error) bool {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || pg.Code != "23514" || !strings.Contains(pg.Message, "no partition") {
		return false
	}
	s.forgetPartitions()
	return true
}

// Doubled says whether an error is a row that is there already.
func Doubled(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// partitionLock keeps two servers from making one partition at once.
const partitionLock = migrationLock + 1

// ensurePartition makes a table and attaches it. To attach takes a lock that
// bears readers and writers beside it; CREATE TABLE … PARTITION OF would wait
// for every reader, and everybody behind it.
func (s *Store) ensurePartition(ctx context.Context, table string, day time.Time) error {
	name := table + "_" + day.Format("20060102")
	from, to := day.Format(time.RFC3339), day.AddDate(0, 0, 1).Format(time.RFC3339)
	attach := func() error {
		return pgx.BeginFunc(ctx, s.pools.of(ctx), func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '2s'"); err != nil {
				return err
			}
			var is bool
			if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", partitionLock); err != nil {
				return err
			}
			err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_inherits WHERE inhrelid = to_regclass($1) AND inhparent = to_regclass($2) AND NOT inhdetachpending)", name, table).Scan(&is)
			if err != nil || is {
				return err
			}
			for _, sql := range []string{
				fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (LIKE %s INCLUDING ALL)", name, table),
				fmt.Sprintf("ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM ('%s') TO ('%s')", table, name, from, to),
			} {
				if _, err := tx.Exec(ctx, sql); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := retryLocked(ctx, attach); err != nil {
		return fmt.Errorf("make the partition %s: %w", name, err)
	}
	return nil
}

// retryLocked does something again, a few times, where a lock was not to be had.
func retryLocked(ctx context.Context, do func() error) error {
	const times = 3
	for n := 1; ; n++ {
		err := do()
		var pg *pgconn.PgError
		if n == times || !errors.As(err, &pg) || pg.Code != "55P03" {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(n) * 200 * time.Millisecond):
		}
	}
}

// DropPartitions drops the day partitions of measurements and findings whose last day ended
// more than RawDays and two days before now, and returns their names; but for days that
// keep says are needed. What
// follows from their measurements — stretches and hourly summaries — stays.
// Each is detached first, which waits for nobody's lock but lets all others go on.
func (s *Store) DropPartitions(ctx context.Context, now time.Time, keep func(day time.Time) bool) ([]string, error) {
	rows, err := s.Query(ctx, `SELECT inhrelid::regclass::text, inhparent::regclass::text, inhdetachpending FROM pg_inherits
		WHERE inhparent IN ('measurement'::regclass, 'findings'::regclass) ORDER BY 1`)
	if err != nil {
		return nil, fmt.Errorf("list the partitions: %w", err)
	}
	type partition struct {
		Name, Of string
		Pending  bool
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[partition])
	if err != nil {
		return nil, fmt.Errorf("list the partitions: %w", err)
	}
	var dropped []string
	for _, p := range list {
		_, date, _ := strings.Cut(p.Name, "_")
		day, err := time.Parse("20060102", date)
		if err != nil || !day.AddDate(0, 0, 1).Before(now.AddDate(0, 0, -RawDays-2)) {
			continue
		}
		if !p.Pending && keep(day) {
			continue
		}
		if err := s.dropPartition(ctx, p.Of, p.Name, p.Pending); err != nil {
			return dropped, fmt.Errorf("drop the partition %s: %w", p.Name, err)
		}
		dropped = append(dropped, p.Name)
	}
	s.forgetPartitions()
	return dropped, nil
}

func (s *Store) dropPartition(ctx context.Context, table, name string, pending bool) error {
	conn, err := s.pools.of(ctx).Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	// To detach waits for transactions that may still read the partition, and
	// holds nobody up meanwhile.
	if _, err := conn.Exec(ctx, "SET statement_timeout = 0; SET lock_timeout = 0"); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "RESET statement_timeout; RESET lock_timeout")
	how := "CONCURRENTLY"
	if pending { // a detaching that was interrupted
		how = "FINALIZE"
	}
	quoted := pgx.Identifier{name}.Sanitize()
	if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER TABLE %s DETACH PARTITION %s %s", table, quoted, how)); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "DROP TABLE IF EXISTS "+quoted)
	return err
}
