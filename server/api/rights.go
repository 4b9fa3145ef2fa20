package api

import (
	"context"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/span"
	"kestite/server/accounting"
)

// sees says whether the person asking sees everything that is measured and defined;
// customers see what was promised to them.
func sees(ctx context.Context) bool { return who(ctx).Rights.May(access.See) }

// promised says whether the person asking may see how an agreement stands in the period
// that begins at an instant.
func promised(ctx context.Context, snap *catalogue.Snapshot, agreement string, from span.Instant) bool {
	return who(ctx).Rights.Promised(snap.Accounting(agreement, from).Spec)
}

// mayAsk says whether an agreement is there for the person asking: it was promised to
// them at some time.
func mayAsk(ctx context.Context, snap *catalogue.Snapshot, agreement string) bool {
	e := snap.Agreements[agreement]
	if e == nil {
		return false
	}
	for _, r := range e.Revisions {
		if who(ctx).Rights.Promised(r.Spec) {
			return true
		}
	}
	return false
}

// shown says whether a row is for the person asking.
func shown(ctx context.Context, snap *catalogue.Snapshot, r accounting.Row) bool {
	if r.Account == nil {
		return who(ctx).Rights.Promised(snap.Agreements[r.Agreement].Current().Spec)
	}
	return promised(ctx, snap, r.Agreement, r.Account.From)
}

// reported says whether the person asking may see the report of an agreement's period.
func reported(ctx context.Context, snap *catalogue.Snapshot, agreement, period string) bool {
	if sees(ctx) {
		return true
	}
	e := snap.Agreements[agreement]
	if e == nil {
		return false
	}
	zone, err := calendar.Zone(e.Current().Spec.Timezone)
	if err != nil {
		return false
	}
	p, err := calendar.ParsePeriod(period, zone)
	return err == nil && promised(ctx, snap, agreement, p.Span().From)
}

// over refuses to do something with an agreement that is about a service of others.
func (s *Server) over(ctx context.Context, needs access.Permission, agreement string) error {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	e := snap.Agreements[agreement]
	if e == nil {
		return catalogue.ErrNotFound
	}
	return who(ctx).Rights.Over(snap, needs, e.Current().Spec.Service)
}

// overReport is over the agreement that a report is about.
func (s *Server) overReport(ctx context.Context, id string) error {
	r, err := s.report(ctx, id)
	if err != nil {
		return err
	}
	return s.over(ctx, access.Publish, r.Agreement)
}
