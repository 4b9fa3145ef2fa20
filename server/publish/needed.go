package publish

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Needed says of days (of UTC) whether their measurements are still needed, however old:
// for a draft, a frozen account that is not published, an objection that is open; for a
// period without a report of an agreement that has published one before it; or because of
// a legal hold.
func (d *Desk) Needed(ctx context.Context, now time.Time) (func(day time.Time) bool, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	var spans []span.Span
	unsettled, err := d.Store.UnsettledReports(ctx)
	if err != nil {
		return nil, err
	}
	for _, u := range unsettled {
		p, err := snap.PeriodNamed(u.Agreement, u.Period)
		if err != nil {
			return nil, fmt.Errorf("the period %s of %s: %w", u.Period, u.Agreement, err)
		}
		spans = append(spans, p.Span())
	}
	published, err := d.Store.AllPublished(ctx)
	if err != nil {
		return nil, err
	}
	of := map[string][]string{}
	for _, p := range published {
		of[p.Agreement] = append(of[p.Agreement], p.Period)
	}
	for agreement, names := range of {
		if e := snap.Agreements[agreement]; e != nil && !e.Retired {
			spans = append(spans, unpublished(snap, agreement, names, span.Of(now.AddDate(0, 0, -store.RawDays)))...)
		}
	}
	holds, err := d.Store.LegalHolds(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range holds {
		if h.LiftedAt == nil {
			from, err := time.Parse(time.DateOnly, h.FirstDay)
			to, failed := time.Parse(time.DateOnly, h.LastDay)
			if err := cmp.Or(err, failed); err != nil {
				return nil, err
			}
			spans = append(spans, span.Span{From: span.Of(from), To: span.Of(to.AddDate(0, 0, 1))})
		}
	}
	return func(day time.Time) bool {
		whole := span.Span{From: span.Of(day), To: span.Of(day.AddDate(0, 0, 1))}
		return slices.ContainsFunc(spans, func(s span.Span) bool {
			s.From, s.To = s.From.Add(-catalogue.Margin), s.To.Add(catalogue.Margin) // what is judged at its edges
			return !s.Intersect(whole).Empty()
		})
	}, nil
}

// unpublished are the periods of an agreement before an instant that have no report, back to
// the first that has one.
func unpublished(snap *catalogue.Snapshot, agreement string, names []string, before span.Instant) []span.Span {
	const most = 1000 // weeks of twenty years
	first := span.Instant(0)
	for i, name := range names {
		if p, err := snap.PeriodNamed(agreement, name); err == nil && (i == 0 || p.Span().From < first) {
			first = p.Span().From
		}
	}
	var out []span.Span
	p, err := snap.PeriodAt(agreement, before)
	for n := 0; err == nil && n < most && p.Span().From > first; n++ {
		if promised, failed := snap.Promises(agreement, p); failed == nil && promised && !slices.Contains(names, p.Name()) {
			out = append(out, p.Span())
		}
		p, err = snap.PeriodBefore(agreement, p)
	}
	return out
}

// Hold keeps the measurements of some days from being dropped until it is lifted. The error
// is a *definition.Fault.
func (d *Desk) Hold(ctx context.Context, first, last, reason string, by trail.By, now time.Time) (id int64, err error) {
	for path, day := range map[string]string{"first_day": first, "last_day": last} {
		if _, err := calendar.ParseDate(day); err != nil {
			return 0, definition.Faultf(path, "%v", err)
		}
	}
	if last < first { // dates, which compare as text
		return 0, definition.Faultf("last_day", "%s is before the first day, %s", last, first)
	}
	if strings.TrimSpace(reason) == "" {
		return 0, definition.Faultf("reason", "say what it is for")
	}
	err = d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		if id, err = q.AddLegalHold(ctx, db.AddLegalHoldParams{FirstDay: first, LastDay: last, Reason: reason, MadeBy: by.Kept(), MadeAt: now}); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "hold", Subject: fmt.Sprintf("legal hold %d", id), Detail: map[string]string{"first_day": first, "last_day": last, "reason": reason}})
	})
	return id, err
}

// Lift ends a legal hold. Of one that is not there, or was lifted, it is catalogue.ErrNotFound.
func (d *Desk) Lift(ctx context.Context, id int64, by trail.By, now time.Time) error {
	return d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		who := by.Kept()
		n, err := q.LiftLegalHold(ctx, db.LiftLegalHoldParams{ID: id, LiftedBy: &who, LiftedAt: &now})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "lift", Subject: fmt.Sprintf("legal hold %d", id)})
	})
}
