package response

import (
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/measure"
	"kestite/core/span"
)

// The nearest rank is the smallest value that enough of all do not exceed, by counting.
func TestPercentilesByCounting(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		values := make([]int64, 1+r.IntN(300))
		for i := range values {
			values[i] = int64(r.IntN(40))
		}
		slices.Sort(values)
		for p := 1; p <= 100; p++ {
			want := int64(-1)
			for _, v := range values {
				below := 0
				for _, w := range values {
					if w <= v {
						below++
					}
				}
				if below*100 >= p*len(values) {
					want = v
					break
				}
			}
			if got := Percentile(values, p); got != want {
				t.Fatalf("%d of %v: %d, by counting %d", p, values, got, want)
			}
		}
	}
	if Percentile(nil, 50) != 0 {
		t.Error("a percentile of nothing")
	}
}

// What counts is what was answered within the hours, by check and location.
func TestSummaries(t *testing.T) {
	times := Times{Hours: span.Set{{From: 0, To: 100}, {From: 200, To: 300}}}
	for i := range 100 {
		times.Add(Key{"b", "north"}, "total_ms", span.Instant(i), int64(1000*(100-i)))
	}
	times.Add(Key{"b", "north"}, "total_ms", 100, 9_999_999) // outside
	times.Add(Key{"b", "north"}, "total_ms", 150, 9_999_999)
	times.Add(Key{"a", "south"}, "rtt_mean_ms", 299, 7)
	want := []Summary{{"a", "south", "rtt_mean_ms", 1, 7, 7, 7, 7, 7}, {"b", "north", "total_ms", 100, 50_000, 90_000, 95_000, 99_000, 100_000}}
	if got := times.Summaries(); !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
	if got := (&Times{}).Summaries(); got != nil {
		t.Errorf("of nothing: %+v", got)
	}
}

// Kinds time what their summaries follow, and a certificate's days are no time.
func TestWhatIsTimed(t *testing.T) {
	for kind, want := range map[string]string{"http": "total_ms", "ping": "rtt_mean_ms", "tcp": "connect_ms", "dns": "total_ms", "certificate": "", "no-such": ""} {
		if name, _, is := Measure(kind); name != want || is != (want != "") {
			t.Errorf("%s: %q, %v", kind, name, is)
		}
	}
	if Answered(measure.Failed) || Answered(measure.Error) || !Answered(measure.OK) || !Answered(measure.Degraded) {
		t.Error("what is answered")
	}
}
