package history_test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/evidence"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/report"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const vectors = "../../testdata/vectors"

// unenterable are vectors that people cannot enter, with what of them the product does not
// take from anybody. Their accounts are compared by the program's own reading of evidence.
var unenterable = map[string]string{
	"25-agreement-dates":      "agreements begin and end with days",
	"37-service-in-force":     "a service is not retired while a check of it is in force",
	"47-emergency-by-default": "of work that is entered after it began the rest is planned from then on, and is announced in time where no notice is asked for",
}

// lead is how long before its period a vector's definitions were made, unless it says when.
const lead = 40 * span.Day

// event is a change at an instant.
type event struct {
	at   span.Instant
	step catalogue.Step
}

// entered are the changes by which people would have come to the definitions of a bundle, in
// the order of time.
func entered(b definition.Bundle, period span.Span) []event {
	began := period.From.Add(-lead)
	var out []event
	add := func(at span.Instant, does catalogue.Deed, kind, id string, spec catalogue.Spec) {
		out = append(out, event{at, catalogue.Step{Does: does, Kind: kind, ID: id, Spec: spec}})
	}
	from := func(f *span.Instant) span.Instant {
		if f == nil {
			return began
		}
		return *f
	}
	places := map[string]bool{}
	checks := map[string][]definition.Check{}
	of := map[string]string{}
	services := map[string][]definition.Service{}
	for _, s := range b.Services {
		services[s.ID] = append(services[s.ID], s)
		for _, c := range s.Checks {
			checks[c.ID] = append(checks[c.ID], c)
			of[c.ID] = s.ID
			for _, l := range c.Locations {
				places[l] = true
			}
		}
	}
	for _, l := range slices.Sorted(maps.Keys(places)) {
		add(began, catalogue.Make, catalogue.Location, l, definition.LocationSpec{Name: l})
	}
	made := map[string]bool{}
	var make func(id string)
	make = func(id string) { // what depends on others is made after them
		if made[id] {
			return
		}
		made[id] = true
		first := services[id][0]
		spec := definition.ServiceSpec{Name: id, Kind: first.Kind, Combine: definition.Worst}
		if from(first.From) <= began {
			for _, g := range first.DependsOn {
				for _, other := range g.Services {
					make(other)
				}
			}
			spec = serviceSpec(first)
		}
		add(began, catalogue.Make, catalogue.Service, id, spec)
	}
	for _, id := range slices.Sorted(maps.Keys(services)) {
		make(id)
		for i, s := range services[id] {
			if from(s.From) > began {
				add(from(s.From), catalogue.Rewrite, catalogue.Service, id, serviceSpec(s))
			}
			if s.Until != nil && (i+1 == len(services[id]) || from(services[id][i+1].From) > *s.Until) {
				add(*s.Until, catalogue.Retire, catalogue.Service, id, nil)
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(checks)) {
		list := checks[id]
		slices.SortFunc(list, func(x, y definition.Check) int { return cmp.Compare(from(x.From), from(y.From)) })
		for i, c := range list {
			spec := definition.CheckSpec{Service: of[id], Name: id, Kind: c.Kind, Target: target(c.Kind), IntervalS: c.IntervalS, TimeoutMS: min(1000, c.IntervalS*1000), StaleAfterS: c.StaleAfterS, Confirm: c.Confirm, Recover: c.Recover,
				Rolling: c.Rolling, Quorum: string(c.Quorum), Role: c.Role, Locations: c.Locations}
			does := catalogue.Rewrite
			if i == 0 {
				does = catalogue.Make
			} else if list[i-1].Until != nil && *list[i-1].Until < from(c.From) {
				add(from(c.From), catalogue.Restore, catalogue.Check, id, nil)
			}
			add(from(c.From), does, catalogue.Check, id, spec)
			if c.Until != nil && (i+1 == len(list) || from(list[i+1].From) > *c.Until) {
				add(*c.Until, catalogue.Retire, catalogue.Check, id, nil)
			}
		}
	}
	for _, a := range b.Agreements {
		add(began, catalogue.Make, catalogue.Agreement, a.ID, agreementSpec(a, b.Period.Timezone))
	}
	for _, w := range b.Windows {
		spec := definition.WindowSpec{Name: w.ID, Type: w.OfType(), Services: w.Services, Start: w.Start, Timezone: w.Timezone, DurationS: w.DurationS, RRule: w.RRule, Exdates: w.Exdates}
		does := catalogue.Rewrite
		if key := "window " + w.ID; !made[key] {
			does, made[key] = catalogue.Make, true
		}
		add(w.AnnouncedAt, does, catalogue.Window, w.ID, spec)
		if w.Until != nil && !slices.ContainsFunc(b.Windows, func(x definition.Window) bool { return x.ID == w.ID && x.From != nil && *x.From == *w.Until }) {
			add(*w.Until, catalogue.Retire, catalogue.Window, w.ID, nil)
		}
	}
	for _, a := range b.Adjustments {
		spec := definition.AdjustmentSpec{Agreement: a.Agreement, Period: b.Period.Start + "/" + b.Period.End, From: a.From, To: a.To, Class: a.Class, Cause: cmp.Or(a.Cause, "other"), Reason: cmp.Or(a.Reason, "as written"),
			Reference: a.Reference, State: definition.Proposed, Proposer: definition.Signature{ID: "p", Name: cmp.Or(a.ProposedBy, "Runa")}}
		at := period.To.Add(span.Day)
		if a.Approved {
			spec.State, spec.Decider = definition.Approved, &definition.Signature{ID: "d", Name: cmp.Or(a.ApprovedBy, "Mikkel"), At: at}
			if a.ApprovedAt != nil {
				spec.Decider.At = *a.ApprovedAt
			}
		}
		add(at, catalogue.Make, catalogue.Adjustment, a.ID, spec)
	}
	slices.SortStableFunc(out, func(x, y event) int { return cmp.Compare(x.at, y.at) })
	return out
}

func serviceSpec(s definition.Service) definition.ServiceSpec {
	spec := definition.ServiceSpec{Name: s.ID, Kind: s.Kind, Combine: s.Combine}
	for _, g := range s.DependsOn {
		spec.DependsOn = append(spec.DependsOn, definition.Dependency{Services: g.Services, Need: int(g.Need)})
	}
	return spec
}

func target(kind string) string {
	switch kind {
	case measure.HTTP.Name:
		return "http://127.0.0.1/"
	case measure.TCP.Name, measure.Certificate.Name:
		return "127.0.0.1:9"
	}
	return "127.0.0.1"
}

func agreementSpec(a definition.Agreement, zone string) definition.AgreementSpec {
	day := func(i *span.Instant, add int) string {
		if i == nil {
			return ""
		}
		loc, err := calendar.Zone(zone)
		if err != nil {
			panic(err)
		}
		return i.Time().In(loc).AddDate(0, 0, add).Format(time.DateOnly)
	}
	hours := func(h *definition.ServiceHours) *definition.HoursSpec {
		if h == nil || h.Plan == nil {
			return nil
		}
		return &definition.HoursSpec{WeeklyPlan: *h.Plan}
	}
	spec := definition.AgreementSpec{Name: a.ID, Service: a.Service, Timezone: zone, TargetPercent: a.TargetPercent, From: day(a.From, 0), Until: day(a.Until, -1), DegradedWeightPercent: a.DegradedWeightPercent, Unmeasured: a.Unmeasured,
		MinOutageS: a.MinOutageS, MinCoveragePercent: a.MinCoveragePercent, ServiceHours: hours(&a.ServiceHours), Credits: a.Credits, Latency: a.Latency, Objectives: a.Objectives,
		Maintenance: &definition.MaintenanceSpec{Mode: a.Maintenance.Mode, NoticeS: a.Maintenance.NoticeS, CapS: a.Maintenance.CapS, Within: hours(a.Maintenance.Within), Emergency: a.Maintenance.Emergency}}
	if len(a.Upstream.Excuse) > 0 {
		up := a.Upstream
		spec.Upstream = &up
	}
	return spec
}

// delivered are the rows of measurements.csv as agents deliver them, by location, oldest first.
func delivered(t *testing.T, dir string, known func(check, location string) bool) map[string][]wire.Measurement {
	t.Helper()
	f, err := os.Open(filepath.Join(dir, "measurements.csv"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	column := map[string]int{}
	for i, name := range rows[0] {
		column[strings.TrimPrefix(name, "\ufeff")] = i
	}
	out := map[string][]wire.Measurement{}
	for _, row := range rows[1:] {
		get := func(name string) string { return row[column[name]] }
		if !known(get("check"), get("location")) {
			continue
		}
		m := wire.Measurement{Check: get("check"), Measures: map[string]float64{}}
		if m.At, err = span.ParseInstant(get("at")); err != nil {
			t.Fatal(err)
		}
		if m.Outcome, err = measure.ParseOutcome(get("outcome")); err != nil {
			t.Fatal(err)
		}
		for name, i := range column {
			if v, err := strconv.ParseFloat(row[i], 64); err == nil && name != "check" && name != "location" && name != "at" {
				m.Measures[name] = v
			}
		}
		out[get("location")] = append(out[get("location")], m)
	}
	for _, list := range out {
		slices.SortStableFunc(list, func(x, y wire.Measurement) int { return cmp.Compare(x.At, y.At) })
	}
	return out
}

// enter brings a vector into a server as people and agents would: by changes at the times
// they were made at, and by deliveries.
func enter(t *testing.T, srv *server.Server, clock *atomic.Int64, dir string, b definition.Bundle, period span.Span) error {
	t.Helper()
	ctx := context.Background()
	by := trail.By{Name: "Astrid"}
	events := entered(b, period)
	for len(events) > 0 {
		n := 1
		for n < len(events) && events[n].at == events[0].at {
			n++
		}
		var steps []catalogue.Step
		for _, e := range events[:n] {
			steps = append(steps, e.step)
		}
		if err := apply(srv, by, events[0].at, steps); err != nil {
			return fmt.Errorf("at %s: %w", events[0].at, err)
		}
		events = events[n:]
	}
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	url := servertest.Serve(t, srv)
	// Agents deliver as they measure: by each delivery it is as late as what was measured
	// last. What comes after the instant that is accounted up to is not there yet.
	last := span.End
	if b.AsOf != nil {
		last = *b.AsOf
	}
	tokens := map[string]string{}
	const part = 2000
	for _, rows := range hourly(delivered(t, dir, func(check, location string) bool {
		return snap.Checks[check] != nil && snap.Locations[location] != nil
	}), last, part) {
		if tokens[rows.location] == "" {
			tokens[rows.location] = servertest.Agent(t, srv, rows.location)
		}
		clock.Store(int64(rows.list[len(rows.list)-1].At))
		if a := servertest.DeliverPacked(t, url, tokens[rows.location], servertest.Packed(t, wire.Batch{Measurements: rows.list})); a.Status != http.StatusOK {
			return fmt.Errorf("%s", a)
		}
	}
	return nil
}

// delivery is what an agent delivers at once.
type delivery struct {
	location string
	list     []wire.Measurement
}

// hourly cuts what agents measured into deliveries, by what was measured last in each.
func hourly(all map[string][]wire.Measurement, last span.Instant, most int) []delivery {
	var out []delivery
	for _, location := range slices.Sorted(maps.Keys(all)) {
		list := slices.DeleteFunc(all[location], func(m wire.Measurement) bool { return m.At > last })
		for part := range slices.Chunk(list, most) {
			out = append(out, delivery{location, part})
		}
	}
	slices.SortStableFunc(out, func(x, y delivery) int { return cmp.Compare(x.list[len(x.list)-1].At, y.list[len(y.list)-1].At) })
	return out
}

func apply(srv *server.Server, by trail.By, at span.Instant, steps []catalogue.Step) error {
	_, err := srv.API.Definitions.Apply(context.Background(), defining.Change{By: by, At: at.Time(), Approved: true, Closing: true}, steps...)
	return err
}

// Every vector, entered by the product's own changes and deliveries with a clock of its own,
// gives the accounts that are written beside it, field by field; and so does the JSON of the
// report of each.
func TestVectorsThroughTheProduct(t *testing.T) {
	dirs, err := filepath.Glob(vectors + "/*")
	if err != nil || len(dirs) < 40 {
		t.Fatalf("%d vectors, %v", len(dirs), err)
	}
	for _, dir := range dirs {
		t.Run(filepath.Base(dir), func(t *testing.T) {
			t.Parallel()
			why := unenterable[filepath.Base(dir)]
			text, err := os.ReadFile(filepath.Join(dir, "bundle.json"))
			if err != nil {
				t.Fatal(err)
			}
			b, err := evidence.DecodeBundle(bytes.NewReader(text))
			if err != nil {
				t.Fatal(err)
			}
			compiled, err := definition.Compile(b)
			if err != nil {
				t.Fatal(err)
			}
			var clock atomic.Int64
			clock.Store(int64(compiled.Span.To.Add(2 * span.Day)))
			srv := storetest.Server(t, func(o *server.Options) { o.Now = func() time.Time { return span.Instant(clock.Load()).Time() } })
			if err := enter(t, srv, &clock, dir, b, compiled.Span); err != nil && why == "" {
				t.Fatal(err)
			} else if err != nil {
				return
			}
			var wrong []string
			defer func() { // what cannot be entered is another account, or there is none
				if len(wrong) == 0 && why != "" {
					t.Errorf("it is said that %s, and the account is the same: take it from the list", why)
				}
				if why == "" {
					for _, w := range wrong {
						t.Error(w)
					}
				}
			}()
			asOf := compiled.Span.To
			if b.AsOf != nil {
				asOf = *b.AsOf
			}
			clock.Store(int64(asOf))
			if b.AsOf == nil {
				clock.Store(int64(asOf.Add(10 * span.Day)))
			}
			loc, err := calendar.Zone(b.Period.Timezone)
			if err != nil {
				t.Fatal(err)
			}
			period, err := calendar.ParsePeriod(b.Period.Start+"/"+b.Period.End, loc)
			if err != nil {
				t.Fatal(err)
			}
			snap, err := srv.API.Definitions.Snapshot(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			wanted, err := os.ReadFile(filepath.Join(dir, "account.json"))
			if err != nil {
				t.Fatal(err)
			}
			var want struct{ Accounts []map[string]any }
			if err := json.Unmarshal(wanted, &want); err != nil {
				t.Fatal(err)
			}
			for i, a := range b.Agreements {
				p, err := (&history.Books{Store: srv.API.Store, Definitions: srv.API.Definitions}).Open(t.Context(), snap, period, asOf, nil, []string{a.ID})
				if err != nil {
					t.Fatal(err)
				}
				list, err := p.Evidence.All()
				if err != nil {
					t.Fatal(err)
				}
				wrong = append(wrong, differs(t, "the account", want.Accounts[i], list[0])...)
				c, err := report.New(report.Subject{Organisation: "Skerry Line", ServiceName: a.Service, Period: period.Name(), Number: 1, Spec: snap.Agreements[a.ID].Current().Spec, Direction: credit.Direction(""),
					Named: snap.Named}, list[0])
				if err != nil {
					t.Fatal(err)
				}
				said, err := json.Marshal(c)
				if err != nil {
					t.Fatal(err)
				}
				var back struct{ Account account.Account }
				if err := json.Unmarshal(said, &back); err != nil {
					t.Fatal(err)
				}
				wrong = append(wrong, differs(t, "the report's JSON", want.Accounts[i], &back.Account)...)
			}
		})
	}
}

// differs compares an account with what is written of it, field by field.
func differs(t *testing.T, what string, want map[string]any, got *account.Account) (out []string) {
	t.Helper()
	text, err := json.Marshal(got)
	if err != nil {
		t.Fatal(err)
	}
	var have map[string]any
	if err := json.Unmarshal(text, &have); err != nil {
		t.Fatal(err)
	}
	for _, field := range slices.Sorted(maps.Keys(want)) {
		if !reflect.DeepEqual(want[field], have[field]) {
			out = append(out, fmt.Sprintf("%s: %s is %.300v; it should be %.300v", what, field, have[field], want[field]))
		}
	}
	for _, field := range slices.Sorted(maps.Keys(have)) {
		if _, has := want[field]; !has {
			out = append(out, what+" says "+field+" besides")
		}
	}
	return out
}
