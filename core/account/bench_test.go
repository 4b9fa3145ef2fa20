package account_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// outages makes the stretches of a month measured every step ms with so many outages.
func outages(from span.Instant, days, n int, step int64, shift uint64) []verdict.Stretch {
	r := rand.New(rand.NewPCG(shift, 1))
	set := verdict.Settings{Confirm: 2, Recover: 1, StaleAfter: 5 * step / 2}
	ticks := int(int64(days) * span.Day / step)
	every := max(1, ticks/max(1, n))
	var s verdict.Series
	var out []verdict.Stretch
	for m := range ticks {
		own := verdict.Up
		if n > 0 && m%every < 3 {
			own = verdict.Down
		}
		out = s.Add(out, from.Add(int64(m)*step+int64(r.IntN(20))), own, set)
	}
	return s.AtEnd(out)
}

// bundleOf is a month of so many services with one check from three locations and one agreement each.
func bundleOf(t testing.TB, services int, start, end string) *definition.Compiled {
	t.Helper()
	b := definition.Bundle{Format: definition.Format, Period: definition.Period{Timezone: "Europe/Oslo", Start: start, End: end}}
	for i := range services {
		id := fmt.Sprintf("s%04d", i)
		b.Services = append(b.Services, definition.Service{ID: id, Kind: "business", Combine: "worst", Checks: []definition.Check{{
			ID: "c-" + id, Kind: "http", IntervalS: 60, StaleAfterS: 150, Confirm: 2, Recover: 1, Quorum: "majority", Role: "decides", Locations: []string{"a", "b", "c"},
		}}})
		b.Agreements = append(b.Agreements, definition.Agreement{
			ID: id, Service: id, TargetPercent: "99.9", DegradedWeightPercent: "0", MinCoveragePercent: "0", Unmeasured: "exclude",
			Maintenance: definition.Maintenance{Mode: "exclude"},
		})
		b.Windows = append(b.Windows, definition.Window{ID: "w-" + id, Services: []string{id}, Start: "2025-01-05T02:00:00", Timezone: "Europe/Oslo", DurationS: 3600, RRule: "FREQ=WEEKLY;BYDAY=SU"})
	}
	c, err := definition.Compile(b)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// BenchmarkThirteenMonthsOfAThousandAgreements accounts 13 months of 1,000
// agreements, each with a weekly window and a check from three locations with
// four outages a month, from stretches, on two cores.
func BenchmarkThirteenMonthsOfAThousandAgreements(b *testing.B) {
	var months []*definition.Compiled
	for m := range 13 {
		months = append(months, bundleOf(b, 1000, fmt.Sprintf("%d-%02d-01T00:00:00", 2025+m/12, 1+m%12), fmt.Sprintf("%d-%02d-01T00:00:00", 2025+(m+1)/12, 1+(m+1)%12)))
	}
	stretches := make([]map[string][]verdict.Stretch, len(months))
	for i, c := range months {
		stretches[i] = map[string][]verdict.Stretch{}
		for n, l := range []string{"a", "b", "c"} {
			stretches[i][l] = outages(c.Span.From, int(c.Span.Length()/span.Day), 4, span.Minute, uint64(n))
		}
	}
	for b.Loop() {
		var all sync.WaitGroup
		for core := range 2 {
			all.Go(func() {
				for i := core; i < len(months); i += 2 {
					list, err := account.NewEvidence(months[i], func(_, l string) []verdict.Stretch { return stretches[i][l] }, nil).All()
					if err != nil || len(list) != 1000 || list[999].Outages.Count == 0 {
						b.Error(err)
					}
				}
			})
		}
		all.Wait()
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N), "s/13-months")
}

// BenchmarkCostFollowsChanges accounts one month of one service: the same
// measurements with more and more outages, and the same outages in more and
// more measurements.
func BenchmarkCostFollowsChanges(b *testing.B) {
	c := bundleOf(b, 1, "2025-03-01T00:00:00", "2025-04-01T00:00:00")
	run := func(name string, n int, step int64) {
		b.Run(name, func(b *testing.B) {
			list := outages(c.Span.From, 31, n, step, 7)
			for b.Loop() {
				if _, err := account.NewEvidence(c, func(string, string) []verdict.Stretch { return list }, nil).All(); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	for _, n := range []int{0, 10, 100, 1000, 10_000} {
		run(fmt.Sprintf("measurements=44640/outages=%d", n), n, span.Minute)
	}
	for _, step := range []int64{10 * span.Minute, span.Minute, 6 * span.Second} {
		run(fmt.Sprintf("outages=10/measurements=%d", 31*span.Day/step), 10, step)
	}
}
