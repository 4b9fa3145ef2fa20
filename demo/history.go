package demo

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"kestite/agent"
	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/credit"
	"kestite/core/measure"
	"kestite/core/money"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/ingest"
	"kestite/server/judge"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"

	"kestite/server"
)

// Months of history before the present one.
const Months = 12

// rawDays are kept raw.
const rawDays = 3

// Load fills an empty installation with the scenario and its history of some months
// and up to now, by the server's clock; five are the least, since reports are published
// of the first of them. tell is told what it is at.
func Load(ctx context.Context, srv *server.Server, months int, tell func(string)) error {
	now := srv.API.Store.Now()
	loc, err := calendar.Zone(Zone)
	if err != nil {
		return err
	}
	end := span.Of(now)
	start := calendar.MonthAt(end, loc).Next(-months).Span().From
	tell("definitions")
	if err := define(ctx, srv.API, start.Time().In(loc)); err != nil {
		return err
	}
	tell(fmt.Sprintf("%d months of measurements", months+1))
	script := newScript(start, end, loc)
	if err := generate(ctx, srv, script); err != nil {
		return err
	}
	tell("incidents of past months")
	if err := troubled(ctx, srv, end, loc); err != nil {
		return err
	}
	tell("states")
	var ids []string
	for _, s := range subjects {
		ids = append(ids, s.id)
	}
	if err := srv.Judge.Services(ctx, ids); err != nil {
		return err
	}
	if err := planned(ctx, srv.API, now, loc); err != nil {
		return err
	}
	tell("reports of past months")
	return reports(ctx, srv, calendar.MonthAt(end, loc), loc, now)
}

// reports publishes the months before the last one; that one is left to do.
func reports(ctx context.Context, srv *server.Server, present calendar.Period, loc *time.Location, now time.Time) error {
	const published = 3
	mikkel, err := by(ctx, srv.API, 1)
	if err != nil {
		return err
	}
	notices := srv.API.Desk.Notices
	srv.API.Desk.Notices = nil // who approved a report months ago is told nothing today
	defer func() { srv.API.Desk.Notices = notices }()
	for n := published + 1; n >= 2; n-- {
		m := present.Next(-n)
		at := m.Span().To.Add(3*span.Day + 9*span.Hour).Time()
		for _, p := range promises {
			if p.spec.Customer == "" && p.spec.Fee == nil {
				continue
			}
			id, err := srv.API.Desk.Draft(ctx, p.id, m.Name(), "", mikkel, at)
			if err != nil {
				return fmt.Errorf("draft the report of %s for %s: %w", p.id, m.Name(), err)
			}
			if err := approve(ctx, srv, id, at); err != nil {
				return fmt.Errorf("approve the report of %s for %s: %w", p.id, m.Name(), err)
			}
			if err := srv.API.Desk.Publish(ctx, id, "", mikkel, at); err != nil {
				return fmt.Errorf("publish the report of %s for %s: %w", p.id, m.Name(), err)
			}
		}
	}
	if err := settled(ctx, srv, mikkel); err != nil {
		return err
	}
	// What was due by schedules so far is left to whoever looks at the demo.
	for id := range customers {
		if _, err := srv.API.Store.AddScheduleRun(ctx, db.AddScheduleRunParams{Customer: id, DueAt: now, RanAt: now}); err != nil {
			return err
		}
	}
	return objected(ctx, srv, present)
}

// objected is what the port authority says of the gates' latest report.
func objected(ctx context.Context, srv *server.Server, present calendar.Period) error {
	const customer = 6
	tove, err := by(ctx, srv.API, customer)
	if err != nil {
		return err
	}
	list, err := srv.API.Store.ReportList(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		if r.Agreement == "gates-port-authority" && r.Period == present.Next(-2).Name() {
			of, err := srv.API.Store.Report(ctx, r.ID)
			if err != nil {
				return err
			}
			_, err = srv.API.Desk.Object(ctx, of, "Down", "Gate 3 stood still on the 9th from 07:40 to 08:05; our own log has it, your report does not.", tove, r.PublishedAt.AddDate(0, 0, 12))
			return err
		}
	}
	return nil
}

