package account_test

import (
	"math/rand/v2"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// A failure that is supposed costs what it would cost if it came: against the final
// account of the same day in which it did, under random clauses.
func TestSupposedFailuresAgainstThoseThatCame(t *testing.T) {
	start, _ := span.ParseInstant(midnight)
	missed, granted := 0, 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 11))
		now := 60 + r.IntN(900)
		from := now + r.IntN(200)
		to := from + 1 + r.IntN(300)
		pastFrom := r.IntN(now)
		pastTo := pastFrom + r.IntN(8)
		clauses := func(b *definition.Bundle) {
			a := &b.Agreements[0]
			a.TargetPercent = definition.Percent([]string{"99.9", "99", "95", "50"}[r.IntN(4)])
			a.Credits = []definition.Credit{{BelowPercent: "99", CreditPercent: "5"}, {BelowPercent: "90", CreditPercent: "25"}}
			a.Maintenance.Mode = []string{"ignore", "exclude", "forgive"}[r.IntN(3)]
			a.MinOutageS = int64(r.IntN(2) * 600)
			if r.IntN(2) == 0 {
				a.ServiceHours = definition.ServiceHours{Plan: &definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{},
					Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "06:00", To: "20:00"}}}}
			}
			b.Windows = []definition.Window{{ID: "w", Services: []string{"tickets"}, Start: "2026-03-02T12:00:00", Timezone: "UTC", DurationS: 7200}}
		}
		at := start.Add(int64(now) * span.Minute)
		running := bundle(t, func(b *definition.Bundle) { clauses(b); b.AsOf = &at })
		final := bundle(t, func(b *definition.Bundle) { *b = copied(running.Bundle) })
		outcome := func(m int) string {
			if m >= pastFrom && m < pastTo || m >= from && m < to {
				return "failed"
			}
			return "ok"
		}
		before := accountOf(t, running, minutely("page", "tolvik", now, outcome))
		after := accountOf(t, final, minutely("page", "tolvik", 1440, outcome))
		got := before.Suppose(span.Set{{From: start.Add(int64(from) * span.Minute), To: start.Add(int64(to) * span.Minute)}})
		if pastTo > now-3 || from == now { // what has just ended would join it: the least outage looks at both
			continue
		}
		if got.LeftMS != after.AllowanceLeftMS || got.Verdict != after.Verdict || got.CreditPercent != after.CreditPercent ||
			*got.AvailabilityPercent != *after.AvailabilityPercent || got.DowntimeMS != after.DowntimeMS-before.DowntimeMS {
			t.Fatalf("seed %d: supposed %+v (%s), and it was left %d, %s, credit %s, %s, downtime %d", seed, got, *got.AvailabilityPercent,
				after.AllowanceLeftMS, after.Verdict, after.CreditPercent, *after.AvailabilityPercent, after.DowntimeMS-before.DowntimeMS)
		}
		if (got.RunsOutAt != nil) != (got.LeftMS < 0) {
			t.Errorf("seed %d: %d is left, and it runs out at %v", seed, got.LeftMS, got.RunsOutAt)
		}
		if got.Verdict == account.Missed {
			missed++
		}
		if got.DowntimeMS < int64(to-from)*span.Minute {
			granted++
		}
	}
	if missed < 20 || granted < 20 {
		t.Errorf("%d missed and %d partly without cost are too few to prove anything", missed, granted)
	}
}

func copied(b definition.Bundle) definition.Bundle {
	b.AsOf = nil
	return b
}

func TestWhenASupposedFailureUsesTheAllowanceUp(t *testing.T) {
	asOf, _ := span.ParseInstant("2026-03-02T12:00:00Z")
	c := bundle(t, func(b *definition.Bundle) {
		b.AsOf = &asOf
		b.Agreements[0].TargetPercent = "99" // 14 min 24 s a day
	})
	a := accountOf(t, c, minutely("page", "tolvik", 720, downBetween(600, 610)))
	for _, x := range []struct {
		from, to string
		want     string
	}{
		{"2026-03-02T14:00:00Z", "2026-03-02T14:04:24Z", ""},
		{"2026-03-02T14:00:00Z", "2026-03-02T15:00:00Z", "2026-03-02T14:04:24.000Z"},
		{"2026-03-03T14:00:00Z", "2026-03-03T15:00:00Z", ""}, // of the next day
	} {
		from, _ := span.ParseInstant(x.from)
		to, _ := span.ParseInstant(x.to)
		got := ""
		if at := a.Suppose(span.Set{{From: from, To: to}}).RunsOutAt; at != nil {
			got = at.String()
		}
		if got != x.want {
			t.Errorf("%s to %s: it runs out at %q, want %q", x.from, x.to, got, x.want)
		}
	}
	if accountOf(t, bundle(t, nil), minutely("page", "tolvik", 1440, downBetween(0, 0))).Suppose(span.Set{{From: asOf, To: asOf + 1}}) != nil {
		t.Error("a failure is supposed in an account that is final")
	}
}
