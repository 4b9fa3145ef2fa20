package notice

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
)

func weekly(members ...string) definition.PoolSpec {
	return definition.PoolSpec{Name: "Gates", Members: members,
		Rotation: &definition.Rotation{Timezone: "Europe/Oslo", Every: "week", At: "08:00", From: "2026-10-05"}}
}

func TestDutyGoesRound(t *testing.T) {
	daily := definition.PoolSpec{Name: "Desk", Members: []string{"a", "b", "c"},
		Rotation: &definition.Rotation{Timezone: "Europe/Oslo", Every: "day", At: "20:00", From: "2026-10-24"}}
	covered := weekly("a", "b")
	covered.Overrides = []definition.Override{{From: "2026-10-14T12:00", To: "2026-10-16T12:00", Person: "x"},
		{From: "2026-10-15T00:00", To: "2026-10-15T08:00", Person: "y"}}
	for _, c := range []struct {
		pool definition.PoolSpec
		at   string
		want []string
	}{
		{weekly("a", "b", "c"), "2026-10-05T05:59:59Z", nil}, // 07:59:59 of the first day
		{weekly("a", "b", "c"), "2026-10-05T06:00:00Z", []string{"a"}},
		{weekly("a", "b", "c"), "2026-10-12T05:59:59.999Z", []string{"a"}},
		{weekly("a", "b", "c"), "2026-10-12T06:00:00Z", []string{"b"}},
		{weekly("a", "b", "c"), "2026-10-26T06:59:59Z", []string{"c"}}, // clocks went back: 08:00 is 07:00 UTC now
		{weekly("a", "b", "c"), "2026-10-26T07:00:00Z", []string{"a"}},
		{weekly("a", "b", "c"), "2036-10-06T06:00:00Z", []string{"a"}}, // 522 weeks on
		{daily, "2026-10-24T17:59:59Z", nil},
		{daily, "2026-10-24T18:00:00Z", []string{"a"}},
		{daily, "2026-10-25T18:59:59Z", []string{"a"}}, // a day of 25 hours
		{daily, "2026-10-25T19:00:00Z", []string{"b"}},
		{covered, "2026-10-14T09:59:59Z", []string{"b"}},
		{covered, "2026-10-14T10:00:00Z", []string{"x"}},
		{covered, "2026-10-15T05:00:00Z", []string{"y"}},
		{covered, "2026-10-15T06:00:00Z", []string{"x"}},
		{covered, "2026-10-16T10:00:00Z", []string{"b"}},
		{definition.PoolSpec{Name: "All", Members: []string{"a", "b"}}, "2026-10-16T10:00:00Z", []string{"a", "b"}},
	} {
		if err := definition.Valid(c.pool); err != nil {
			t.Fatal(err)
		}
		if got := OnDuty(c.pool, instant(c.at)); !slices.Equal(got, c.want) {
			t.Errorf("%s at %s: %v is on duty, want %v", c.pool.Name, c.at, got, c.want)
		}
	}
}

// Turns leave no gap, and every instant of one is of whom OnDuty names.
func TestTurnsHaveNoGaps(t *testing.T) {
	p := weekly("a", "b", "c")
	p.Overrides = []definition.Override{{From: "2026-10-14T12:00", To: "2026-10-29T12:00", Person: "x"}}
	within := span.Span{From: instant("2026-09-20T00:00:00Z"), To: instant("2027-04-20T00:00:00Z")}
	at := within.From
	for _, turn := range Turns(p, within) {
		if turn.From != at || turn.Empty() {
			t.Fatalf("a turn is from %s to %s, after one to %s", turn.From, turn.To, at)
		}
		for _, i := range []span.Instant{turn.From, turn.To - 1} {
			if on := OnDuty(p, i); len(on) == 0 && turn.Person != "" || len(on) == 1 && on[0] != turn.Person {
				t.Errorf("at %s %v is on duty, the turn is of %q", i, on, turn.Person)
			}
		}
		at = turn.To
	}
	if at != within.To {
		t.Errorf("turns end at %s, want %s", at, within.To)
	}
}

