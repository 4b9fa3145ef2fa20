package closing

import (
	"cmp"
	"context"
	"slices"

	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/credit"
	"kestite/core/money"
	"kestite/core/span"
	"kestite/server/report"
	"kestite/server/store/gen/db"
)

// beside is what is asked of closes beside their accounts, read once for all of them.
type beside struct {
	snap     *catalogue.Snapshot
	objected map[string][]closing.Objected // by agreement
	owes     []credit.Line                 // of suppliers, not settled
	doubts   map[span.Span]map[string][]closing.Doubted
}

// beside reads it for services in some times, by what each of these was closed for.
func (d *Desk) beside(ctx context.Context, snap *catalogue.Snapshot, services map[span.Span][]string) (*beside, error) {
	out := &beside{snap: snap, objected: map[string][]closing.Objected{}, doubts: map[span.Span]map[string][]closing.Doubted{}}
	rows, err := d.Store.OpenObjections(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		out.objected[r.Agreement] = append(out.objected[r.Agreement], closing.Objected{ID: r.ID, Report: r.Report, Period: report.PeriodWords(r.Period), By: r.MadeBy, At: span.Of(r.MadeAt)})
	}
	if d.Shelf != nil && d.Shelf.Credits != nil {
		_, lines, err := d.Shelf.Credits.Ledger(ctx)
		if err != nil {
			return nil, err
		}
		for _, l := range lines {
			if l.Says.Direction == credit.FromSupplier && l.Open > 0 && (l.State == credit.Due || l.State == credit.Claimed) {
				out.owes = append(out.owes, l)
			}
		}
	}
	for within, list := range services {
		if out.doubts[within], err = d.doubts(ctx, snap, within, list); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// doubts are those of the checks of services, and of all that these need, by service.
func (d *Desk) doubts(ctx context.Context, snap *catalogue.Snapshot, within span.Span, services []string) (map[string][]closing.Doubted, error) {
	var checks []string
	for _, s := range snap.Needed(within, services...) {
		checks = append(checks, snap.ChecksOf[s]...)
	}
	rows, err := d.Store.DoubtsOf(ctx, db.DoubtsOfParams{Checks: checks, FromAt: within.From.Time(), UntilAt: within.To.Time()})
	if err != nil {
		return nil, err
	}
	out := map[string][]closing.Doubted{}
	for _, r := range rows {
		e := snap.Checks[r.CheckID]
		if e == nil {
			continue
		}
		service := e.Current().Spec.Service
		out[service] = append(out[service], closing.Doubted{Location: r.Location, Span: span.Span{From: span.Of(r.FirstAt), To: span.Of(r.LastAt).Add(span.Hour)}, Late: r.Late, Unsure: r.Unsure, WorstMS: int64(r.WorstMs)})
	}
	return out, nil
}

// fill adds it to the facts of one close.
func (b *beside) fill(f *closing.Facts, agreement, service string, within span.Span) {
	f.Objected = b.objected[agreement]
	needed := b.snap.Needed(within, service)
	for _, l := range b.owes {
		if l.Agreement != agreement && slices.Contains(needed, b.snap.ServiceOf(l.Agreement)) && l.During.From < within.To && within.From < l.During.To {
			f.Owes = append(f.Owes, closing.Owes{Agreement: l.Agreement, Period: report.PeriodWords(l.Period), Open: money.Words(l.Open, l.Says.Currency), Claimed: l.State == credit.Claimed})
		}
	}
	by := map[string]closing.Doubted{}
	for _, s := range needed {
		for _, d := range b.doubts[within][s] {
			had, has := by[d.Location]
			if has {
				d = closing.Doubted{Location: d.Location, Span: span.Span{From: min(had.Span.From, d.Span.From), To: max(had.Span.To, d.Span.To)}, Late: had.Late + d.Late, Unsure: had.Unsure + d.Unsure, WorstMS: max(had.WorstMS, d.WorstMS)}
			}
			by[d.Location] = d
		}
	}
	for _, d := range by {
		d.Span = d.Span.Intersect(within)
		f.Doubts = append(f.Doubts, d)
	}
	slices.SortFunc(f.Doubts, func(x, y closing.Doubted) int { return cmp.Compare(x.Location, y.Location) })
}
