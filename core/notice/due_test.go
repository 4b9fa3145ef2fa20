package notice

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
)

const minute = span.Minute

var start = instant("2026-11-02T03:10:00Z")

func instant(s string) span.Instant {
	i, err := span.ParseInstant(s)
	if err != nil {
		panic(err)
	}
	return i
}

func fact(kind string, min float64) Fact {
	return Fact{incident.Event{Kind: kind}, start.Add(int64(min * float64(minute)))}
}

func acked(min float64, until ...float64) Fact {
	f := fact(incident.Acked, min)
	f.Person = "mona"
	for _, u := range until {
		to := start.Add(int64(u * float64(minute)))
		f.Event.To = &to
	}
	return f
}

func raised(min float64, severity string) Fact {
	f := fact(incident.Raised, min)
	f.Text = severity
	return f
}

func under(min float64, cause int64) Fact {
	f := fact(incident.Followed, min)
	f.Cause = cause
	return f
}

// story is what happens to an incident, which is told minute by minute, or every so often.
func story(facts []Fact, p definition.NoticePlanSpec, every int64, upTo float64, settles bool, planned float64) []string {
	plan := NewPlan("duty", p)
	told := new(Told)
	var out []string
	for now := start; now <= start.Add(int64(upTo*float64(minute))); now = now.Add(every) {
		var known []Fact
		i := incident.Incident{ID: 7, KnownAt: start, Severity: definition.Major}
		if planned > 0 {
			i.Planned = &incident.Planned{Until: start.Add(int64(planned * float64(minute)))}
		}
		for _, f := range facts {
			if f.Known > now {
				continue
			}
			known = append(known, f)
			switch f.Kind {
			case incident.Raised:
				i.Severity = f.Text
			case incident.ResolvedByItself, incident.ResolvedByHand:
				at := f.Known
				i.ResolvedAt = &at
			case incident.Reopened:
				i.ResolvedAt = nil
			case incident.Acked:
				i.Acknowledged = &incident.Acknowledgement{By: f.Person, At: f.Known, Until: f.Event.To}
			case incident.Released:
				i.Acknowledged = nil
			}
		}
		l := LifeOf(i, known, settles)
		for _, n := range l.Due(plan, told, now) {
			told.Add(n, now)
			out = append(out, fmt.Sprintf("%g %s", float64(now-start)/float64(minute), n.words()))
		}
		if again := l.Due(plan, told, now); len(again) > 0 {
			out = append(out, "told twice")
		}
	}
	return out
}

func (n Notice) words() string {
	switch n.What {
	case Begun:
		return fmt.Sprintf("step %d", n.Step)
	case Again:
		return fmt.Sprintf("step %d again %d", n.Step, n.Nth)
	}
	return string(n.What)
}

func opened() Fact {
	f := fact(incident.Opened, 0)
	f.Other = definition.Major
	return f
}

var twoSteps = definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
	{AfterS: 120, Tell: []definition.Recipient{{Pool: "gates"}}},
	{AfterS: 480, Tell: []definition.Recipient{{Person: "astrid"}}, RepeatS: 900, Most: 3},
}}

