package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/publication"
	"kestite/core/span"
	"kestite/server/notifying"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// lateness is how long after it was due a schedule is still followed, where no server was there.
const lateness = 31 * span.Day

// Scheduled drafts the reports that are due by the schedules of customers, each once,
// publishes those that a standing approval lets it, and tells those who publish. One that
// cannot be drafted or published holds no other up, and is told.
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

// done is what a schedule has done, in lines for who publishes.
type done struct{ drafted, published, left []string }

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
	name := snap.Customers[customer].Current().Spec.Name
	by := trail.By{Name: "the schedule of " + name}
	var standing *publication.Standing
	var signed *definition.Signature
	if s.Publish {
		if standing, signed, err = d.standing(ctx, customer); err != nil {
			return err
		}
	}
	var did done
	for _, a := range catalogue.Live(snap.Agreements) {
		p, due := lastOf(snap, a, customer, at)
		if !due {
			continue
		}
		if err := d.dueReport(ctx, snap, a, p, s.Publish, standing, signed, by, now, &did); err != nil {
			return err
		}
	}
	return d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := q.AddScheduleRun(ctx, db.AddScheduleRunParams{Customer: customer, DueAt: at.Time(), RanAt: now, Drafted: int32(len(did.drafted) + len(did.published))})
		if err != nil || n == 0 || len(did.drafted)+len(did.published)+len(did.left) == 0 || d.Notices == nil {
			return err
		}
		to, err := notifying.WhoMay(ctx, q, "", func(_ string, may access.Rights) bool { return may.Needs(access.Publish) == nil })
		if err != nil {
			return err
		}
		subject := "Reports to publish: " + name
		if len(did.drafted)+len(did.left) == 0 {
			subject = "Reports were published: " + name
		}
		return d.Notices.Say(ctx, q, to, fmt.Sprintf("schedule/%s/%d", customer, at), subject, did.words(s)+"\n\n"+d.Notices.URL()+"/reports")
	})
}

func (d done) words(s definition.ReportSchedule) string {
	var out []string
	for _, part := range []struct {
		title string
		lines []string
	}{{"Published at once " + publication.Words(s), d.published}, {"Drafted " + publication.Words(s), d.drafted}, {"Could not be drafted", d.left}} {
		if len(part.lines) > 0 {
			out = append(out, fmt.Sprintf("%s: %d.\n%s", part.title, len(part.lines), strings.Join(part.lines, "\n")))
		}
	}
	return strings.Join(out, "\n\n")
}

// lastOf is the last period of an agreement with a customer that was over at an instant, and
// whether it promises something for it. One that cannot be accounted is said on Standing.
func lastOf(snap *catalogue.Snapshot, agreement, customer string, at span.Instant) (p calendar.Period, is bool) {
	present, err := snap.PeriodAt(agreement, at)
	if err != nil {
		return p, false
	}
	p, err = snap.PeriodBefore(agreement, present)
	if err != nil || snap.Accounting(agreement, p.Span().From).Spec.Customer != customer {
		return p, false
	}
	promised, err := snap.Promises(agreement, p)
	return p, err == nil && promised
}

// dueReport drafts one report, and publishes it at once where that may be. What was drafted
// by the same schedule before, by a server that died, is gone on with.
func (d *Desk) dueReport(ctx context.Context, snap *catalogue.Snapshot, agreement string, p calendar.Period, publish bool, standing *publication.Standing, signed *definition.Signature, by trail.By,
	now time.Time, did *done) error {
	open, err := d.Store.OpenDraft(ctx, db.OpenDraftParams{Agreement: agreement, Period: p.Name()})
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return err
	}
	if open != "" {
		r, err := d.Store.Report(ctx, open)
		if err != nil {
			return err
		}
		if r.MadeBy != by.Kept() || !publish {
			return nil // somebody is at it
		}
	} else if has, err := d.Store.HasReport(ctx, db.HasReportParams{Agreement: agreement, Period: p.Name()}); err != nil || has {
		return err
	}
	name := snap.Named(catalogue.Agreement, agreement) + ", " + report.PeriodWords(p.Name())
	id, err := d.Draft(ctx, agreement, p.Name(), "", by, now)
	if err != nil {
		did.left = append(did.left, name+": "+err.Error())
		return nil
	}
	if !publish {
		did.drafted = append(did.drafted, name)
		return nil
	}
	if why := d.atOnce(ctx, snap, id, standing, signed, by, now); why != nil && !errors.Is(why, ErrPublished) {
		var fault *definition.Fault
		text := why.Error()
		if errors.As(why, &fault) {
			text = fault.Message
		}
		did.drafted = append(did.drafted, name+": not published, because "+text)
		return nil
	}
	did.published = append(did.published, name)
	return nil
}

