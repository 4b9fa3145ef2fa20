package notifying

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/notice"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/store/gen/db"
)

// announcedFor is for how long after a window was changed its people are told, if no
// server was there before: what it says is what holds then, and that it is late.
const announcedFor = 31 * span.Day

// turnOf is how a window changed last and when; who is told are those of it, and those
// who were told of it as it was before.
func turnOf(e *catalogue.Entry[definition.WindowSpec]) (turn string, at span.Instant, tell []definition.Recipient) {
	c := e.Current()
	turn, at, tell = planning.Changed, c.From, slices.Clone(c.Spec.Tell)
	if len(e.Revisions) == 1 {
		turn = planning.Planned
	} else if !e.Retired {
		for _, r := range e.Revisions[len(e.Revisions)-2].Spec.Tell {
			if !slices.Contains(tell, r) {
				tell = append(tell, r)
			}
		}
	}
	if e.Retired {
		turn, at = planning.Cancelled, c.During().To
	}
	return turn, at, tell
}

// Queue tells people of work that a change plans, changes or cancels, in its transaction:
// what counts as announced was at least queued.
func (k *Keeper) Queue(ctx context.Context, q *db.Queries, plan *catalogue.Plan) error {
	for _, w := range plan.Writes {
		if w.Kind != catalogue.Window {
			continue
		}
		if err := k.announceOne(ctx, q, plan.After, w.ID); err != nil {
			return fmt.Errorf("tell of the window %s: %w", w.ID, err)
		}
	}
	return nil
}

// announce tells people of work that was planned, changed or cancelled by a version that
// did not queue that with the change: each turn once. One that cannot be told holds no
// other up.
func (k *Keeper) announce(ctx context.Context, snap *catalogue.Snapshot) error {
	var failed error
	for _, id := range catalogue.Sorted(snap.Windows) {
		if _, _, tell := turnOf(snap.Windows[id]); len(tell) == 0 {
			continue
		}
		key := turnKey(snap.Windows[id])
		if _, done := k.announced.Load(key); done {
			continue
		}
		if err := k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error { return k.announceOne(ctx, q, snap, id) }); err != nil {
			failed = errors.Join(failed, fmt.Errorf("tell of the window %s: %w", id, err))
			continue
		}
		k.announced.Store(key, true)
	}
	return failed
}

// turnKey tells a turn of a window from all others.
func turnKey(e *catalogue.Entry[definition.WindowSpec]) string {
	turn, _, _ := turnOf(e)
	return fmt.Sprintf("window/%s/%d/%s", e.ID, e.Current().Number, turn)
}

// announceOne tells those whom a window names of its latest turn, unless they were told.
func (k *Keeper) announceOne(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, id string) error {
	e := snap.Windows[id]
	turn, at, tell := turnOf(e)
	now := k.Now()
	if len(tell) == 0 || at > span.Of(now).Add(2*span.Second) || at < span.Of(now).Add(-announcedFor) {
		return nil
	}
	key := turnKey(e)
	told, err := q.IsTold(ctx, key)
	if err != nil || told {
		return err
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return err
	}
	d, err := Directory(ctx, q, snap)
	if err != nil {
		return err
	}
	spec := e.Current().Spec
	var services []string
	for _, s := range spec.Services {
		services = append(services, snap.Named(catalogue.Service, s))
	}
	var coming []span.Span
	list, err := snap.OccurrencesOf(id, span.Span{From: span.Of(now), To: span.Of(now).Add(400 * span.Day)})
	if err != nil {
		return err
	}
	for _, o := range list {
		coming = append(coming, o.Planned)
	}
	subject, text := planning.Told(turn, spec, services, coming, zone, k.URL()+"/calendar/plan/"+id)
	if late := int64(span.Of(now) - at); late >= notice.LateMS {
		text += "\n\nThis message is late, by " + span.Words(late/span.Second*span.Second) + "."
	}
	return k.tell(ctx, q, d, tell, key, subject, text, nil)
}

// SayTo sends a message that is of no incident to recipients, once for its key, in a
// transaction.
func (k *Keeper) SayTo(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, to []definition.Recipient, key, subject, text string, report *string) error {
	if len(to) == 0 {
		return nil
	}
	d, err := Directory(ctx, q, snap)
	if err != nil {
		return err
	}
	return k.tell(ctx, q, d, to, key, subject, text, report)
}

func (k *Keeper) tell(ctx context.Context, q *db.Queries, d notice.Directory, tell []definition.Recipient, key, subject, text string, report *string) error {
	now := k.Now()
	everybody := func(string) bool { return true }
	made, err := q.AddNotice(ctx, db.AddNoticeParams{Key: key, What: string(notice.Work), DueAt: now, MadeAt: now, Report: report})
	if err != nil || len(made) == 0 {
		return err
	}
	seen := map[notice.Way]bool{}
	for _, r := range tell {
		for _, w := range d.Reach(r, everybody, span.Of(now)) {
			if who := (notice.Way{Person: w.Person, Kind: w.Kind, Address: w.Address}); w.Why == "" {
				if seen[who] {
					continue
				}
				seen[who] = true
			}
			if _, err := q.AddDelivery(ctx, deliveryOf(made[0], w, subject, text, now)); err != nil {
				return err
			}
		}
	}
	k.awake()
	return nil
}

// deliveryOf is one message about planned work to one receiver.
func deliveryOf(notice int64, w notice.Way, subject, text string, now time.Time) db.AddDeliveryParams {
	row := db.AddDeliveryParams{Notice: notice, Kind: w.Kind, Method: w.Method, Address: w.Address, State: "queued", Why: w.Why, Subject: subject, Text: text,
		DueAt: now, MadeAt: now, NextAt: now}
	if w.Person != "" {
		row.Person = &w.Person
	}
	if w.At.Time().After(now) {
		row.NextAt = w.At.Time()
	}
	if w.Why != "" {
		row.State, row.DoneAt = "suppressed", &now
	}
	return row
}

// WhoMay are the people who may do something, but for one: those who are asked when
// a second person is needed.
func WhoMay(ctx context.Context, q *db.Queries, but string, may func(person string, rights access.Rights) bool) ([]string, error) {
	people, err := q.PeopleToTell(ctx)
	var out []string
	for _, p := range people {
		if p.DisabledAt == nil && p.ID != but && may(p.ID, access.Rights{Role: access.Role(p.Role), Teams: p.Teams}) {
			out = append(out, p.ID)
		}
	}
	return out, err
}

// Say puts a message that is of no incident into the inboxes of some people, once for
// its key, in a transaction.
func (k *Keeper) Say(ctx context.Context, q *db.Queries, people []string, key, subject, text string) error {
	if len(people) == 0 {
		return nil
	}
	now := k.Now()
	made, err := q.AddNotice(ctx, db.AddNoticeParams{Key: key, What: string(notice.Work), DueAt: now, MadeAt: now})
	if err != nil || len(made) == 0 {
		return err
	}
	for _, id := range people {
		w := notice.Way{Person: id, Kind: definition.Inbox, At: span.Of(now)}
		if _, err := q.AddDelivery(ctx, deliveryOf(made[0], w, subject, text, now)); err != nil {
			return err
		}
	}
	k.awake()
	return nil
}
