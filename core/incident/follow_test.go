package incident_test

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

const minute = span.Instant(span.Minute)

var gates = incident.Subject{About: incident.Service, ID: "gates"}

var ordinary = incident.Policy{Degraded: "minor", Down: "critical", ReopenMS: 10 * span.Minute}

type step = struct {
	at    span.Instant // minutes
	state verdict.State
}

// line is a line of states, of which everything is known: up, and then the steps.
func line(steps ...step) incident.Line {
	out := incident.Line{States: span.Constant(verdict.Up)}
	for _, s := range steps {
		out.States = out.States.Append(s.at*minute, s.state)
	}
	return out
}

// kept are incidents as a store would keep them: new ones get numbers.
func kept(before []incident.Incident, changed []incident.Changed) []incident.Incident {
	out := append([]incident.Incident{}, before...)
	for _, c := range changed {
		if c.Fresh {
			c.ID = int64(len(out) + 1)
			out = append(out, c.Incident)
			continue
		}
		for n := range out {
			if out[n].ID == c.ID {
				out[n] = c.Incident
			}
		}
	}
	return out
}

func kinds(changed []incident.Changed) (out []string) {
	for _, c := range changed {
		for _, e := range c.Events {
			out = append(out, e.Kind)
		}
	}
	return out
}

func TestAnIncidentFollowsItsService(t *testing.T) {
	down, degraded, up, unmeasured := verdict.Down, verdict.Degraded, verdict.Up, verdict.Unmeasured
	for _, c := range []struct {
		name   string
		then   []incident.Line // one after another, each a minute after its last step
		events []string
		count  int
		check  func(i incident.Incident) bool
	}{
		{"nothing is wrong", []incident.Line{line()}, nil, 0, nil},
		{"down, and up again", []incident.Line{line(step{10, down}), line(step{10, down}, step{14, up})}, []string{"opened", "over"}, 1,
			func(i incident.Incident) bool {
				return i.BeganAt == 10*minute && *i.EndedAt == 14*minute && i.ResolvedAt != nil && i.Times == 1 && i.Severity == "critical"
			}},
		{"degraded, then worse", []incident.Line{line(step{10, degraded}), line(step{10, degraded}, step{12, down})}, []string{"opened",
			"severity"}, 1,
			func(i incident.Incident) bool { return i.State == down && i.Worst == down && i.Severity == "critical" }},
		{"better is not over", []incident.Line{line(step{10, down}), line(step{10, down}, step{12, degraded})}, []string{"opened"}, 1,
			func(i incident.Incident) bool {
				return i.State == degraded && i.Worst == down && i.Severity == "critical" && i.ResolvedAt == nil
			}},
		{"what cannot be measured is not over", []incident.Line{line(step{10, down}), line(step{10, down}, step{12, unmeasured})},
			[]string{"opened"}, 1,
			func(i incident.Incident) bool { return i.State == unmeasured && i.ResolvedAt == nil }},
		{"back soon", []incident.Line{line(step{10, down}), line(step{10, down}, step{14, up}), line(step{10, down}, step{14, up}, step{20,
			down})},
			[]string{"opened", "over", "reopened"}, 1,
			func(i incident.Incident) bool { return i.Times == 2 && i.EndedAt == nil && i.LatestAt == 20*minute }},
		{"back later", []incident.Line{line(step{10, down}), line(step{10, down}, step{14, up}), line(step{10, down}, step{14, up}, step{25,
			down})},
			[]string{"opened", "over", "opened"}, 2, func(i incident.Incident) bool { return i.BeganAt == 25*minute && i.Times == 1 }},
		{"known when it was over", []incident.Line{line(step{10, down}, step{14, up})}, []string{"opened", "over"}, 1,
			func(i incident.Incident) bool { return i.ResolvedAt != nil && i.KnownAt == 15*minute }},
		{"never good before", []incident.Line{{States: span.Constant(unmeasured).Append(10*minute, down)}}, nil, 0, nil},
		{"never good, then good, then down", []incident.Line{{States: span.Constant(unmeasured).Append(10*minute, down).Append(12*minute, up).
			Append(20*minute, down)}}, []string{"opened"}, 1, func(i incident.Incident) bool { return i.BeganAt == 20*minute }},
		{"nobody knows since when", []incident.Line{{States: span.Constant(down), Known: 10 * minute, Good: true}}, []string{"opened"}, 1,
			func(i incident.Incident) bool { return i.BeganAt == 10*minute }},
		{"it never was", []incident.Line{line(step{10, down}), line(step{12, up})}, []string{"opened", "unfounded"}, 1,
			func(i incident.Incident) bool { return i.Unfounded && i.ResolvedAt != nil }},
		{"it was all the same", []incident.Line{line(step{10, down}), line(step{12, up}), line(step{10, down}, step{12, up})},
			[]string{"opened", "unfounded", "founded", "ended"}, 1, func(i incident.Incident) bool {
				return !i.Unfounded &&
					*i.EndedAt == 12*minute
			}},
		{"it began earlier", []incident.Line{line(step{10, down}), line(step{8, down}, step{11, down})}, []string{"opened", "moved"}, 1,
			func(i incident.Incident) bool { return i.BeganAt == 8*minute && i.Times == 1 }},
		{"an earlier one comes to light", []incident.Line{line(step{100, down}), line(step{10, down}, step{14, up}, step{100, down})},
			[]string{"opened", "opened", "over"}, 2, func(i incident.Incident) bool { return i.BeganAt == 10*minute && i.ResolvedAt != nil }},
	} {
		var list []incident.Incident
		var events []string
		for _, l := range c.then {
			now := max(l.Known, l.States[len(l.States)-1].At) + minute
			changed := incident.Follow(gates, list, l, now, ordinary)
			list, events = kept(list, changed), append(events, kinds(changed)...)
			if again := incident.Follow(gates, list, l, now, ordinary); len(again) > 0 {
				t.Errorf("%s: the same again changes %+v", c.name, again)
			}
		}
		if !reflect.DeepEqual(events, c.events) || len(list) != c.count {
			t.Errorf("%s: %v, %d incidents; not %v, %d", c.name, events, len(list), c.events, c.count)
		} else if c.check != nil && !c.check(list[len(list)-1]) {
			t.Errorf("%s: %+v", c.name, list[len(list)-1])
		}
	}
}

