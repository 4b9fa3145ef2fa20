package account_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// planned is one hour of work on tickets from a time of the day on.
func planned(id, from string, announced span.Instant) definition.Window {
	return definition.Window{ID: id, Services: []string{"tickets"}, Start: "2026-03-02T" + from, Timezone: "UTC", DurationS: 3600, AnnouncedAt: announced}
}

// Planned work: what is granted costs nothing, what is not costs downtime and says why,
// and a cap it uses up is lost to later work.
func TestWhatPlannedWorkDoes(t *testing.T) {
	asOf, _ := span.ParseInstant("2026-03-02T06:00:00Z")
	long := asOf.Add(-48 * span.Hour)
	const hour, left = 3_600_000, 14*60_000 + 24_000
	cap90 := int64(5400)
	refused := func(why string, ms int64) []account.Refusal { return []account.Refusal{{Why: why, MS: ms}} }
	for name, x := range map[string]struct {
		edit                                        func(*definition.Bundle)
		w                                           definition.Window
		service, granted, displaced, downtime, left int64
		refused                                     []account.Refusal
		verdict                                     account.Verdict
	}{
		"granted": {edit: func(b *definition.Bundle) { b.Agreements[0].Maintenance.Mode = "exclude" }, w: planned("w", "08:00:00", long),
			service: hour, granted: hour, left: left - 36_000, verdict: account.Met},
		"forgiven": {edit: func(b *definition.Bundle) { b.Agreements[0].Maintenance.Mode = "forgive" }, w: planned("w", "08:00:00", long),
			service: hour, granted: hour, left: left, verdict: account.Met},
		"ignored": {w: planned("w", "08:00:00", long),
			service: hour, downtime: hour, left: left - hour, refused: refused(account.NotGranting, hour), verdict: account.Missed},
		"announced too late": {edit: func(b *definition.Bundle) {
			b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", NoticeS: 72 * 3600}
		}, w: planned("w", "08:00:00", long), service: hour, downtime: hour, left: left - hour, refused: refused(account.LateNotice, hour), verdict: account.Missed},
		"announced too late, and running": {edit: func(b *definition.Bundle) {
			b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", NoticeS: 72 * 3600}
		}, w: planned("w", "05:30:00", long), service: hour / 2, downtime: hour / 2, left: left - hour/2, refused: refused(account.LateNotice, hour/2), verdict: account.Missed},
		"outside what was agreed for it": {edit: func(b *definition.Bundle) {
			b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", Within: &definition.ServiceHours{Plan: &definition.WeeklyPlan{
				Timezone: "UTC", Holidays: []string{}, Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "08:30", To: "10:00"}}}}}
		}, w: planned("w", "08:00:00", long), service: hour, granted: hour / 2, downtime: hour / 2, left: left - hour/2 - 18_000,
			refused: refused(account.NotWithin, hour/2), verdict: account.Missed},
		"emergency work where none is granted": {edit: func(b *definition.Bundle) { b.Agreements[0].Maintenance.Mode = "forgive" },
			w:       definition.Window{ID: "w", Services: []string{"tickets"}, Type: "emergency", Start: "2026-03-02T08:00:00", Timezone: "UTC", DurationS: 3600},
			service: hour, downtime: hour, left: left - hour, refused: refused(account.NotEmergency, hour), verdict: account.Missed},
		"before work that needs the cap": {edit: func(b *definition.Bundle) {
			b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", CapS: &cap90}
			b.Windows = []definition.Window{planned("later", "20:00:00", long)}
		}, w: planned("w", "08:00:00", long), service: hour, granted: hour, displaced: hour / 2, downtime: hour / 2,
			left: left - 54_000 - hour/2, verdict: account.Missed},
		"after work that used the cap": {edit: func(b *definition.Bundle) {
			b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", CapS: &cap90}
			b.Windows = []definition.Window{planned("sooner", "07:00:00", long)}
		}, w: planned("w", "08:00:00", long), service: hour, granted: hour / 2, downtime: hour / 2, left: left - 54_000 - hour/2,
			refused: refused(account.CapUsed, hour/2), verdict: account.Missed},
		"gone by": {edit: func(b *definition.Bundle) { b.Agreements[0].Maintenance.Mode = "forgive" }, w: planned("w", "03:00:00", long),
			left: left, verdict: account.Met},
		"that takes it down and does not name it": {edit: func(b *definition.Bundle) { b.Agreements[0].Maintenance.Mode = "forgive" },
			w:       definition.Window{ID: "w", Services: []string{"quay"}, Start: "2026-03-02T08:00:00", Timezone: "UTC", DurationS: 3600},
			service: hour, downtime: hour, left: left - hour, refused: refused(account.NotNamed, hour), verdict: account.Missed},
	} {
		t.Run(name, func(t *testing.T) {
			edit := func(b *definition.Bundle) {
				quay(b)
				b.AsOf = &asOf
				b.Agreements[0].TargetPercent = "99"
				if x.edit != nil {
					x.edit(b)
				}
			}
			without := bundle(t, edit)
			with := bundle(t, func(b *definition.Bundle) { edit(b); b.Windows = append(b.Windows, x.w) })
			got := workOf(t, without, with, x.w)
			if got.ServiceMS != x.service || got.GrantedMS != x.granted || got.DisplacedMS != x.displaced || got.DowntimeMS != x.downtime ||
				got.LeftMS != x.left || !reflect.DeepEqual(got.Refused, x.refused) || got.Verdict != x.verdict {
				t.Errorf("%+v", got)
			}
			if late := strings.HasPrefix(name, "announced too late"); (got.Late != nil) != late || late && got.Late.Announced != long {
				t.Errorf("announced too late: %+v", got.Late)
			}
		})
	}
}