func TestSteps(t *testing.T) {
	over := func(min float64) Fact { return fact(incident.ResolvedByItself, min) }
	office := twoSteps
	office.Hours = &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{
		{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "16:00"}}}
	critical := twoSteps
	critical.Severities = []string{definition.Critical}
	quietEnd := twoSteps
	quietEnd.NoAllClear = true
	remind := twoSteps
	remind.RemindS = 1800
	at0 := definition.NoticePlanSpec{Name: "At once", Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Pool: "gates"}}}}}
	for _, c := range []struct {
		name    string
		facts   []Fact
		plan    definition.NoticePlanSpec
		upTo    float64
		planned float64
		settles bool
		want    string
	}{
		{name: "steps at 2 and 8 min, repeats of 15, three at most", plan: twoSteps, upTo: 90,
			want: "2 step 0; 8 step 1; 23 step 1 again 1; 38 step 1 again 2; 53 step 1 again 3"},
		{name: "acknowledged between", facts: []Fact{acked(5), over(30)}, plan: twoSteps, upTo: 60, want: "2 step 0; 30 clear"},
		{name: "the clock stands while it is acknowledged", facts: []Fact{acked(5, 20)}, plan: twoSteps, upTo: 40,
			want: "2 step 0; 23 step 1; 38 step 1 again 1"},
		{name: "taken back", facts: []Fact{acked(5), fact(incident.Released, 10)}, plan: twoSteps, upTo: 14, want: "2 step 0; 13 step 1"},
		{name: "recovered before the first", facts: []Fact{over(1.5)}, plan: twoSteps, upTo: 60, want: ""},
		{name: "over", facts: []Fact{over(10)}, plan: twoSteps, upTo: 60, want: "2 step 0; 8 step 1; 10 clear"},
		{name: "no all-clear", facts: []Fact{over(10)}, plan: quietEnd, upTo: 60, want: "2 step 0; 8 step 1"},
		{name: "more severe, and then less", facts: []Fact{raised(4, definition.Critical), raised(6, definition.Minor)}, plan: twoSteps, upTo: 10,
			want: "2 step 0; 4 worse; 8 step 1"},
		{name: "for critical ones alone", facts: []Fact{raised(30, definition.Critical)}, plan: critical, upTo: 40, want: "32 step 0; 38 step 1"},
		{name: "opened again", facts: []Fact{over(3), fact(incident.Reopened, 5)}, plan: twoSteps, upTo: 14,
			want: "2 step 0; 3 clear; 7 step 0; 13 step 1"},
		{name: "flaps: counted, not repeated", facts: []Fact{over(1), fact(incident.Reopened, 2), over(3), fact(incident.Reopened, 4), over(5),
			fact(incident.Reopened, 6), over(7)}, plan: at0, upTo: 30, want: "0 step 0; 1 clear; 2 step 0; 3 clear; 4 step 0; 17 clear"},
		{name: "follows before the first step", facts: []Fact{under(1, 3)}, plan: twoSteps, upTo: 60, want: ""},
		{name: "follows later", facts: []Fact{under(3, 3), over(20)}, plan: twoSteps, upTo: 60, want: "2 step 0; 3 cause; 20 clear"},
		{name: "free of its cause", facts: []Fact{under(1, 3), fact(incident.Freed, 30)}, plan: twoSteps, upTo: 40, want: "31 step 0; 37 step 1"},
		{name: "planned work", plan: twoSteps, planned: 60, upTo: 70, want: "62 step 0; 68 step 1"},
		{name: "over within planned work", plan: twoSteps, planned: 60, facts: []Fact{over(50)}, upTo: 70, want: ""},
		{name: "04:10 in Oslo waits for 08:00", plan: office, upTo: 300, want: "230 step 0; 230 step 1 again 3"},
		{name: "reminded", facts: []Fact{acked(5), over(80)}, plan: remind, upTo: 90, want: "2 step 0; 35 reminder; 65 reminder; 80 clear"},
		{name: "waits for what it needs", plan: at0, settles: true, upTo: 1, want: "0.5 step 0"},
		{name: "finds its cause while it waits", plan: at0, settles: true, facts: []Fact{under(0.2, 3)}, upTo: 5, want: ""},
	} {
		every := int64(30 * span.Second)
		if got := strings.Join(story(append([]Fact{opened()}, c.facts...), c.plan, every, c.upTo, c.settles, c.planned), "; "); got != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, got, c.want)
		}
	}
}

// A server that was away for an hour tells the latest of what it missed, once.
func TestMissedStepsAreToldOnce(t *testing.T) {
	got := story([]Fact{opened()}, twoSteps, 65*minute, 70, false, 0)
	if want := []string{"65 step 0", "65 step 1 again 3"}; !slices.Equal(got, want) {
		t.Errorf("told %v, want %v", got, want)
	}
}

