package planning_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
)

func at(t testing.TB, s string) span.Instant {
	t.Helper()
	i, err := span.ParseInstant("2026-03-" + s + ":00Z")
	if err != nil {
		t.Fatal(err)
	}
	return i
}

func work(t testing.TB, window, from, to string, services ...string) planning.Work {
	return planning.Work{Window: window, Services: services, Span: span.Span{From: at(t, from), To: at(t, to)}}
}

func pair(need int, services ...string) []definition.Dependency {
	return []definition.Dependency{{Services: services, Need: need}}
}

func said(list []planning.Clash) string {
	var out []string
	for _, c := range list {
		out = append(out, fmt.Sprintf("%s–%s %s by %s needs %s", c.From.Time().Format("15:04"), c.To.Time().Format("15:04"), c.Service,
			strings.Join(c.Windows, "+"), strings.Join(c.Because, "+")))
	}
	return strings.Join(out, "; ")
}

func TestBothMembersOfAPairAtWorkClash(t *testing.T) {
	needs := map[string][]definition.Dependency{"tickets": pair(1, "east", "west"), "board": pair(0, "tickets"), "gates": pair(2, "a", "b", "c")}
	for name, x := range map[string]struct {
		work []planning.Work
		want string
	}{
		"one after the other":     {[]planning.Work{work(t, "e", "02T10:00", "02T11:00", "east"), work(t, "w", "02T11:00", "02T12:00", "west")}, ""},
		"at once, for half":       {[]planning.Work{work(t, "e", "02T10:00", "02T11:00", "east"), work(t, "w", "02T10:30", "02T12:00", "west")}, "10:30–11:00 board by e+w needs tickets; 10:30–11:00 tickets by e+w needs east+west"},
		"by one window, on both":  {[]planning.Work{work(t, "both", "02T10:00", "02T11:00", "east", "west"), work(t, "a", "02T10:00", "02T11:00", "a")}, ""},
		"one of three":            {[]planning.Work{work(t, "a", "02T10:00", "02T11:00", "a")}, ""},
		"two of three":            {[]planning.Work{work(t, "x", "02T10:00", "02T11:00", "a"), work(t, "y", "02T10:00", "02T11:00", "c")}, "10:00–11:00 gates by x+y needs a+c"},
		"on the same service":     {[]planning.Work{work(t, "x", "02T10:00", "02T11:00", "a"), work(t, "y", "02T10:00", "02T11:00", "a")}, ""},
		"one window, twice":       {[]planning.Work{work(t, "x", "02T10:00", "02T11:00", "a"), work(t, "x", "02T10:30", "02T11:30", "a")}, ""},
		"a third does not matter": {[]planning.Work{work(t, "e", "02T10:00", "02T11:00", "east"), work(t, "w", "02T10:00", "02T11:00", "west"), work(t, "z", "02T10:15", "02T10:30", "a")}, "10:00–10:15 board by e+w needs tickets; 10:00–10:15 tickets by e+w needs east+west; 10:15–10:30 board by e+w+z needs tickets; 10:15–10:30 tickets by e+w+z needs east+west; 10:30–11:00 board by e+w needs tickets; 10:30–11:00 tickets by e+w needs east+west"},
	} {
		if got := said(planning.Clashes(needs, x.work)); got != x.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// agreed is the room of an agreement over the first week of March.
func agreed(t *testing.T, a definition.Agreement, windows ...definition.Window) planning.Room {
	t.Helper()
	a.Service, a.TargetPercent, a.DegradedWeightPercent, a.MinCoveragePercent, a.Unmeasured = "tickets", "99.9", "0", "0", "exclude"
	from := at(t, "02T00:00")
	c, err := definition.Compile(definition.Bundle{Format: definition.Format, AsOf: &from, Windows: windows, Agreements: []definition.Agreement{a},
		Period:   definition.Period{Timezone: "UTC", Start: "2026-03-02T00:00:00", End: "2026-03-16T00:00:00"},
		Services: []definition.Service{{ID: "tickets", Kind: "business", Combine: "worst"}}})
	if err != nil {
		t.Fatal(err)
	}
	room, err := account.RoomOf(c, c.Agreements[0])
	if err != nil {
		t.Fatal(err)
	}
	return planning.Room{Room: room, Named: true, LeftMS: 20 * span.Minute}
}

// The cheapest slots are those that looking at every quarter of an hour finds, whatever
// is agreed, planned and usual.
func TestTheCheapestSlotAgainstBruteForce(t *testing.T) {
	free, costly := 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		day := func() string { return fmt.Sprintf("%02d", 2+r.IntN(14)) }
		var rooms []planning.Room
		for n := range 1 + r.IntN(3) {
			a := definition.Agreement{ID: fmt.Sprint("a", n), Maintenance: definition.Maintenance{Mode: []string{"ignore", "exclude", "forgive"}[r.IntN(3)]}}
			if a.Maintenance.Mode != "ignore" {
				a.Maintenance.NoticeS = int64(r.IntN(5)) * 86_400
				cap := int64(r.IntN(4)) * 3600
				a.Maintenance.CapS = &cap
			}
			if r.IntN(3) > 0 {
				a.ServiceHours = definition.ServiceHours{Plan: &definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{},
					Weekly: []definition.WeeklyRow{{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "06:00", To: fmt.Sprintf("%02d:00", 14+r.IntN(10))}}}}
			}
			rooms = append(rooms, agreed(t, a, definition.Window{ID: "other", Services: []string{"tickets"}, Start: "2026-03-" + day() + "T03:00:00", Timezone: "UTC", DurationS: 5400}))
		}
		q := planning.Question{Services: []string{"tickets"}, LastsS: int64(1+r.IntN(16)) * 900, Now: at(t, "02T00:00"), Zone: time.UTC, Rooms: rooms,
			Within: span.Span{From: at(t, "02T00:07"), To: at(t, "16T00:00")}, Needs: map[string][]definition.Dependency{"board": pair(1, "tickets", "paper")},
			Others: []planning.Work{work(t, "paper", day()+"T00:00", "16T00:00", "paper")}}
		if r.IntN(2) == 0 {
			q.Closed = []planning.Embargo{{ID: "spring", Span: span.Span{From: at(t, "07T00:00"), To: at(t, "09T00:00")}}}
		}
		for range r.IntN(20) {
			from := at(t, "02T00:00").Add(-int64(r.IntN(300*24)) * span.Hour)
			q.Failures = append(q.Failures, span.Span{From: from, To: from.Add(int64(r.IntN(200)) * span.Minute)})
		}
		got := planning.Cheapest(q, 1)
		if len(got) != 1 {
			t.Fatal(seed, got)
		}
		first := at(t, "02T00:15")
		for from := first; from.Add(q.LastsS*span.Second) <= q.Within.To; from = from.Add(15 * span.Minute) {
			if s := q.At(from); better(s, got[0]) {
				t.Fatalf("seed %d: %+v is offered, and %+v is better", seed, got[0], s)
			}
		}
		if got[0].DowntimeMS == 0 && got[0].Clash == nil {
			free++
		} else {
			costly++
		}
		list := planning.Cheapest(q, 5)
		days := map[string]bool{}
		for i, s := range list {
			days[s.From.Time().Format("02")] = true
			if i > 0 && better(s, list[i-1]) {
				t.Errorf("seed %d: the slots are not in order", seed)
			}
		}
		if len(days) != len(list) {
			t.Errorf("seed %d: of one day several slots", seed)
		}
	}
	if free < 5 || costly < 5 {
		t.Errorf("%d were free, %d not", free, costly)
	}
}