// approve approves a draft as another than who drafted it, where its customer wants that.
func approve(ctx context.Context, srv *server.Server, id string, at time.Time) error {
	r, err := srv.API.Store.Report(ctx, id)
	if err != nil {
		return err
	}
	needed, err := srv.API.Desk.NeedsApproval(ctx, r)
	if err != nil || !needed {
		return err
	}
	c, _, err := srv.API.Desk.Content(ctx, r, at)
	if err != nil {
		return err
	}
	seen, err := report.Seen(c)
	if err != nil {
		return err
	}
	second, err := by(ctx, srv.API, 2)
	if err != nil {
		return err
	}
	return srv.API.Desk.Approve(ctx, id, seen, second, access.Rights{Role: access.Approver}, at)
}

// settled claims and pays the credits of the first months that were published.
func settled(ctx context.Context, srv *server.Server, by trail.By) error {
	_, lines, err := srv.API.Credits.Ledger(ctx)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, l := range lines {
		if l.Due == 0 || seen[l.Agreement] {
			continue
		}
		seen[l.Agreement] = true
		amount, on := money.Write(l.Due, l.Says.Currency), l.PublishedAt.Time()
		for _, e := range []credit.Entry{
			{Kind: credit.Claim, On: on.AddDate(0, 0, 6).Format(time.DateOnly), Reference: "letter of the " + on.AddDate(0, 0, 6).Format("2 January")},
			{Kind: credit.Payment, On: on.AddDate(0, 0, 17).Format(time.DateOnly), Reference: "set off against the next bill"},
		} {
			e.Agreement, e.Period = l.Agreement, l.Period
			if _, err := srv.API.Credits.Add(ctx, e, amount, by); err != nil {
				return err
			}
		}
	}
	return nil
}

// laneHistory is what the generator makes of one lane.
type laneHistory struct {
	series    verdict.Series
	stretches []verdict.Stretch
	hours     []db.CopyHoursParams
	raw       [][]any
}

func generate(ctx context.Context, srv *server.Server, s *script) error {
	q := srv.API.Store
	days := map[time.Time]bool{}
	rawFrom := s.to.Add(-rawDays * span.Day)
	for d := rawFrom; d <= s.to.Add(span.Day); d = d.Add(span.Day) {
		days[d.Time().Truncate(24*time.Hour)] = true
	}
	for _, c := range checks() {
		for _, l := range c.spec.Locations {
			for _, e := range s.lane(c.spec.Service, l) {
				for _, at := range []span.Instant{e.From.Add(-rawAround), e.From.Add(rawAround), e.To.Add(-rawAround), e.To.Add(rawAround)} {
					days[at.Time().Truncate(24*time.Hour)] = true
				}
			}
		}
	}
	if err := q.EnsurePartitions(ctx, days); err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for _, c := range checks() {
		for _, l := range c.spec.Locations {
			group.Go(func() error {
				if err := q.EnsureLanes(ctx, db.EnsureLanesParams{Column1: []string{c.id}, Column2: []string{l}}); err != nil {
					return err
				}
				lane, err := laneID(ctx, q.Queries, c.id, l)
				if err != nil {
					return err
				}
				h := measureAll(c, l, lane, s, rawFrom)
				if err := save(ctx, srv, lane, h); err != nil {
					return fmt.Errorf("history of %s at %s: %w", c.id, l, err)
				}
				return nil
			})
		}
	}
	return group.Wait()
}

func laneID(ctx context.Context, q *db.Queries, check, location string) (int32, error) {
	lanes, err := q.LanesOfChecks(ctx, []string{check})
	for _, l := range lanes {
		if l.Location == location {
			return l.ID, nil
		}
	}
	return 0, fmt.Errorf("no lane for %s at %s: %v", check, location, err)
}

