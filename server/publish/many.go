package publish

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/publication"
	"kestite/core/span"
	desk "kestite/server/closing"
	"kestite/server/notifying"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Outcome is what became of one report among many.
type Outcome struct {
	Agreement, Name, Customer, Period string
	Report                            string // id; empty: there is none
	Published                         bool
	Why                               error // why not; nil with Published false: it was published before
}

// Which are the reports that are published together.
type Which struct {
	Band     calendar.Period // periods that end within it, and are over
	Customer string          // of one customer; empty: of all, and internal ones
	Unclosed bool            // those too that nobody closed
}

// Many drafts and publishes the reports of all agreements that have a finished period
// within a band and none published for it, one after the other: one that cannot be
// published harms no other. tell is called with each.
func (d *Desk) Many(ctx context.Context, of Which, by trail.By, now func() time.Time, tell func(Outcome)) error {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	for _, id := range catalogue.Live(snap.Agreements) {
		if err := ctx.Err(); err != nil {
			return err
		}
		for _, p := range finished(snap, id, of.Band.Span(), span.Of(now())) {
			spec := snap.Accounting(id, p.Span().From).Spec
			if of.Customer != "" && spec.Customer != of.Customer {
				continue
			}
			o := Outcome{Agreement: id, Name: spec.Name, Customer: snap.Whom(spec), Period: p.Name()}
			o.Report, o.Published, o.Why = d.one(ctx, id, p.Name(), of.Unclosed, by, now())
			tell(o)
		}
	}
	return nil
}

// finished are the periods of an agreement that end within a time and are over by now, and
// for which it promises something.
func finished(snap *catalogue.Snapshot, agreement string, within span.Span, now span.Instant) []calendar.Period {
	var out []calendar.Period
	p, err := snap.PeriodAt(agreement, within.To-1)
	for err == nil && p.Span().To > within.From {
		if end := p.Span().To; end <= within.To && end <= now {
			if promised, failed := snap.Promises(agreement, p); failed == nil && promised {
				out = append(out, p)
			}
		}
		p, err = snap.PeriodBefore(agreement, p)
	}
	slices.Reverse(out)
	return out
}

// one publishes the report of a period, unless that was done.
func (d *Desk) one(ctx context.Context, agreement, period string, unclosed bool, by trail.By, now time.Time) (id string, published bool, err error) {
	has, err := d.Store.HasPublished(ctx, db.HasPublishedParams{Agreement: agreement, Period: period})
	if err != nil || has {
		return "", false, err
	}
	if !unclosed {
		frozen, err := desk.FrozenOf(ctx, d.Store.Queries, desk.Period{Agreement: agreement, Name: period})
		if err != nil {
			return "", false, err
		}
		if frozen == nil {
			return "", false, ErrUnclosed
		}
	}
	if id, err = d.Draft(ctx, agreement, period, "", by, now); err != nil {
		return "", false, err
	}
	// Where another command published it in between, this is the draft of a revision, which nobody asked for.
	if has, err := d.Store.HasPublished(ctx, db.HasPublishedParams{Agreement: agreement, Period: period}); err != nil || has {
		return "", false, errors.Join(err, d.Drop(ctx, id, by))
	}
	if err := d.Publish(ctx, id, "", by, now); err != nil {
		return id, false, err
	}
	return id, true, nil
}

// ErrUnclosed is a period whose account nobody has frozen.
var ErrUnclosed = errors.New("its account was not frozen; close the period first")

// lateness is how long after it was due a schedule is still followed, where no server was there.
const lateness = 31 * span.Day

// Scheduled drafts the reports that are due by the schedules of customers, each once, and
// tells those who publish them. One that cannot be drafted holds no other up, and is told.
func (d *Desk) Scheduled(ctx context.Context, now time.Time) error {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	var failed error
	for _, id := range catalogue.Live(snap.Customers) {
		if s := snap.Customers[id].Current().Spec.Schedule; s != nil {
			if err := d.scheduled(ctx, snap, id, *s, now); err != nil {
				failed = errors.Join(failed, fmt.Errorf("the schedule of %s: %w", id, err))
			}
		}
	}
	return failed
}

func (d *Desk) scheduled(ctx context.Context, snap *catalogue.Snapshot, customer string, s definition.ReportSchedule, now time.Time) error {
	last, err := d.Store.LastScheduleRun(ctx, customer)
	if err != nil {
		return err
	}
	// What was due before the schedule was made is not made up for.
	since := max(span.Of(last), snap.Customers[customer].Current().From, span.Of(now).Add(-lateness))
	due, err := publication.Due(s, snap.HolidayDates(s.HolidayLists), since, span.Of(now))
	if err != nil || len(due) == 0 {
		return err
	}
	at := due[len(due)-1]
	spec := snap.Customers[customer].Current().Spec
	by := trail.By{Name: "the schedule of " + spec.Name}
	var drafted, left []string
	first := ""
	for _, a := range catalogue.Live(snap.Agreements) {
		present, err := snap.PeriodAt(a, at)
		if err != nil {
			continue // Standing says that it cannot be accounted
		}
		p, err := snap.PeriodBefore(a, present)
		if err != nil || snap.Accounting(a, p.Span().From).Spec.Customer != customer {
			continue
		}
		if promised, err := snap.Promises(a, p); err != nil || !promised {
			continue
		}
		if has, err := d.Store.HasReport(ctx, db.HasReportParams{Agreement: a, Period: p.Name()}); err != nil || has {
			if err != nil {
				return err
			}
			continue
		}
		name := snap.Named(catalogue.Agreement, a) + ", " + report.PeriodWords(p.Name())
		id, err := d.Draft(ctx, a, p.Name(), "", by, now)
		if err != nil {
			left = append(left, name+": "+err.Error())
			continue
		}
		drafted = append(drafted, name)
		if first == "" {
			first = id
		}
	}
	return d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := q.AddScheduleRun(ctx, db.AddScheduleRunParams{Customer: customer, DueAt: at.Time(), RanAt: now, Drafted: int32(len(drafted))})
		if err != nil || n == 0 || len(drafted)+len(left) == 0 || d.Notices == nil {
			return err
		}
		to, err := notifying.WhoMay(ctx, q, "", func(_ string, may access.Rights) bool { return may.Needs(access.Publish) == nil })
		if err != nil {
			return err
		}
		text := fmt.Sprintf("Drafted %s: %d.\n%s", publication.Words(s), len(drafted), strings.Join(drafted, "\n"))
		if len(left) > 0 {
			text += "\n\nCould not be drafted:\n" + strings.Join(left, "\n")
		}
		return d.Notices.Say(ctx, q, to, fmt.Sprintf("schedule/%s/%d", customer, at), "Reports to publish: "+spec.Name, text+"\n\n"+d.Notices.URL()+"/reports")
	})
}
