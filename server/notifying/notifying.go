// Package notifying tells people of incidents: it makes the notices that are due by their
// plans, and delivers them.
package notifying

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/incidents"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/vault"
)

// Keeper makes notices and delivers them. It is safe for concurrent use, and any number
// of servers may have one.
type Keeper struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Incidents   *incidents.Keeper
	Vault       *vault.Vault
	Sender      *Sender
	Now         func() time.Time
	Log         *slog.Logger
	// URL is where people reach the server, without a slash at its end.
	URL func() string
	// Carry sends a message in place of Send; nil: Send does.
	Carry func(ctx context.Context, snap *catalogue.Snapshot, to Target, m Message) (string, error)

	announced sync.Map      // keys of what was told of planned work
	wake      chan struct{} // something is to be delivered
	once      sync.Once
}

// ended is for how long after its end an incident is looked at: its all-clear may be due,
// and a person's resolving may be late.
const ended = 2 * time.Hour

// Directory is who and what can be told now.
func Directory(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot) (notice.Directory, error) {
	d := notice.Directory{People: map[string]notice.Person{}, Pools: map[string]definition.PoolSpec{},
		Contacts: map[string]definition.ContactSpec{}}
	people, err := q.PeopleToTell(ctx)
	if err != nil {
		return d, err
	}
	for _, p := range people {
		d.People[p.ID] = notice.Person{ID: p.ID, Name: p.Name, Gone: p.DisabledAt != nil}
	}
	methods, err := q.PersonMethods(ctx, nil)
	if err != nil {
		return d, err
	}
	for _, m := range methods {
		if p, is := d.People[m.Person]; is {
			p.Methods = append(p.Methods, MethodOf(m))
			d.People[m.Person] = p
		}
	}
	for _, id := range catalogue.Live(snap.Pools) {
		d.Pools[id] = snap.Pools[id].Current().Spec
	}
	for _, id := range catalogue.Live(snap.Contacts) {
		d.Contacts[id] = snap.Contacts[id].Current().Spec
	}
	return d, nil
}

// MethodOf is the contact method that a row keeps; hours that cannot be read are always.
func MethodOf(r db.PersonMethod) notice.Method {
	m := notice.Method{ID: r.ID, Kind: r.Kind, Address: r.Address, Verified: r.VerifiedAt != nil}
	if len(r.Active) > 0 {
		var plan definition.WeeklyPlan
		if json.Unmarshal(r.Active, &plan) == nil {
			m.Active = &plan
		}
	}
	return m
}

// told is what is known of an incident, and of what was told of it.
type told struct {
	incident incident.Incident
	facts    []notice.Fact
	notices  []db.Notice
	held     []span.Span // times in which a person stopped telling of it
}

// known reads what telling of incidents goes by.
func (k *Keeper) known(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, rows []db.Incident) ([]told, error) {
	since := k.Now()
	for _, r := range rows {
		if r.KnownAt.Before(since) {
			since = r.KnownAt
		}
	}
	holds, err := q.HoldsSince(ctx, since)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(rows))
	out := make([]told, len(rows))
	at := map[int64]int{}
	now := k.Now()
	for n, r := range rows {
		if r.ResolvedAt != nil && r.ResolvedAt.After(now) { // as of now, which in a demo's history was long ago
			r.ResolvedAt, r.EndedAt, r.State = nil, nil, r.Worst
		}
		ids[n], out[n].incident, at[r.ID] = r.ID, incidents.Of(r), n
		for _, h := range holds {
			if concerns(snap, h, out[n].incident.Subject) {
				out[n].held = append(out[n].held, heldTime(h))
			}
		}
	}
	events, err := q.TellingEvents(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		if e.WrittenAt.After(now) {
			continue
		}
		f := notice.Fact{Event: incident.Event{Kind: e.Kind, At: span.Of(e.At), Person: e.Person, Text: e.Text, Other: e.Other},
			Known: span.Of(e.WrittenAt)}
		if e.UntilAt != nil {
			to := span.Of(*e.UntilAt)
			f.Event.To = &to
		}
		if e.Cause != nil {
			f.Cause = *e.Cause
		}
		t := &out[at[e.Incident]]
		t.facts = append(t.facts, f)
	}
	notices, err := q.NoticesOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, n := range notices {
		t := &out[at[*n.Incident]]
		t.notices = append(t.notices, n)
	}
	return out, nil
}

// concerns says whether a hold is for an incident: of its service, or of its check.
func concerns(snap *catalogue.Snapshot, h db.HoldsSinceRow, of incident.Subject) bool {
	if h.About == of.About && h.Subject == of.ID {
		return true
	}
	return h.About == incident.Service && of.About == incident.Check && incidents.ServiceOf(snap, of) == h.Subject
}

