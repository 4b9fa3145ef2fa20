package publish

import (
	"context"
	"errors"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/span"
	desk "kestite/server/closing"
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