// atOnce publishes a draft under a standing approval, or says why not.
func (d *Desk) atOnce(ctx context.Context, snap *catalogue.Snapshot, id string, standing *publication.Standing, signed *definition.Signature, by trail.By, now time.Time) error {
	r, err := d.Store.Report(ctx, id)
	if err != nil {
		return err
	}
	c, _, err := d.content(ctx, r, now, true)
	if err != nil {
		return err
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return err
	}
	if err := publication.AtOnce(standing, now.In(zone).Format(time.DateOnly), c.Account.Verdict, len(c.Adjustments)); err != nil {
		return err
	}
	c.Standing = signed
	says, err := report.Seen(c)
	if err != nil {
		return err
	}
	return d.publish(ctx, id, says, signed, by, now)
}

// standing is who lets the schedule of a customer publish; nil where nobody does.
func (d *Desk) standing(ctx context.Context, customer string) (*publication.Standing, *definition.Signature, error) {
	row, err := d.Store.StandingApproval(ctx, customer)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	rights := access.Rights{Role: access.Role(row.Role), Teams: row.Teams}
	may := !row.Disabled && rights.Needs(access.Approve) == nil
	return &publication.Standing{Name: row.Name, Until: row.UntilDay, May: may}, &definition.Signature{ID: row.GivenBy, Name: row.Name, At: span.Of(row.GivenAt)}, nil
}

// StandFor lets the schedule of a customer publish at once until a day, 2006-01-02, or until
// it is withdrawn. The error is a *definition.Fault, or catalogue.ErrNotFound.
func (d *Desk) StandFor(ctx context.Context, customer, until string, by trail.By, now time.Time) error {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	if e := snap.Customers[customer]; e == nil || e.Retired {
		return catalogue.ErrNotFound
	}
	var last *string
	if until != "" {
		if _, err := calendar.ParseDate(until); err != nil {
			return definition.Faultf("until", "%v", err)
		}
		zone, err := calendar.Zone(snap.Timezone)
		if err != nil {
			return err
		}
		if today := now.In(zone).Format(time.DateOnly); until < today {
			return definition.Faultf("until", "%s is over; take a day to come", until)
		}
		last = &until
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext($1))", "standing approval "+customer); err != nil {
			return err
		}
		if _, err := q.WithdrawStandingApproval(ctx, db.WithdrawStandingApprovalParams{Customer: customer, WithdrawnBy: &by.Person, WithdrawnAt: &now}); err != nil {
			return err
		}
		if _, err := q.GiveStandingApproval(ctx, db.GiveStandingApprovalParams{Customer: customer, GivenBy: by.Person, GivenAt: now, UntilDay: last}); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "stand for reports", Subject: "customer " + customer, Detail: map[string]string{"until": until}})
	})
}

// StandDown withdraws what StandFor gave. Where nothing was, it is catalogue.ErrNotFound.
func (d *Desk) StandDown(ctx context.Context, customer string, by trail.By, now time.Time) error {
	return d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := q.WithdrawStandingApproval(ctx, db.WithdrawStandingApprovalParams{Customer: customer, WithdrawnBy: &by.Person, WithdrawnAt: &now})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "withdraw standing approval", Subject: "customer " + customer, Detail: map[string]string{}})
	})
}