func heldTime(h db.HoldsSinceRow) span.Span {
	out := span.Span{From: span.Of(h.FromAt), To: span.Of(h.UntilAt)}
	if h.EndedAt != nil {
		out.To = min(out.To, span.Of(*h.EndedAt))
	}
	return out
}

// life is the incident as telling of it goes by.
func (t told) life(snap *catalogue.Snapshot) notice.Life {
	return notice.LifeOf(t.incident, t.facts, settles(snap, t.incident)).Hold(t.held...)
}

// settles says that an incident is of a service that needs others, whose answers are
// waited for a little: one of them may be its cause.
func settles(snap *catalogue.Snapshot, i incident.Incident) bool {
	if i.About != incident.Service || snap.Services[i.Subject.ID] == nil {
		return false
	}
	return len(snap.NeededNow(i.Subject.ID)) > 0
}

// told is what a plan has told of it.
func (t told) told(plan string) *notice.Told {
	out := new(notice.Told)
	for _, n := range t.notices {
		if n.Plan == plan {
			out.Add(keptNotice(n), span.Of(n.MadeAt))
		}
	}
	return out
}

func keptNotice(n db.Notice) notice.Notice {
	out := notice.Notice{What: notice.What(n.What), Round: int(n.Round), Step: int(n.Step), Nth: int(n.Nth), At: span.Of(n.DueAt),
		Severity: n.Severity}
	if n.Cause != nil {
		out.Cause = *n.Cause
	}
	if out.What == notice.Begun || out.What == notice.Again {
		out.Mark = notice.MarkIn(n.Key)
	}
	return out
}

// plans are those that it follows, and those that told of it before.
func (t told) plans(snap *catalogue.Snapshot) []notice.Plan {
	service := incidents.ServiceOf(snap, t.incident.Subject)
	out := notice.Following(snap, notice.Plans(snap, t.incident.Subject, service), service)
	for _, n := range t.notices {
		known := slices.ContainsFunc(out, func(p notice.Plan) bool { return p.ID == n.Plan })
		if n.Plan == "" || known || snap.NoticePlans[n.Plan] == nil {
			continue
		}
		spec := snap.NoticePlans[n.Plan].Current().Spec
		spec.Steps = nil // it is not followed any more: those who were told are told the end
		out = append(out, notice.NewPlan(n.Plan, spec))
	}
	return out
}

// Round makes the notices that are due, where no other server is at it. What it made it
// never makes again.
func (k *Keeper) Round(ctx context.Context) error {
	_, err := k.Store.Alone(ctx, "notices", k.round)
	return err
}

func (k *Keeper) round(ctx context.Context) error {
	snap, err := k.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	if err := k.announce(ctx, snap); err != nil { // it holds nothing up that has failed
		k.Log.Error("planned work was not told", "error", err)
	}
	if len(snap.NoticePlans) == 0 {
		return nil
	}
	rows, err := k.Store.IncidentsToTell(ctx, k.Now().Add(-ended))
	if err != nil || len(rows) == 0 {
		return errors.Join(err, k.SumUp(ctx, snap))
	}
	return errors.Join(k.Tell(ctx, snap, rows), k.SumUp(ctx, snap))
}

// Tell makes the notices of some incidents that are due.
func (k *Keeper) Tell(ctx context.Context, snap *catalogue.Snapshot, rows []db.Incident) error {
	all, err := k.known(ctx, k.Store.Queries, snap, rows)
	if err != nil {
		return err
	}
	d, err := Directory(ctx, k.Store.Queries, snap)
	if err != nil {
		return err
	}
	now := span.Of(k.Now())
	var failed error
	for _, t := range all {
		life := t.life(snap)
		for _, p := range t.plans(snap) {
			due := life.Due(p, t.told(p.ID), now)
			if len(due) == 0 {
				continue
			}
			err := k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error { return k.make(ctx, tx, q, t, p, due, d) })
			if err != nil { // one that cannot be told holds no other up
				failed = errors.Join(failed, fmt.Errorf("tell incident %d by the plan %s: %w", t.incident.ID, p.ID, err))
			}
		}
	}
	return failed
}

