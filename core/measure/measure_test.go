package measure

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestRoundTrips(t *testing.T) {
	nan := math.NaN()
	for name, c := range map[string]struct{ in, want []float64 }{
		"all answered":     {[]float64{1, 3, 2}, []float64{0, 1, 2, 3, 1.5}},
		"one lost between": {[]float64{1, nan, 4, 4}, []float64{25, 1, 3, 4, 1.5}},
		"one answered":     {[]float64{nan, 5}, []float64{50, 5, 5, 5, nan}},
		"none answered":    {[]float64{nan, nan}, []float64{100, nan, nan, nan, nan}},
		"none sent":        {nil, []float64{nan, nan, nan, nan, nan}},
	} {
		got := RoundTrips(c.in)
		if !slices.EqualFunc(got, c.want, func(a, b float64) bool { return a == b || math.IsNaN(a) && math.IsNaN(b) }) {
			t.Errorf("%s: %v, not %v", name, got, c.want)
		}
	}
}

func TestTheWorstLimitRates(t *testing.T) {
	v := func(x float64) *float64 { return &x }
	limits := []Limit{{Measure: "total_ms", DegradedAbove: v(100), FailedAbove: v(500)}, {Measure: "size_bytes", FailedBelow: v(10), DegradedBelow: v(20)}}
	values := func(total, size float64) []float64 {
		out := HTTP.None()
		out[0], out[6] = total, size
		return out
	}
	for _, c := range []struct {
		total, size float64
		want        Outcome
		why         string
	}{
		{50, 30, OK, ""}, {100, 20, OK, ""}, {101, 30, Degraded, "Total 101 ms is above 100 ms"}, {501, 15, Failed, "above 500"},
		{150, 5, Failed, "Size 5 B is below 10 B"}, {math.NaN(), 30, OK, ""},
	} {
		if got, why := HTTP.Rate(values(c.total, c.size), limits); got != c.want || !strings.Contains(why, c.why) {
			t.Errorf("%v ms, %v B: %s %q", c.total, c.size, got, why)
		}
	}
}

func TestSketchQuantilesSurviveMergingAndStoring(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var all []float64
	var merged Sketch
	for range 5 {
		var part Sketch
		for range 2000 {
			v := math.Exp(r.NormFloat64()) * 40
			all = append(all, v)
			part.Add(v)
		}
		data, err := part.MarshalBinary()
		if err != nil {
			t.Fatal(err)
		}
		var back Sketch
		if err := back.UnmarshalBinary(data); err != nil {
			t.Fatal(err)
		}
		merged.Merge(back)
	}
	slices.Sort(all)
	for _, q := range []float64{0, 0.01, 0.5, 0.95, 0.999} {
		want := all[int(q*float64(len(all)-1))]
		if got := merged.Quantile(q); math.Abs(got-want) > 0.021*want {
			t.Errorf("quantile %v is %v, not %v within 2 %%", q, got, want)
		}
	}
	if merged.Count() != uint64(len(all)) || !math.IsNaN((&Sketch{}).Quantile(0.5)) {
		t.Error("count, or the quantile of nothing")
	}
	if (&Sketch{}).UnmarshalBinary([]byte{0x80}) == nil {
		t.Error("a bucket cut short was read")
	}
}
