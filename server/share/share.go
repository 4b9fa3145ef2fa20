// Package share divides a location's checks among its agents: each check has one
// holder at a time, and the checks of an agent that is lost move to the others.
package share

import (
	"context"
	"errors"
	"hash/fnv"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// LostAfter is how long after its last call an agent is taken for lost. Agents
// call every 15 s, and the rosters are looked at every few seconds: together less
// than 30 s.
const LostAfter = 22 * time.Second

// Holder is the one of agents that holds a check: the one whose hash with it is
// highest (rendezvous hashing), so that a change of the agents moves as few
// checks as can be. It is empty without agents.
func Holder(agents []string, check string) string {
	best, holder := uint64(0), ""
	for _, a := range agents {
		h := fnv.New64a()
		h.Write([]byte(a + "\x00" + check))
		sum := mixed(h.Sum64())
		if holder == "" || sum > best || sum == best && a > holder {
			best, holder = sum, a
		}
	}
	return holder
}

// mixed spreads the differences of FNV's last bytes over all bits (the finaliser of MurmurHash3).
func mixed(x uint64) uint64 {
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	x *= 0xc4ceb9fe1a85ec53
	return x ^ x>>33
}

// Rosters keeps who shares which location.
type Rosters struct {
	Store *store.Store
	Now   func() time.Time
}

// Current is the roster in force at a location; empty before its first agent called.
func (r *Rosters) Current(ctx context.Context, location string) ([]string, error) {
	last, err := r.Store.LastRoster(ctx, location)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return last.Agents, err
}

// Update looks who is there at each location, or at one, writes a new roster
// where it differs, and tells. Where nobody is left the roster stays: nothing
// could take over, and the agents may be measuring while we do not hear them.
func (r *Rosters) Update(ctx context.Context, location string) error {
	agents, err := r.Store.Agents(ctx)
	if err != nil {
		return err
	}
	at := map[string][]db.Agent{}
	for _, a := range agents {
		if location == "" || a.Location == location {
			at[a.Location] = append(at[a.Location], a)
		}
	}
	for where, list := range at {
		if err := r.update(ctx, where, list); err != nil {
			return err
		}
	}
	return nil
}

func (r *Rosters) update(ctx context.Context, location string, agents []db.Agent) error {
	last, err := r.Current(ctx, location)
	if err != nil {
		return err
	}
	now := r.Now()
	since, err := r.Store.There(ctx, now)
	if err != nil {
		return err
	}
	young := now.Sub(since) < LostAfter // no server was there to hear them, so nobody can tell who is lost
	var able, connected []string
	for _, a := range agents {
		here := a.SeenAt != nil && now.Sub(*a.SeenAt) < LostAfter || young && slices.Contains(last, a.ID)
		if !here {
			continue
		}
		able = append(able, a.ID)
		if a.CutOff == "" {
			connected = append(connected, a.ID)
		}
	}
	if len(connected) > 0 {
		able = connected
	}
	slices.Sort(able)
	if len(able) == 0 || slices.Equal(able, last) {
		return nil
	}
	return r.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.AddRoster(ctx, db.AddRosterParams{Location: location, FromAt: now, Agents: able}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnRoster, IDs: []string{location}})
	})
}

// Past says who held checks at a location at instants since some time.
type Past struct{ rosters []db.Roster }

// Since reads the rosters of a location from an instant on.
func Since(ctx context.Context, q *db.Queries, location string, since time.Time) (Past, error) {
	rows, err := q.RostersSince(ctx, db.RostersSinceParams{Location: location, Since: since})
	return Past{rows}, err
}

// Held says whether an agent held a check at an instant. Before the first roster
// everybody held everything.
func (p Past) Held(agent, check string, at time.Time) bool {
	var in []string
	for _, r := range p.rosters {
		if !r.FromAt.After(at) {
			in = r.Agents
		}
	}
	return len(in) == 0 || Holder(in, check) == agent
}