// better compares as people would: by one thing after the other.
func better(a, b planning.Slot) bool {
	if x, y := a.Clash != nil, b.Clash != nil; x != y {
		return y
	}
	if x, y := len(a.Misses), len(b.Misses); x != y {
		return x < y
	}
	if a.DowntimeMS != b.DowntimeMS {
		return a.DowntimeMS < b.DowntimeMS
	}
	if a.ServiceMS != b.ServiceMS {
		return a.ServiceMS < b.ServiceMS
	}
	if a.Usual != b.Usual {
		return a.Usual < b.Usual
	}
	if a.FromNight != b.FromNight {
		return a.FromNight < b.FromNight
	}
	return a.From < b.From
}

// What a slot says of itself.
func TestWhatASlotSays(t *testing.T) {
	hours := definition.ServiceHours{Plan: &definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{},
		Weekly: []definition.WeeklyRow{{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "06:00", To: "18:00"}}}}
	q := planning.Question{Services: []string{"tickets"}, LastsS: 3600, Now: at(t, "02T00:00"), Zone: time.UTC,
		Rooms: []planning.Room{
			agreed(t, definition.Agreement{ID: "office", ServiceHours: hours, Maintenance: definition.Maintenance{Mode: "ignore"}}),
			agreed(t, definition.Agreement{ID: "always", Maintenance: definition.Maintenance{Mode: "exclude", NoticeS: 48 * 3600}}),
		},
		Closed:   []planning.Embargo{{ID: "spring", Span: span.Span{From: at(t, "07T00:00"), To: at(t, "09T00:00")}}},
		Needs:    map[string][]definition.Dependency{"board": pair(1, "tickets", "paper")},
		Others:   []planning.Work{work(t, "paper", "10T00:00", "11T00:00", "paper")},
		Failures: []span.Span{{From: at(t, "05T22:40").Add(-28 * span.Day), To: at(t, "05T23:10").Add(-28 * span.Day)}, {From: at(t, "05T22:50").Add(-7 * span.Day), To: at(t, "05T22:51").Add(-7 * span.Day)}},
	}
	day, night, soon := q.At(at(t, "05T10:00")), q.At(at(t, "05T22:45")), q.At(at(t, "03T22:00"))
	if day.DowntimeMS != span.Hour || day.GrantedMS != span.Hour || !slices.Equal(day.Misses, []string{"office"}) || day.Outside != 0 || day.Usual != 0 {
		t.Errorf("in the hours of both: %+v", day)
	}
	if day.FromNight != 7*span.Hour+span.Hour/2 || night.FromNight != 3*span.Hour+3*span.Hour/4 {
		t.Errorf("from three at night: %d and %d", day.FromNight, night.FromNight)
	}
	if night.DowntimeMS != 0 || night.Outside != 1 || night.Usual != 2 || night.Misses != nil {
		t.Errorf("at night: %+v", night)
	}
	if soon.DowntimeMS != span.Hour || soon.GrantedMS != 0 {
		t.Errorf("too soon for the notice: %+v", soon)
	}
	if c := q.At(at(t, "06T23:30")).Clash; c == nil || c.Embargo != "spring" {
		t.Errorf("into an embargo: %+v", c)
	}
	if c := q.At(at(t, "10T23:30")).Clash; c == nil || c.Service != "board" || !slices.Equal(c.Windows, []string{"paper"}) {
		t.Errorf("with the other of the pair: %+v", c)
	}
	// An allowance is one, however many slots of a period are looked at; used up already, nothing more is missed.
	q.Rooms[0].LeftMS = -1
	if s := q.At(at(t, "05T10:00")); s.Misses != nil {
		t.Errorf("what is missed already: %v", s.Misses)
	}
}

// In the hour that clocks show twice no slot begins for the second time: written down it
// would be the first.
func TestSlotsCanBeWrittenDown(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	from, _ := span.ParseInstant("2026-10-25T00:50:00Z")
	q := planning.Question{Services: []string{"tickets"}, LastsS: 600, Within: span.Span{From: from, To: from.Add(80 * span.Minute)}, Now: from, Zone: oslo}
	got := planning.Cheapest(q, 5)
	if len(got) != 1 || got[0].From.String() != "2026-10-25T02:00:00.000Z" {
		t.Errorf("%+v", got)
	}
}
