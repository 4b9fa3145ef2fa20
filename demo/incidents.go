package demo

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

// incidentMonths of the past have their incidents.
const incidentMonths = 4

// troubled tells the states of the last months as if they had been judged then, and lets
// people work on the incidents that followed.
func troubled(ctx context.Context, srv *server.Server, now span.Instant, loc *time.Location) error {
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	from := calendar.MonthAt(now, loc).Next(-incidentMonths).Span().From
	var ids []string
	for _, s := range subjects {
		ids = append(ids, s.id)
	}
	open, err := srv.API.Books.Open(ctx, snap, calendar.Exactly(span.Span{From: from, To: now}, loc), now, ids, nil)
	if err != nil {
		return err
	}
	type turn struct {
		service string
		verdict.Transition
	}
	var turns []turn
	for _, id := range ids {
		line := span.Map(open.Evidence.Service(id), func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
		for _, t := range verdict.Transitions(span.Constant(verdict.Unmeasured), line, from, now) {
			turns = append(turns, turn{id, t})
		}
	}
	slices.SortStableFunc(turns, func(a, b turn) int { return cmp.Compare(a.At, b.At) })
	keeper := *srv.API.Incidents
	keeper.Looks = false // there is nothing left to look at
	const believed = 40 * span.Second
	for _, t := range turns {
		known := min(now, t.At.Add(believed))
		keeper.Now = known.Time
		because := []byte(`{"checks": [], "services": []}`)
		err := srv.API.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
			if _, err := q.AddTransitions(ctx, []db.AddTransitionsParams{{Service: t.service, At: t.At.Time(), FromState: int16(t.From),
				ToState: int16(t.To),
				Because: because, KnownAt: known.Time()}}); err != nil {
				return err
			}
			return keeper.Services(ctx, tx, snap, map[string]incidents.Since{t.service: {At: t.At - 1, Good: true}})
		})
		if err != nil {
			return fmt.Errorf("tell that %s was %s at %s: %w", t.service, t.To, t.At, err)
		}
	}
	if err := handled(ctx, srv, keeper, now); err != nil {
		return err
	}
	return told(ctx, srv, now)
}

// stories are what was found out about an incident, by service.
var stories = map[string][]incident.Review{
	"quay-network": {{Class: "hardware", Cause: "A line card of the far quay lost its clock.",
		Action: "Re-seated; traffic went over the south ring meanwhile, set by hand in 6 min."},
		{Class: "power", Cause: "The mast at Eskerby had no power.", Action: "Came back alone. A second feed is ordered."}},
	"card-acquirer": {{Class: "supplier", Cause: "The acquirer changed certificates without telling.",
		Action: "Their desk rolled it back; asked to be on their list of changes."}},
	"ticket-sales": {{Class: "capacity", Cause: "The summer timetable went on sale, and the queue of payments filled.",
		Action: "Twice the workers; a queue of its own for timetables."},
		{Class: "change", Cause: "A release left an old table locked.",
			Action: "Taken back in 5 min. Releases lock nothing for more than a second now."}},
	"sailing-board": {{Class: "software", Cause: "The board read a sailing without a quay and stopped.",
		Action: "Started again; such a sailing is shown without a quay since."}},
	"boarding-gates": {{Class: "network", Cause: "The gate controller took an address that was given out twice.",
		Action: "Fixed addresses for controllers."}},
	"crew-roster": {{Class: "human", Cause: "The roster was closed for the year too early.",
		Action: "Opened again. Closing asks for a second person now."}},
	"": {{Class: "unknown", Cause: "Came and went; nothing was found in any log.", Action: "Watch for it."}},
}

// handled lets the operator acknowledge what was open for a while, and the manager
// review what is some weeks old.
func handled(ctx context.Context, srv *server.Server, keeper incidents.Keeper, now span.Instant) error {
	operator, err := by(ctx, srv.API, 3)
	if err != nil {
		return err
	}
	manager, err := by(ctx, srv.API, 1)
	if err != nil {
		return err
	}
	over := false
	rows, err := srv.API.Store.IncidentList(ctx, db.IncidentListParams{Open: &over, Most: 1000})
	if err != nil {
		return err
	}
	const rest = 12 * span.Day // what is younger waits for its review
	for _, r := range rows {
		i := incidents.Of(r)
		if i.Cause != 0 || i.ResolvedAt == nil {
			continue
		}
		random := seeded("incident", i.Subject.ID, i.BeganAt.String())
		if i.Lasted(now).Length() > 4*span.Minute {
			keeper.Now = i.BeganAt.Add(span.Minute + random.Int64N(3*span.Minute)).Time
			note := []string{"Looking at it.", "On my way to the quay.", "Called their desk."}[random.IntN(3)]
			if err := keeper.Do(ctx, operator, i.ID, "note", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Note(operator.Kept(), now, note, false)
			}); err != nil {
				return err
			}
		}
		if now.Add(-rest) < *i.ResolvedAt || random.IntN(8) == 0 {
			continue
		}
		told := stories[i.Subject.ID]
		if len(told) == 0 || i.Lasted(now).Length() < 3*span.Minute {
			told = stories[""]
		}
		story := told[random.IntN(len(told))]
		keeper.Now = i.ResolvedAt.Add(span.Day + random.Int64N(2*span.Day)).Time
		if err := keeper.Do(ctx, manager, i.ID, "review", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
			return i.Record(manager.Kept(), now, story.Class, story.Cause, story.Action, nil)
		}); err != nil {
			return err
		}
	}
	return nil
}