// make keeps notices that are due of an incident, each with its deliveries.
func (k *Keeper) make(ctx context.Context, tx pgx.Tx, q *db.Queries, t told, p notice.Plan, due []notice.Notice, d notice.Directory) error {
	now := k.Now()
	before, err := q.DeliveriesOfIncident(ctx, &t.incident.ID)
	if err != nil {
		return err
	}
	at := map[notice.Way]bool{} // who is told at this moment by a step
	for _, n := range due {
		row := db.AddNoticeParams{Incident: &t.incident.ID, Plan: p.ID, Key: n.Key(), What: string(n.What), Round: int32(n.Round),
			Step: int32(n.Step), Nth: int32(n.Nth), Severity: cmp.Or(n.Severity, t.incident.Severity), DueAt: n.At.Time(), MadeAt: now}
		if n.Cause != 0 {
			row.Cause = &n.Cause
		}
		ids, err := q.AddNotice(ctx, row)
		if err != nil {
			return err
		}
		if len(ids) == 0 { // another server was faster
			continue
		}
		for _, w := range k.ways(n, p, d, before, span.Of(now)) {
			n := n
			if w.digest {
				n.Digest = p.NextDigest(span.Of(now))
			}
			if who := (notice.Way{Kind: w.Kind, Address: w.Address, Person: w.Person}); w.Why == "" && (n.What == notice.Begun || n.What == notice.Again) {
				if at[who] {
					w.Why = "another step tells the same at this moment"
				}
				at[who] = true
			}
			if err := k.add(ctx, q, ids[0], t.incident.ID, p, n, w.Way, before); err != nil {
				return err
			}
		}
	}
	k.awake()
	return store.Notify(ctx, tx, store.Event{Kind: store.OnIncident, IDs: []string{fmt.Sprint(t.incident.ID)}})
}

// way is how a notice is told; digest says that it stands in the next digest, since its
// receiver knows of the incident by one.
type way struct {
	notice.Way
	digest bool
}

// ways are how a notice is told: by its step, or to all who were told of the round.
func (k *Keeper) ways(n notice.Notice, p notice.Plan, d notice.Directory, before []db.DeliveriesOfIncidentRow, now span.Instant) []way {
	var out []way
	digest := false
	add := func(w notice.Way) {
		at := slices.IndexFunc(out, func(o way) bool {
			return o.Kind == w.Kind && o.Address == w.Address && o.Person == w.Person && o.Why == w.Why
		})
		if at < 0 {
			out = append(out, way{w, digest})
		} else if !digest {
			out[at].digest = false // it was told at once, by another step
		}
	}
	everybody := func(string) bool { return true }
	switch n.What {
	case notice.Begun, notice.Again:
		for _, r := range n.Tell {
			for _, w := range d.Reach(r, p.Steps[n.Step].In, now) {
				add(w)
			}
		}
	case notice.Reminder:
		for _, w := range d.Reach(definition.Recipient{Person: n.Person}, everybody, now) {
			add(w)
		}
	default:
		for _, b := range before {
			if digest = b.Digest && b.Summary != nil; b.Plan != p.ID || int(b.Round) != n.Round || b.Kind == "" ||
				b.State != "sent" && b.State != "queued" && !digest {
				continue
			}
			w := notice.Way{Kind: b.Kind, Method: b.Method, Address: b.Address, At: now}
			if b.Person != nil {
				w.Person = *b.Person
			}
			add(w)
		}
	}
	return out
}

// add keeps one delivery of a notice.
func (k *Keeper) add(ctx context.Context, q *db.Queries, id, of int64, p notice.Plan, n notice.Notice, w notice.Way,
	before []db.DeliveriesOfIncidentRow) error {
	now := k.Now()
	row := db.AddDeliveryParams{Notice: id, Incident: &of, Kind: w.Kind, Method: w.Method, Address: w.Address, State: "queued", Why: w.Why,
		DueAt: n.At.Time(), MadeAt: now, NextAt: now}
	if w.Person != "" {
		row.Person = &w.Person
	}
	if w.At.Time().After(now) {
		row.NextAt = w.At.Time()
	}
	switch {
	case w.Why != "":
		row.State = "suppressed"
	case n.Digest != nil:
		row.State, row.Why, row.Digest, row.NextAt = "held", "it stands in the next digest", true, n.Digest.Time()
	case n.What == notice.Begun && slices.ContainsFunc(before, func(b db.DeliveriesOfIncidentRow) bool {
		return b.Plan != p.ID && int(b.Round) == n.Round && b.Kind == w.Kind && b.Address == w.Address && same(b.Person, row.Person) &&
			(b.State == "sent" || b.State == "queued")
	}):
		row.State, row.Why = "suppressed", "another plan tells the same"
	case n.What == notice.Begun && p.MostPerHour > 0 && w.Kind != definition.Inbox:
		begun, err := q.CountBegun(ctx, db.CountBegunParams{Plan: p.ID, Kind: w.Kind, Address: w.Address, Since: now.Add(-time.Hour)})
		if err != nil {
			return err
		}
		if begun >= int64(p.MostPerHour) {
			row.State, row.Why = "held", fmt.Sprintf("%d in an hour are the most; a summary follows", p.MostPerHour)
		}
	}
	if row.State == "suppressed" {
		row.DoneAt = &now
	}
	_, err := q.AddDelivery(ctx, row)
	return err
}

