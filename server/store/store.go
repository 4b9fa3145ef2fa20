// Package store keeps everything in PostgreSQL. The queries are in queries/ as
// SQL, the code in gen/db is generated from them.
package store

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"kestite/server/store/gen/db"
)

// Store is the connections to the database with the generated queries on them.
// What is done with a context that For marked goes over the connections of that
// kind of work.
type Store struct {
	*db.Queries
	*pools
	// Pool has the connections for people's work.
	Pool *pgxpool.Pool
	// Clock is the database's clock.
	Clock *Clock

	refused    *refusals
	mu         sync.Mutex
	partitions map[time.Time]bool
}

func saysConnections(url string) bool { return strings.Contains(url, "pool_max_conns") }

// Open connects to the database at url; it does not migrate.
func Open(ctx context.Context, url string) (*Store, error) {
	refused := new(refusals)
	p, err := openPools(ctx, url, refused)
	if err != nil {
		return nil, err
	}
	if err := p[People].Ping(ctx); err != nil {
		p.close()
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{Queries: db.New(p), pools: p, Pool: p[People], refused: refused, partitions: map[time.Time]bool{}}
	if s.Clock, err = newClock(ctx, s.Queries); err != nil {
		p.close()
		return nil, err
	}
	return s, nil
}

// Now is what the database's clock shows.
func (s *Store) Now() time.Time { return s.Clock.Now() }

// Close ends all connections.
func (s *Store) Close() { s.pools.close() }

// PoolOf has the connections of a kind of work.
func (s *Store) PoolOf(w Work) *pgxpool.Pool { return s.pools[w] }

// Tx runs f in a transaction: committed when f returns nil, undone otherwise.
// What f does goes through its own queries; another connection taken meanwhile
// could be the last one.
func (s *Store) Tx(ctx context.Context, f func(pgx.Tx, *db.Queries) error) error {
	return pgx.BeginFunc(ctx, s.pools.of(ctx), func(tx pgx.Tx) error { return f(tx, s.Queries.WithTx(tx)) })
}
