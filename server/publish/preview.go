package publish

import (
	"context"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/report"
)

// Preview prints the latest finished period of an agreement as a layout would. The error is
// a *definition.Fault where there is none, or catalogue.ErrNotFound.
func (d *Desk) Preview(ctx context.Context, layout definition.LayoutSpec, agreement string, now time.Time) ([]byte, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[agreement] == nil {
		return nil, catalogue.ErrNotFound
	}
	last, err := latest(snap, agreement, span.Of(now))
	if err != nil {
		return nil, err
	}
	a, p, err := d.Books.Account(ctx, agreement, last.Name(), now)
	if err != nil {
		return nil, err
	}
	about := report.SubjectOf(snap, agreement, last.Name(), a)
	about.Number = 1
	c, err := report.New(about, a)
	if err != nil {
		return nil, err
	}
	laid := report.LaidAs(layout)
	laid.CustomerLogo = report.LaidBy(snap, about.Spec).CustomerLogo
	if err := d.Shelf.FillAs(ctx, snap, p, a, &c, false, laid); err != nil {
		return nil, err
	}
	logos, err := c.Logos(ctx, d.Store.Queries)
	if err != nil {
		return nil, definition.Faultf("logo", "%v; upload it again", err)
	}
	return report.PDF(c, now, "", logos)
}

// latest is the last period of an agreement that is over and for which it promises something.
func latest(snap *catalogue.Snapshot, agreement string, now span.Instant) (calendar.Period, error) {
	present, err := snap.PeriodAt(agreement, now)
	if err != nil {
		return present, err
	}
	p, err := snap.PeriodBefore(agreement, present)
	if err != nil {
		return p, err
	}
	if promised, err := snap.Promises(agreement, p); err != nil || !promised {
		return p, definition.Faultf("agreement", "no period of it is over yet; choose another one to look at")
	}
	return p, nil
}
