// Package ingest takes batches of measurements from agents: in one transaction
// the raw rows, the state of each series, the stretches that changed, and the
// wish that the services concerned be judged.
package ingest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/defining"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Ingest stores batches.
type Ingest struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Now         func() time.Time

	lanes sync.Map // ids of lanes, which never change, by at
}

// at is a check at a location.
type at struct{ check, location string }

// mostAge is how old a measurement may be that is still taken, in ms.
const mostAge = wire.MostAge

// mostAhead is how far ahead of the database's clock a measurement may be.
const mostAhead = 30 * span.Second

// mostSingled is how many measurements of one delivery the database may refuse
// one by one; beyond that the agent is asked for smaller ones.
const mostSingled = 32

// ErrUnstorable is a delivery of which too much cannot be stored to find out
// each: smaller ones will tell.
var ErrUnstorable = errors.New("much of this delivery cannot be stored; send it in smaller ones")

// Batch stores measurements from a location's agent; agent is empty where they
// are the server's own. A measurement stored before is a duplicate, and so is
// one of a check that another agent held at the time; one that cannot be placed
// or stored is refused with a reason; all leave the rest unharmed. A crash
// anywhere leaves each stored whole, with all that follows, or not at all. The
// error is ErrUnstorable where the delivery is at fault.
func (in *Ingest) Batch(ctx context.Context, location, agent string, list []wire.Measurement) (wire.Receipt, error) {
	snap, err := in.Definitions.Snapshot(ctx)
	if err != nil {
		return wire.Receipt{}, err
	}
	held, err := in.past(ctx, location, agent, list)
	if err != nil {
		return wire.Receipt{}, err
	}
	d := &delivery{in: in, snap: snap, location: location, now: span.Of(in.Now()), list: list, settings: map[string]verdict.Revisions{}}
	rows := make([]int, 0, len(list))
	for i := range list {
		if agent != "" && !held.Held(agent, list[i].Check, list[i].At.Time()) {
			d.receipt.Duplicates++
			continue
		}
		rows = append(rows, i)
	}
	if err := d.take(ctx, rows); err != nil {
		return wire.Receipt{}, err
	}
	slices.SortFunc(d.receipt.Refused, func(a, b wire.Refusal) int { return cmp.Compare(a.Index, b.Index) })
	return d.receipt, nil
}

// past is who held what while the measurements of a list were made.
func (in *Ingest) past(ctx context.Context, location, agent string, list []wire.Measurement) (share.Past, error) {
	if agent == "" || len(list) == 0 {
		return share.Past{}, nil
	}
	first := list[0].At
	for _, m := range list {
		first = min(first, m.At)
	}
	return share.Since(ctx, in.Store.Queries, location, first.Time())
}

// delivery is one list of measurements on its way into the database.
type delivery struct {
	in       *Ingest
	snap     *catalogue.Snapshot
	location string
	now      span.Instant
	list     []wire.Measurement
	receipt  wire.Receipt
	singled  int // measurements that the database refused
	settings map[string]verdict.Revisions
}

func (d *delivery) refuse(i int, format string, args ...any) {
	d.receipt.Refused = append(d.receipt.Refused, wire.Refusal{Index: i, Reason: fmt.Sprintf(format, args...)})
}

// take stores the measurements of some indexes: all at once, or, where the
// database refuses something, by halves down to the one that it cannot take.
func (d *delivery) take(ctx context.Context, indexes []int) error {
	b := newBatch(d, len(indexes))
	for _, i := range indexes {
		if why := d.misplaced(&d.list[i]); why != "" {
			d.refuse(i, "%s", why)
			continue
		}
		if why := d.unplaced(&d.list[i]); why != "" {
			d.receipt.Refused = append(d.receipt.Refused, wire.Refusal{Index: i, Reason: why, Unstorable: true})
			continue
		}
		b.add(i)
	}
	for again := true; len(b.rows) > 0; {
		if err := d.in.Store.EnsurePartitions(ctx, b.days); err != nil {
			return err
		}
		err := d.in.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error { return b.store(ctx, tx, q) })
		var late *errTooLate
		switch {
		case err == nil:
			d.receipt.Stored += b.stored
			d.receipt.Duplicates += len(b.rows) - b.stored
			return nil
		case d.in.Store.Missing(err) && again:
			again = false
			continue
		case store.Doubled(err) && !b.slow: // what was taken for new was not: look at each
			b.slow = true
			continue
		case errors.As(err, &late):
			return d.take(ctx, d.without(b.indexes(), late))
		case unstorable(err):
			return d.halve(ctx, b.indexes(), err)
		}
		return fmt.Errorf("store %d measurements of %s: %w", len(b.rows), d.location, err)
	}
	return nil
}