// Whatever comes to light in whatever order: trouble is in an incident, what is in none
// is good, one is open while there is trouble and none otherwise.
func TestIncidentsCoverAllTroubleAndNothingElse(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		var list []incident.Incident
		truth := incident.Line{States: span.Constant(verdict.Up)}
		at := span.Instant(0)
		for range 1 + r.IntN(30) {
			at += span.Instant(r.Int64N(15*span.Minute)) + 1
			truth.States = truth.States.Append(at, verdict.State(r.IntN(4)))
		}
		for n := range 1 + r.IntN(6) {
			now := at + span.Instant(n)*minute
			said := truth.States
			if r.IntN(2) == 0 { // another state is taken for one of them, until more is known
				k := r.IntN(len(said))
				said = append(append(span.Timeline[verdict.State]{}, said[:k+1]...), said[min(k+2, len(said)):]...)
			}
			list = kept(list, incident.Follow(gates, list, incident.Line{States: said}, now, ordinary))
			agree(t, seed, list, said, now)
		}
	}
}

func agree(t *testing.T, seed uint64, list []incident.Incident, said span.Timeline[verdict.State], now span.Instant) {
	t.Helper()
	in := func(i span.Instant) (n, open int) {
		for _, x := range list {
			if x.ResolvedAt == nil {
				open++
			}
			if when := x.Lasted(now); !x.Unfounded && x.Cause == 0 && when.From <= i && (i < when.To || x.EndedAt == nil) {
				n++
			}
		}
		return n, open
	}
	for _, s := range said {
		if s.At > now || s.At < 0 {
			continue
		}
		n, _ := in(s.At)
		if bad := s.Value == verdict.Down || s.Value == verdict.Degraded; bad && n != 1 {
			t.Fatalf("seed %d: %s at %s is in %d incidents: %+v\n%v", seed, s.Value, s.At, n, list, said)
		}
	}
	trouble := false
	for _, s := range said {
		if s.At > now {
			break
		}
		switch s.Value {
		case verdict.Unmeasured:
		default:
			trouble = s.Value != verdict.Up
		}
	}
	if _, open := in(now); open > 1 || (open == 1) != trouble {
		t.Fatalf("seed %d: %d incidents are open, and trouble is %v", seed, open, trouble)
	}
	for _, x := range list {
		if w := x.Lasted(now); w.To < w.From || x.Times < 1 || x.LatestAt < x.BeganAt {
			t.Fatalf("seed %d: %+v", seed, x)
		}
	}
}

func TestResolvedByHand(t *testing.T) {
	now := 12 * minute
	list := kept(nil, incident.Follow(gates, nil, line(step{10, verdict.Degraded}), now, ordinary))
	if _, err := list[0].Resolve("astrid", now, ""); err == nil {
		t.Error("resolved without a reason while it lasts")
	}
	c, err := list[0].Resolve("astrid", now, "The supplier knows; nobody sails before five.")
	if err != nil {
		t.Fatal(err)
	}
	list = kept(list, []incident.Changed{c})
	if got := incident.Follow(gates, list, line(step{10, verdict.Degraded}), now+minute, ordinary); len(got) > 0 {
		t.Errorf("what a person resolved opened by itself: %+v", got)
	}
	worse := incident.Follow(gates, list, line(step{10, verdict.Degraded}, step{15, verdict.Down}), 16*minute, ordinary)
	if got := kept(list, worse); got[0].ResolvedAt != nil || got[0].State != verdict.Down {
		t.Errorf("worse than when it was resolved: %+v", got[0])
	}
	over := kept(list, incident.Follow(gates, list, line(step{10, verdict.Degraded}, step{15, verdict.Up}), 16*minute, ordinary))
	if over[0].EndedAt == nil || *over[0].EndedAt != 15*minute || over[0].ResolvedBy != "astrid" {
		t.Errorf("%+v", over[0])
	}
	back := kept(over, incident.Follow(gates, over, line(step{10, verdict.Degraded}, step{15, verdict.Up}, step{18, verdict.Degraded}),
		19*minute, ordinary))
	if len(back) != 1 || back[0].ResolvedAt != nil || back[0].Times != 2 {
		t.Errorf("back again: %+v", back)
	}
}
