package incident_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

// graph is services by level, each needing some of those below.
type graph struct {
	needs  map[string][]string
	levels [][]string
}

func generated(r *rand.Rand) graph {
	g := graph{needs: map[string][]string{}}
	for level := range 2 + r.IntN(4) {
		var list []string
		for n := range 1 + r.IntN(4) {
			id := fmt.Sprintf("s%d-%d", level, n)
			if level > 0 {
				below := slices.Concat(g.levels...)
				for range 1 + r.IntN(3) {
					g.needs[id] = append(g.needs[id], below[r.IntN(len(below))])
				}
			}
			list = append(list, id)
		}
		g.levels = append(g.levels, list)
	}
	return g
}

func (g graph) needed(id string) []string {
	seen := map[string]bool{}
	var visit func(string)
	visit = func(x string) {
		if !seen[x] {
			seen[x] = true
			for _, n := range g.needs[x] {
				visit(n)
			}
		}
	}
	visit(id)
	var out []string
	for x := range seen {
		out = append(out, x)
	}
	slices.Sort(out)
	return out
}

// A service fails, and takes along what needs it, in whatever order that is noticed: all
// stands under it in the end, and never under one that was up.
func TestTheUpstreamOneIsTheCause(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 7))
		g := generated(r)
		root := g.levels[0][r.IntN(len(g.levels[0]))]
		var hit []string
		for _, id := range slices.Concat(g.levels...) {
			if slices.Contains(g.needed(id), root) {
				hit = append(hit, id)
			}
		}
		r.Shuffle(len(hit), func(i, j int) { hit[i], hit[j] = hit[j], hit[i] })
		var list []incident.Incident
		for n, id := range hit {
			now := span.Instant(n+1) * minute
			list = append(list, incident.Incident{ID: int64(n + 1), Subject: incident.Subject{About: incident.Service, ID: id}, BeganAt: now,
				LatestAt: now, State: verdict.Down, Worst: verdict.Down, Severity: "major", Times: 1})
			list = kept(list, incident.Group(list, g.needed, now))
			for _, i := range list {
				if i.Cause != 0 && !slices.Contains(g.needed(i.Subject.ID), list[i.Cause-1].Subject.ID) {
					t.Fatalf("seed %d: %s is put under %s, which it does not need", seed, i.Subject.ID, list[i.Cause-1].Subject.ID)
				}
				if i.Cause != 0 && list[i.Cause-1].Cause != 0 {
					t.Fatalf("seed %d: causes stand under causes: %+v", seed, list)
				}
			}
		}
		for _, i := range list {
			switch {
			case i.Subject.ID == root && i.Cause != 0:
				t.Errorf("seed %d: the cause %s stands under %d", seed, root, i.Cause)
			case i.Subject.ID != root && (i.Cause == 0 || list[i.Cause-1].Subject.ID != root):
				t.Errorf("seed %d: %s does not stand under %s", seed, i.Subject.ID, root)
			}
		}
		if again := incident.Group(list, g.needed, 99*minute); len(again) > 0 {
			t.Errorf("seed %d: the same again changes %+v", seed, again)
		}
	}
}

func TestWhatPeopleDecideOnCausesStays(t *testing.T) {
	needed := func(id string) []string {
		return map[string][]string{"gates": {"gates", "quay", "power"}, "quay": {"quay", "power"}, "check-in": {"check-in", "gates", "quay",
			"power"}}[id]
	}
	at := func(n int64, id string, s verdict.State) incident.Incident {
		return incident.Incident{ID: n, Subject: incident.Subject{About: incident.Service, ID: id}, BeganAt: span.Instant(n) * minute, State: s,
			Worst: s}
	}
	list := []incident.Incident{at(1, "gates", verdict.Down), at(2, "quay", verdict.Down), at(3, "check-in", verdict.Down)}
	list = kept(list, incident.Group(list, needed, 4*minute))
	if list[0].Cause != 2 || list[2].Cause != 2 {
		t.Fatalf("%+v", list)
	}
	apart, err := list[0].Apart("astrid", 5*minute)
	if err != nil {
		t.Fatal(err)
	}
	list = kept(list, []incident.Changed{apart})
	if list = kept(list, incident.Group(list, needed, 6*minute)); list[0].Cause != 0 {
		t.Errorf("%+v", list[0])
	}
	under, err := list[0].Under("astrid", 7*minute, list[1])
	if err != nil {
		t.Fatal(err)
	}
	list = append(kept(list, []incident.Changed{under}), at(4, "power", verdict.Down))
	list = kept(list, incident.Group(list, needed, 8*minute))
	for _, i := range list[:3] {
		if i.Cause != 4 {
			t.Errorf("%s stands under %d, and what it was put under under 4", i.Subject.ID, i.Cause)
		}
	}
	if list[0].CauseBy != "astrid" {
		t.Error("who decided is forgotten")
	}
	// The cause is over: what follows it gets a while, then it stands by itself.
	over := 9 * minute
	list[3].ResolvedAt, list[3].EndedAt, list[3].State = &over, &over, verdict.Up
	if changed := incident.Group(list, needed, 10*minute); slices.ContainsFunc(changed,
		func(c incident.Changed) bool { return c.Cause == 0 }) {
		t.Errorf("let go at once: %+v", changed)
	}
	// A degraded one does not explain one that is down.
	mild := []incident.Incident{at(1, "gates", verdict.Down), at(2, "quay", verdict.Degraded)}
	if changed := incident.Group(mild, needed, 4*minute); len(changed) != 0 {
		t.Errorf("%+v", changed)
	}
}

func TestWhatFollowedIsLetGo(t *testing.T) {
	over := 9 * minute
	list := []incident.Incident{
		{ID: 1, Subject: incident.Subject{About: incident.Service, ID: "quay"}, ResolvedAt: &over, EndedAt: &over},
		{ID: 2, Subject: incident.Subject{About: incident.Service, ID: "gates"}, State: verdict.Down, Cause: 1},
	}
	needed := func(string) []string { return []string{"quay"} }
	if changed := incident.Group(list, needed, over+span.Instant(incident.LetGo)-1); len(changed) != 0 {
		t.Errorf("let go too early: %+v", changed)
	}
	changed := incident.Group(list, needed, over+span.Instant(incident.LetGo))
	if len(changed) != 1 || changed[0].Cause != 0 || changed[0].Events[0].Kind != incident.Freed {
		t.Errorf("%+v", changed)
	}
}