// without refuses the measurements that came too late, and returns the others.
func (d *delivery) without(indexes []int, late *errTooLate) []int {
	return slices.DeleteFunc(indexes, func(i int) bool {
		if d.list[i].Check != late.check || d.list[i].At > late.upTo {
			return false
		}
		d.refuse(i, "%v", late)
		return true
	})
}

// halve stores what can be stored of measurements that the database refused together.
func (d *delivery) halve(ctx context.Context, indexes []int, why error) error {
	if len(indexes) == 1 {
		if d.singled++; d.singled > mostSingled {
			return ErrUnstorable
		}
		d.receipt.Refused = append(d.receipt.Refused, wire.Refusal{Index: indexes[0], Reason: "it cannot be stored: " + reason(why), Unstorable: true})
		return nil
	}
	half := len(indexes) / 2
	if err := d.take(ctx, indexes[:half]); err != nil {
		return err
	}
	return d.take(ctx, indexes[half:])
}

// unstorable says whether the database refused what was to be stored (SQLSTATE
// classes 22 data exception, 23 constraint, 54 limit exceeded), and not just now.
func unstorable(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && len(pg.Code) == 5 && slices.Contains([]string{"22", "23", "54"}, pg.Code[:2])
}

func reason(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Message
	}
	return err.Error()
}

// misplaced is why a measurement has no place here; empty where it has.
func (d *delivery) misplaced(m *wire.Measurement) string {
	entry := d.snap.Checks[m.Check]
	if entry == nil {
		return fmt.Sprintf("there is no check %q", measure.Clean(m.Check, 80))
	}
	revisions, seen := d.settings[m.Check]
	if !seen {
		revisions = d.snap.CheckRevisions(m.Check)
		d.settings[m.Check] = revisions
	}
	kind, ok := measure.KindNamed(entry.Current().Spec.Kind)
	switch {
	case !ok:
		return fmt.Sprintf("the kind of check %q is not known", m.Check)
	case !revisions.Knows(d.location):
		return fmt.Sprintf("the check %q never measured from %s", m.Check, d.location)
	case m.At < d.now.Add(-mostAge):
		return fmt.Sprintf("%s is older than %d days; measurements are taken no later than that", m.At, mostAge/span.Day)
	case revisions.Valid(m.At) == nil:
		return fmt.Sprintf("the check %q was not in force at %s", m.Check, m.At)
	}
	for name := range m.Measures {
		if kind.Index(name) < 0 {
			return fmt.Sprintf("%q is no measure of %s", measure.Clean(name, 80), kind.Name)
		}
	}
	return ""
}

// unplaced is why nobody can say yet when a measurement belonging here was made: the
// agent sets it aside, and may deliver it again.
func (d *delivery) unplaced(m *wire.Measurement) string {
	if m.At > d.now.Add(mostAhead) {
		return fmt.Sprintf("%s is in the future; the database's clock reads %s", m.At, d.now)
	}
	if m.Clock == nil {
		return ""
	}
	if stale := d.settings[m.Check].Valid(m.At).StaleAfterS * span.Second; m.Clock.Uncertain > stale {
		return fmt.Sprintf("when it was made is uncertain by %s, more than the %s after which the check counts as silent",
			span.WordsUp(m.Clock.Uncertain), span.WordsUp(stale))
	}
	return ""
}