func TestReach(t *testing.T) {
	office := &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "08:00", To: "16:00"}}}
	d := Directory{
		People: map[string]Person{
			"a": {ID: "a", Name: "Astrid", Methods: []Method{{ID: "1", Kind: definition.Mail, Address: "a@skerry.example", Verified: true},
				{ID: "2", Kind: definition.SMS, Address: "+4670123456"}}},
			"b": {ID: "b", Name: "Bo", Methods: []Method{{ID: "3", Kind: definition.SMS, Address: "+4670654321", Verified: true, Active: office}}},
			"c": {ID: "c", Name: "Cato", Gone: true},
		},
		Pools:    map[string]definition.PoolSpec{"gates": weekly("a", "b", "c")},
		Contacts: map[string]definition.ContactSpec{"room": {Kind: definition.Chat, Address: "https://chat.skerry.example/gates"}},
	}
	all := func(string) bool { return true }
	mail := func(kind string) bool { return kind == definition.Mail }
	night := "2026-10-13T01:00:00Z" // Tuesday
	for _, c := range []struct {
		to   definition.Recipient
		in   func(string) bool
		at   string
		want string
	}{
		{definition.Recipient{Contact: "room"}, all, night, "chat 2026-10-13T01:00"},
		{definition.Recipient{Contact: "gone"}, all, night, "- the contact method is retired"},
		{definition.Recipient{Person: "a"}, all, night, "inbox 2026-10-13T01:00, mail 2026-10-13T01:00, sms +4670123456 was never verified"},
		{definition.Recipient{Person: "a"}, mail, night, "inbox 2026-10-13T01:00, mail 2026-10-13T01:00"},
		{definition.Recipient{Person: "b"}, all, night, "inbox 2026-10-13T01:00, sms 2026-10-19T06:00"},
		{definition.Recipient{Person: "c"}, all, night, "- Cato has no account any more"},
		{definition.Recipient{Person: "d"}, all, night, "- the person has no account any more"},
		{definition.Recipient{Pool: "gates"}, all, night, "inbox 2026-10-13T01:00, sms 2026-10-19T06:00"},
		{definition.Recipient{Pool: "gates"}, all, "2026-10-04T01:00:00Z", "- nobody of Gates is on duty"},
		{definition.Recipient{Pool: "none"}, all, night, "- the pool is retired"},
	} {
		var got []string
		for _, w := range d.Reach(c.to, c.in, instant(c.at)) {
			kind, says := w.Kind, w.At.String()[:16]
			if kind == "" {
				kind = "-"
			}
			if w.Why != "" {
				says = w.Why
			}
			got = append(got, kind+" "+says)
		}
		if joined := strings.Join(got, ", "); joined != c.want {
			t.Errorf("%+v at %s: %s, want %s", c.to, c.at, joined, c.want)
		}
	}
}

func TestWhichPlans(t *testing.T) {
	var records []catalogue.Record
	define := func(kind, id string, spec any) {
		t.Helper()
		body, err := json.Marshal(spec)
		if err != nil {
			t.Fatal(err)
		}
		records = append(records, catalogue.Record{Kind: kind, ID: id, Number: 1, Body: body})
	}
	tell := []definition.NoticeStep{{Tell: []definition.Recipient{{Person: "a"}}}}
	define(catalogue.NoticePlan, "own", definition.NoticePlanSpec{Name: "Own", Steps: tell})
	define(catalogue.NoticePlan, "team", definition.NoticePlanSpec{Name: "Team", Steps: tell})
	define(catalogue.NoticePlan, "certificates", definition.NoticePlanSpec{Name: "Certificates", Steps: tell, Everywhere: true,
		About: []string{incident.Check}, CheckKinds: []string{"certificate"}})
	define(catalogue.NoticePlan, "tagged", definition.NoticePlanSpec{Name: "Tagged", Steps: tell, Everywhere: true, Tags: []string{"money"}})
	define(catalogue.Team, "gates", definition.TeamSpec{Name: "Gates", NoticePlan: "team"})
	define(catalogue.Service, "plain", definition.ServiceSpec{Name: "Plain", Kind: "business", Owner: "gates"})
	define(catalogue.Service, "own", definition.ServiceSpec{Name: "Own", Kind: "business", Owner: "gates",
		Notices: &definition.NoticeChoice{Plan: "own"}})
	define(catalogue.Service, "both", definition.ServiceSpec{Name: "Both", Kind: "business", Owner: "gates", Tags: []string{"money"},
		Notices: &definition.NoticeChoice{Plan: "own", Owner: true}})
	define(catalogue.Check, "cert", definition.CheckSpec{Service: "plain", Kind: "certificate", Name: "Certificate"})
	snap := catalogue.New(records, 0)
	for _, c := range []struct{ about, id, service, want string }{
		{incident.Service, "plain", "plain", "team owner"},
		{incident.Service, "own", "own", "own service"},
		{incident.Service, "both", "both", "own service, team owner, tagged everywhere"},
		{incident.Check, "cert", "plain", "team owner, certificates everywhere"},
		{incident.Location, "eskerby", "", ""},
	} {
		var got []string
		for _, p := range Plans(snap, incident.Subject{About: c.about, ID: c.id}, c.service) {
			got = append(got, p.Plan+" "+p.By)
		}
		if joined := strings.Join(got, ", "); joined != c.want {
			t.Errorf("%s %s follows %q, want %q", c.about, c.id, joined, c.want)
		}
	}
}