// measureAll makes the measurements of a lane, one by one, and lets the real
// rules judge them.
func measureAll(c checkDef, location string, lane int32, s *script, rawFrom span.Instant) laneHistory {
	step := c.spec.IntervalS * span.Second
	phase := agent.Phase(c.id, location, time.Duration(c.spec.IntervalS)*time.Second).Milliseconds()
	at := s.from.Add(phase - int64(s.from)%step)
	if at < s.from {
		at = at.Add(step)
	}
	kind, _ := measure.KindNamed(c.spec.Kind)
	r := seeded(c.id, location, "values")
	settings := verdict.SettingsOf(c.spec.Revision(c.id))
	events := s.lane(c.spec.Service, location)
	var h laneHistory
	var hour judge.Hour
	hourAt := at.Time().Truncate(time.Hour)
	failed := false
	for ; at < s.to; at = at.Add(step) {
		for len(events) > 0 && events[0].To.Add(rawAround) <= at {
			events = events[1:]
		}
		when := at.Add(r.Int64N(4)) // starts are a few ms late
		values, ok := sample(kind, c, events, at, r, failed)
		if !ok {
			continue
		}
		outcome, detail := verdictOf(kind, c, values)
		failed = outcome == measure.Failed
		if t := when.Time().Truncate(time.Hour); t != hourAt {
			h.hours = append(h.hours, db.CopyHoursParams(hour.Row(lane, hourAt)))
			hour, hourAt = judge.Hour{}, t
		}
		hour.Add(outcome, values[kind.Leading])
		h.stretches = h.series.Add(h.stretches, when, severity(outcome), settings)
		if when >= rawFrom || near(events, when) {
			h.raw = append(h.raw, rawRow(lane, when, outcome, values, when.Time().Sub(at.Time()), detail))
		}
	}
	if hour.Count > 0 {
		h.hours = append(h.hours, db.CopyHoursParams(hour.Row(lane, hourAt)))
	}
	return h
}

// rawAround is how long before and after an edge of an event the measurements
// themselves are kept, ms: what happened can be explained down to them.
const rawAround = 4 * span.Minute

// near says whether an instant is close to an edge of one of the events that are
// not over, or of the one before.
func near(events []event, at span.Instant) bool {
	for _, e := range events {
		if e.From.Add(-rawAround) > at {
			return false
		}
		for _, edge := range []span.Instant{e.From, e.To} {
			if edge.Add(-rawAround) <= at && at <= edge.Add(rawAround) {
				return true
			}
		}
	}
	return false
}

func severity(o measure.Outcome) verdict.State {
	return map[measure.Outcome]verdict.State{measure.OK: verdict.Up, measure.Degraded: verdict.Degraded, measure.Failed: verdict.Down}[o]
}

func rawRow(lane int32, at span.Instant, o measure.Outcome, values []float64, late time.Duration, detail string) []any {
	short := make([]float32, len(values))
	for i, v := range values {
		short[i] = float32(math.Round(v*1000) / 1000)
	}
	var text *string
	if detail != "" {
		text = &detail
	}
	return []any{lane, at.Time(), int16(o), short, int32(late.Milliseconds()), text}
}

