package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Work is a kind of work. Each has connections of its own, so that none takes
// what another needs, and bounds that suit it.
type Work int

// The kinds of work; without For it is People's.
const (
	People Work = iota
	Agents
	Jobs
	turns // Alone and InTurn
)

// bounds of a kind of work: how long a statement, a wait for a lock, and a
// transaction in which nothing happens may take before the database ends them,
// in ms, and the share of all connections.
type bounds struct {
	name                  string
	statement, lock, idle int
	share                 int32
}

var kinds = [...]bounds{
	People: {"people", 30_000, 5_000, 10_000, 8},
	Agents: {"agents", 5_000, 2_000, 2_000, 7}, // an agent waits no longer; a server that stands still holds the lanes it was at no longer than it must
	Jobs:   {"jobs", 60_000, 5_000, 20_000, 6},
	turns:  {"turns", 10_000, 5_000, 10_000, 3},
}

// silentPeer is when the database gives a connection up whose other end takes
// nothing, in ms: a server that was stopped in the middle of an answer.
const silentPeer = 15_000

// connections at most of a server, where the URL does not say pool_max_conns.
const connections = 24

type workKey struct{}

// For marks what is done with a context as of a kind of work.
func For(ctx context.Context, w Work) context.Context { return context.WithValue(ctx, workKey{}, w) }

// pools are the connections of each kind of work. They do what one pool does,
// each time with the pool that the context says.
type pools [len(kinds)]*pgxpool.Pool

func openPools(ctx context.Context, url string, refusals *refusals) (*pools, error) {
	var out pools
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's URL: %w", err)
	}
	total := config.MaxConns
	if !saysConnections(url) {
		total = connections
	}
	for w, b := range kinds {
		c := config.Copy()
		c.MaxConns = max(2, total*b.share/connections)
		for name, value := range map[string]string{
			"application_name":                    "kestite " + b.name,
			"statement_timeout":                   fmt.Sprint(b.statement),
			"lock_timeout":                        fmt.Sprint(b.lock),
			"idle_in_transaction_session_timeout": fmt.Sprint(b.idle),
			"tcp_user_timeout":                    fmt.Sprint(silentPeer),
		} {
			c.ConnConfig.RuntimeParams[name] = value
		}
		c.ConnConfig.Tracer = refusals
		if out[w], err = pgxpool.NewWithConfig(ctx, c); err != nil {
			out.close()
			return nil, fmt.Errorf("connect to the database: %w", err)
		}
	}
	return &out, nil
}

func (p *pools) close() {
	for _, one := range p {
		if one != nil {
			one.Close()
		}
	}
}

func (p *pools) of(ctx context.Context) *pgxpool.Pool {
	w, _ := ctx.Value(workKey{}).(Work)
	return p[w]
}

func (p *pools) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return p.of(ctx).Exec(ctx, sql, args...)
}

func (p *pools) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return p.of(ctx).Query(ctx, sql, args...)
}

func (p *pools) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	return p.of(ctx).QueryRow(ctx, sql, args...)
}

func (p *pools) CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, rows pgx.CopyFromSource) (int64, error) {
	return p.of(ctx).CopyFrom(ctx, table, columns, rows)
}

func (p *pools) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	return p.of(ctx).SendBatch(ctx, b)
}

// Alone runs do where no other server is at the work of that name, and says
// whether it ran. A server that dies or stands still in the middle holds nobody
// up for longer than the database bears an idle transaction; two may then be at
// it at once, which do has to bear.
func (s *Store) Alone(ctx context.Context, name string, do func(context.Context) error) (ran bool, err error) {
	err = s.locked(ctx, "SELECT pg_try_advisory_xact_lock(hashtextextended($1, 0))", name, func(ctx context.Context) error {
		ran = true
		return do(ctx)
	})
	return ran, err
}

// InTurn runs do after all others that do work of that name.
func (s *Store) InTurn(ctx context.Context, name string, do func(context.Context) error) error {
	return s.locked(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 0)) IS NOT NULL", name, do)
}

// locked holds a lock in a transaction of the turns' own connections, so that
// those who wait do not take the connections that do needs.
func (s *Store) locked(ctx context.Context, lock, name string, do func(context.Context) error) error {
	tx, err := s.pools[turns].Begin(ctx)
	if err != nil {
		return fmt.Errorf("take the turn of %s: %w", name, err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	var mine bool
	if err := tx.QueryRow(ctx, lock, name).Scan(&mine); err != nil {
		return fmt.Errorf("take the turn of %s: %w", name, err)
	}
	if !mine {
		return nil
	}
	return do(ctx)
}