func same(a, b *string) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

// heldFor is how long what is held back waits for more, before it is summed up.
const heldFor = time.Minute

// SumUp makes one message of what was held back, and of what stands in a digest that is
// due, for each receiver of a plan.
func (k *Keeper) SumUp(ctx context.Context, snap *catalogue.Snapshot) error {
	return k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		held, err := q.HeldDeliveries(ctx, k.Now())
		if err != nil {
			return err
		}
		type receiver struct {
			plan, kind, address, person string
			digest                      bool
		}
		of := map[receiver][]db.HeldDeliveriesRow{}
		var order []receiver
		for _, h := range held {
			r := receiver{plan: h.Plan, kind: h.Kind, address: h.Address, digest: h.Digest}
			if h.Person != nil {
				r.person = *h.Person
			}
			if of[r] == nil {
				order = append(order, r)
			}
			of[r] = append(of[r], h)
		}
		now := k.Now()
		for _, r := range order {
			list := of[r]
			if !r.digest && now.Sub(list[0].MadeAt) < heldFor {
				continue
			}
			var ids, incidents []int64
			for _, h := range list {
				ids = append(ids, h.ID)
				if h.Incident != nil && !slices.Contains(incidents, *h.Incident) {
					incidents = append(incidents, *h.Incident)
				}
			}
			plan := ""
			if r.digest {
				plan = snap.Named(catalogue.NoticePlan, r.plan)
			}
			subject, text, err := k.summary(ctx, q, snap, plan, incidents)
			if err != nil {
				return err
			}
			made, err := q.AddNotice(ctx, db.AddNoticeParams{Plan: r.plan, Key: fmt.Sprintf("summary/%d", list[0].ID), What: string(notice.Summary),
				DueAt: now, MadeAt: now})
			if err != nil || len(made) == 0 {
				return err
			}
			id, err := q.AddDelivery(ctx, db.AddDeliveryParams{Notice: made[0], Person: list[0].Person, Kind: r.kind, Method: list[0].Method,
				Address: r.address, State: "queued", Subject: subject, Text: text, DueAt: now, MadeAt: now, NextAt: now})
			if err != nil {
				return err
			}
			if err := q.SumUp(ctx, db.SumUpParams{Summary: &id, Ids: ids}); err != nil {
				return err
			}
		}
		k.awake()
		return nil
	})
}

// mostNamed is how many incidents a message names.
const mostNamed = 20

// summary says incidents in one message: of a digest by the name of its plan, otherwise of
// what was held back.
func (k *Keeper) summary(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, plan string, ids []int64) (subject, text string, err error) {
	rows, err := q.Incidents(ctx, ids)
	if err != nil {
		return "", "", err
	}
	now := span.Of(k.Now())
	lines, open := "", 0
	for n, r := range rows {
		i := incidents.Of(r)
		if i.ResolvedAt == nil {
			open++
		}
		switch {
		case n > mostNamed:
			continue
		case n == mostNamed:
			lines += fmt.Sprintf("and %d more\n", len(rows)-n)
			continue
		}
		lines += fmt.Sprintf("[%s] %s\n", i.Severity, i.Headline(incidents.Name(snap, i.Subject), nil, now))
	}
	noun := "incidents"
	if len(rows) == 1 {
		noun = "incident"
	}
	lines += "\n" + k.URL() + "/incidents"
	if plan == "" {
		return fmt.Sprintf("%d more %s", len(rows), noun), lines, nil
	}
	over := "all over"
	if open > 0 {
		over = fmt.Sprintf("%d not over", open)
	}
	return fmt.Sprintf("%s: %d %s, %s", plan, len(rows), noun, over), lines, nil
}

// awake says that something is to be delivered.
func (k *Keeper) awake() {
	k.once.Do(func() { k.wake = make(chan struct{}, 1) })
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// Life is an incident as telling of it goes by.
func (k *Keeper) Life(ctx context.Context, snap *catalogue.Snapshot, row db.Incident) (notice.Life, error) {
	all, err := k.known(ctx, k.Store.Queries, snap, []db.Incident{row})
	if err != nil {
		return notice.Life{}, err
	}
	return all[0].life(snap), nil
}