// sample makes the values of one measurement; false when nothing was measured. failed
// says that the one before did.
func sample(kind measure.Kind, c checkDef, events []event, at span.Instant, r *rand.Rand, failed bool) ([]float64, bool) {
	down, slowed := false, false
	for _, e := range events {
		if e.From > at {
			break
		}
		if !e.Contains(at) {
			continue
		}
		switch e.effect {
		case silent:
			return nil, false
		case fails:
			down = true
		case slow:
			slowed = true
		case shaky:
			down = down || int64(at)/int64(interval*span.Second)%5 == 0
		}
	}
	const blips = 12000 // one measurement in so many fails by itself, never two in a row: that would be an outage
	if r.IntN(blips) == 0 && !failed {
		down = true
	}
	values := kind.None()
	// Busier by day: up to 40 % slower around noon UTC.
	busy := 1 + 0.2*(1-math.Cos(2*math.Pi*float64(int64(at)%span.Day)/float64(span.Day)))
	base := c.latency * busy * (0.85 + 0.25*r.Float64() + 0.2*r.Float64()*r.Float64()*r.Float64())
	if kind.Name == measure.Ping.Name {
		if down {
			values[measure.TripLoss] = 100
			return values, true
		}
		trip(values, 0, base*0.9, base, base*1.3)
		values[measure.PingJitter] = base * 0.12
		return values, true
	}
	if down && kind.Name != measure.Derived.Name {
		if kind.Name == measure.Path.Name || kind.Name == measure.UDP.Name {
			values[measure.TripLoss] = 100
		}
		return values, true
	}
	switch kind.Name {
	case measure.Path.Name:
		trip(values, 0, base*0.98, base, base*1.06)
		values[measure.PathHops], values[measure.PathRouteChanged], values[measure.PathRoute] = 5, 0, float64(farRoute.Fingerprint())
		return values, true
	case measure.UDP.Name:
		trip(values, 0, base*0.8, base, base*1.6)
		values[measure.UDPJitterThere], values[measure.UDPJitterBack], values[measure.UDPReordered] = base*0.1, base*0.1, 0
		values[measure.UDPRating] = measure.G711.Rating(base, base*0.1, 0)
		values[measure.UDPMOS] = measure.MOS(values[measure.UDPRating])
		return values, true
	case measure.ReportIn.Name:
		values[measure.ReportInSince], values[measure.ReportInSince+1] = 60, 12
		return values, true
	case measure.Derived.Name:
		values[measure.DerivedValue], values[measure.DerivedSources] = base, 2
		return values, true
	case measure.TCP.Name:
		values[measure.TCPConnect] = base
		return values, true
	case measure.DNS.Name:
		values[measure.DNSTotal], values[measure.DNSAnswers], values[measure.DNSTTL] = base, 1, 300
		return values, true
	case measure.Certificate.Name:
		// Renewed every 60 days, 30 before its end.
		left := 90 - float64(int64(at)%(60*span.Day))/float64(span.Day)
		values[measure.CertificateDaysLeft], values[measure.CertificateChain] = left, left
		values[measure.CertificateKeyBits], values[measure.CertificateTLS] = 256, 1.3
		values[measure.CertificateConnect], values[measure.CertificateShake] = base*0.08, base*0.3
		return values, true
	}
	if slowed {
		base += 1000 + 700*r.Float64()
	}
	// No name lookup: the targets are addresses.
	values[measure.HTTPTotal], values[measure.HTTPConnect], values[measure.HTTPFirstByte] = base, base*0.08, base*0.7
	values[measure.HTTPStatus], values[measure.HTTPSize], values[measure.HTTPBody], values[measure.HTTPRedirects] = 200, 96, base*0.02, 0
	if c.spec.HTTP.JSONPath != "" {
		hour := float64(int64(at)%span.Day) / float64(span.Hour)
		values[measure.HTTPValue] = math.Round(8 + 40*(0.5-0.5*math.Cos(2*math.Pi*hour/24)))
	}
	return values, true
}

// trip fills in what counts round trips.
func trip(values []float64, loss, least, mean, most float64) {
	values[measure.TripLoss], values[measure.TripLeast], values[measure.TripMean], values[measure.TripMost] = loss, least, mean, most
}

// farRoute is the simulated route as measurements see it.
var farRoute = func() measure.Route {
	r := measure.Route{Reached: true}
	for _, h := range append(route("198.18.1.1", "198.18.8.1", "198.18.8.6", "198.18.4.1"), farQuay) {
		r.Hops = append(r.Hops, []string{h.String()})
	}
	return r
}()

// verdictOf is the outcome that the check's own limits make of the values.
func verdictOf(kind measure.Kind, c checkDef, values []float64) (measure.Outcome, string) {
	if kind.Name != measure.Ping.Name && math.IsNaN(values[kind.Leading]) {
		if kind.Name == measure.DNS.Name {
			return measure.Failed, "no answer from " + c.spec.DNS.Resolver + " within 2000 ms"
		}
		switch kind.Name {
		case measure.Path.Name:
			return measure.Failed, "silence after hop 2 (198.18.8.1), 7 hops further"
		case measure.UDP.Name:
			return measure.Failed, "none of 50 packets came back"
		case measure.ReportIn.Name:
			return measure.Failed, "no report within 60 s and 30 s of grace"
		}
		return measure.Failed, "connection refused"
	}
	if kind.Name == measure.HTTP.Name && values[measure.HTTPTotal] <= 1000 || kind.Name == measure.Derived.Name {
		return measure.OK, ""
	}
	if kind.Name == measure.Ping.Name && values[measure.TripLoss] == 0 {
		return measure.OK, ""
	}
	return kind.Rate(values, c.spec.Limits)
}

func save(ctx context.Context, srv *server.Server, lane int32, h laneHistory) error {
	return srv.API.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if _, err := q.CopyHours(ctx, h.hours); err != nil {
			return err
		}
		columns := []string{"lane", "at", "outcome", "measures", "late_ms", "detail"}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"measurement"}, columns, pgx.CopyFromRows(h.raw)); err != nil {
			return err
		}
		return ingest.Seed(ctx, tx, q, lane, h.series, h.stretches)
	})
}