// workOf is what a window of with does to the agreement of without, its service being
// down throughout.
func workOf(t *testing.T, without, with *definition.Compiled, w definition.Window) *account.Work {
	t.Helper()
	minutes := int(int64(*without.AsOf-without.Span.From) / span.Minute)
	m := read(t, without, minutely("page", "tolvik", minutes, downBetween(0, 0)))
	before, err := account.NewEvidence(without, m.Stretches, m.Timing).Account(without.Agreements[0])
	if err != nil {
		t.Fatal(err)
	}
	c, err := definition.CompileWindow(w)
	if err != nil {
		t.Fatal(err)
	}
	starts, err := c.Starts(without.Span.From.Add(-w.DurationS*span.Second), without.Span.To)
	if err != nil {
		t.Fatal(err)
	}
	var down []span.Span
	for _, s := range starts {
		down = append(down, span.Span{From: s, To: s.Add(w.DurationS * span.Second)}.Intersect(span.Span{From: *without.AsOf, To: without.Span.To}))
	}
	got, err := account.NewEvidence(with, m.Stretches, m.Timing).Work(with.Agreements[0], before, w.ID, span.Union(down...))
	if err != nil || got == nil {
		t.Fatal(got, err)
	}
	return got
}

// What room is left for work is what the account would say of the same work, whatever
// the clauses and whatever else is planned.
func TestRoomAgainstTheAccount(t *testing.T) {
	asOf, _ := span.ParseInstant("2026-03-02T02:00:00Z")
	granted, displaced, refused := 0, 0, 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 5))
		window := func(id string) definition.Window {
			w := planned(id, fmt.Sprintf("%02d:%02d:00", r.IntN(24), r.IntN(4)*15), asOf.Add(-int64(r.IntN(60))*span.Hour))
			w.DurationS = int64(1+r.IntN(12)) * 900
			if r.IntN(4) == 0 {
				w.Type = definition.Emergency
			}
			return w
		}
		weekly := func(from, to string) definition.ServiceHours {
			return definition.ServiceHours{Plan: &definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{}, Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: from, To: to}}}}
		}
		edit := func(b *definition.Bundle) {
			quay(b)
			b.AsOf = &asOf
			a := &b.Agreements[0]
			a.Maintenance.Mode = []string{"ignore", "exclude", "forgive"}[r.IntN(3)]
			a.MinOutageS = int64(r.IntN(2) * 1800)
			if a.Maintenance.Mode != "ignore" {
				a.Maintenance.NoticeS = int64(r.IntN(3) * 4 * 3600)
				if r.IntN(2) == 0 {
					cap := int64(r.IntN(10) * 1800)
					a.Maintenance.CapS = &cap
				}
				if r.IntN(3) == 0 {
					within := weekly("00:00", "12:00")
					a.Maintenance.Within = &within
				}
				if r.IntN(2) == 0 {
					cap := int64(r.IntN(5) * 1800)
					a.Maintenance.Emergency = &definition.EmergencyAllowance{CapS: &cap}
				}
			}
			if r.IntN(2) == 0 {
				a.ServiceHours = weekly("05:00", "21:00")
			}
			for i := range r.IntN(4) {
				b.Windows = append(b.Windows, window(fmt.Sprint("other", i)))
			}
		}
		without := bundle(t, edit)
		w := window("w")
		w.Type, w.AnnouncedAt = definition.Planned, asOf
		named := r.IntN(4) > 0
		if !named {
			w.Services = []string{"quay"}
		}
		with := bundle(t, func(b *definition.Bundle) {
			*b = copied(without.Bundle)
			b.AsOf = &asOf
			b.Windows = append(b.Windows, w)
		})
		want := workOf(t, without, with, w)
		room, err := account.RoomOf(without, without.Agreements[0])
		if err != nil {
			t.Fatal(err)
		}
		c, _ := definition.CompileWindow(w)
		starts, _ := c.Starts(span.Beginning, span.End)
		got := room.Takes(span.Span{From: starts[0], To: starts[0].Add(w.DurationS * span.Second)}, asOf, named)
		if got != (account.Taken{ServiceMS: want.ServiceMS, GrantedMS: want.GrantedMS, DisplacedMS: want.DisplacedMS, DowntimeMS: want.DowntimeMS}) {
			t.Fatalf("seed %d: %+v, and the account says %+v\nwork %+v\nagreement %+v\nwindows %+v", seed, got, want, w, without.Agreements[0], without.Bundle.Windows)
		}
		var reasons int64
		for _, x := range want.Refused {
			reasons += x.MS
		}
		if want.ServiceMS != want.GrantedMS+reasons {
			t.Errorf("seed %d: %d ms in service hours, %d granted, and reasons for %+v", seed, want.ServiceMS, want.GrantedMS, want.Refused)
		}
		granted, displaced, refused = granted+int(min(1, got.GrantedMS)), displaced+int(min(1, got.DisplacedMS)), refused+int(min(1, reasons))
	}
	if granted < 50 || displaced < 5 || refused < 50 {
		t.Errorf("of 400, %d had something granted, %d displaced others and %d were refused something", granted, displaced, refused)
	}
}

// quay adds a service that is not measured.
func quay(b *definition.Bundle) {
	b.Services = append(b.Services, definition.Service{ID: "quay", Kind: "supporting", Combine: "worst"})
}