// Random histories, looked at at random times: nobody is told twice by a step, nobody
// after it is over but the all-clear, nobody while the clock stands, and where no step is
// told though one is due, a reason is given.
func FuzzDue(f *testing.F) {
	for seed := range uint64(40) {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, seed uint64) {
		rnd := rand.New(rand.NewPCG(seed, 7))
		facts := []Fact{opened()}
		over := false
		for min := rnd.Float64() * 20; min < 240; min += rnd.Float64() * 30 {
			kinds := []func(float64) Fact{
				func(m float64) Fact { return acked(m, m+rnd.Float64()*40) }, func(m float64) Fact { return acked(m) },
				func(m float64) Fact { return fact(incident.Released, m) },
				func(m float64) Fact { return raised(m, definition.Severities[rnd.IntN(3)]) }, func(m float64) Fact { return under(m, 3) },
				func(m float64) Fact { return fact(incident.Freed, m) }, func(m float64) Fact { over = true; return fact(incident.ResolvedByItself, m) },
			}
			if over {
				over = false
				facts = append(facts, fact(incident.Reopened, min))
				continue
			}
			facts = append(facts, kinds[rnd.IntN(len(kinds))](min))
		}
		p := twoSteps
		if rnd.IntN(2) == 0 {
			p.Severities = []string{definition.Major, definition.Critical}
		}
		switch week := ([]definition.WeeklyRow{{Days: []string{"MO"}, From: "05:00", To: "07:00"}}); rnd.IntN(4) {
		case 0:
			p.Hours = &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: week}
		case 1:
			p.Hours = &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: week}
			p.Outside, p.Digest = definition.OutsideDigest, &definition.Digest{Timezone: "Europe/Oslo", At: []string{"07:30", "12:00"}}
		case 2:
			p.Digest = &definition.Digest{Timezone: "UTC", At: []string{"07:30"}}
		}
		plan := NewPlan("duty", p)
		told, steps := new(Told), map[string]bool{}
		i := incident.Incident{ID: 7, KnownAt: start, Severity: definition.Major}
		for now := start; now < start.Add(260*minute); now = now.Add(1 + rnd.Int64N(5*minute)) {
			var known []Fact
			i.ResolvedAt = nil
			for _, f := range facts {
				if f.Known <= now {
					known = append(known, f)
				}
			}
			for _, f := range known {
				switch f.Kind {
				case incident.ResolvedByItself:
					at := f.Known
					i.ResolvedAt = &at
				case incident.Reopened:
					i.ResolvedAt = nil
				}
			}
			l := LifeOf(i, known, false)
			due := l.Due(plan, told, now)
			silent, _ := l.Silence(plan, now)
			for _, n := range due {
				if steps[n.Key()] {
					t.Fatalf("at %s %s is told twice", now, n.Key())
				}
				steps[n.Key()] = true
				told.Add(n, now)
				if l.To != nil && n.What != Clear {
					t.Errorf("at %s, after it was over, %s is told", now, n.Key())
				}
				if open := !plan.hours.Weekly || plan.hours.Within(span.Span{From: n.At, To: n.At + 1}).Contains(n.At); (n.What == Begun || n.What == Again) &&
					(n.Digest != nil) != (plan.digest != nil && (!open || !plan.hours.Weekly)) {
					t.Errorf("%s, due at %s, stands in the digest of %v", n.Key(), n.At, n.Digest)
				}
				if n.At > now {
					t.Errorf("at %s %s is told, which is due at %s", now, n.Key(), n.At)
				}
			}
			if silent != "" {
				continue
			}
			// Nothing keeps it silent: what its schedule says up to now has been told.
			for _, n := range l.Schedule(plan, start-1, now) {
				if last := told.upTo(l.Round, n.Step, n.Mark); last < n.Nth {
					t.Errorf("at %s nothing keeps it silent, and %s, due at %s, was not told", now, n.Key(), n.At)
				}
			}
		}
	})
}

func TestScheduleOfANight(t *testing.T) {
	p := twoSteps
	p.Hours = &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "08:00", To: "16:00"}}}
	l := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
	var got []string
	for _, n := range l.Schedule(NewPlan("duty", p), start-1, start.Add(6*span.Hour)) {
		got = append(got, n.At.String()[11:16]+" "+n.words())
	}
	if want := []string{"07:00 step 0", "07:00 step 1 again 3"}; !slices.Equal(got, want) {
		t.Errorf("a night is told %v, want %v", got, want)
	}
}
