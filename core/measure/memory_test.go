package measure_test

import (
	"math"
	"strings"
	"testing"

	"kestite/core/measure"
)

func bound(v float64) *float64 { return &v }

// outcomes feeds values of the total, 10 s apart, and returns a letter for each outcome.
func outcomes(m *measure.Memory, limits []measure.Limit, totals ...float64) string {
	var out strings.Builder
	for i, v := range totals {
		values := measure.HTTP.None()
		values[0] = v
		o, _ := m.Rate(measure.HTTP, int64(i)*10_000, values, limits)
		out.WriteByte("eodf"[o])
	}
	return out.String()
}

func TestLimitsOverTime(t *testing.T) {
	nan := math.NaN()
	for _, c := range []struct {
		name   string
		limit  measure.Limit
		values []float64
		want   string
	}{
		{"three in a row", measure.Limit{Measure: "total_ms", DegradedAbove: bound(100), InARow: 3}, []float64{200, 200, 50, 200, 200, 200, 200, 50}, "oooooddo"},
		{"failed and degraded count apart", measure.Limit{Measure: "total_ms", DegradedAbove: bound(100), FailedAbove: bound(300), InARow: 2}, []float64{200, 400, 400, 200, 400}, "odfdd"},
		{"an absent value neither breaks nor mends", measure.Limit{Measure: "total_ms", FailedAbove: bound(100), InARow: 2}, []float64{200, nan, 200}, "oof"},
		{"for 20 s", measure.Limit{Measure: "total_ms", FailedAbove: bound(100), ForS: 20}, []float64{200, 200, 200, 50, 200, 200, 200}, "oofooof"},
		{"mean over 30 s", measure.Limit{Measure: "total_ms", DegradedAbove: bound(100), MeanS: 30}, []float64{190, 120, 60, 180, 60, 30}, "ooodoo"},
		{"below", measure.Limit{Measure: "total_ms", FailedBelow: bound(10), InARow: 2}, []float64{5, 5, 50}, "ofo"},
	} {
		var m measure.Memory
		if got := outcomes(&m, []measure.Limit{c.limit}, c.values...); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		values := measure.HTTP.None()
		values[0] = c.values[0]
		if o, why := measure.HTTP.Rate(values, []measure.Limit{c.limit}); o != measure.OK {
			t.Errorf("%s: judged at once too: %v %s", c.name, o, why)
		}
	}
}

func TestChangedLimitStartsAnew(t *testing.T) {
	var m measure.Memory
	l := measure.Limit{Measure: "total_ms", FailedAbove: bound(100), InARow: 3}
	outcomes(&m, []measure.Limit{l}, 200, 200)
	if got := outcomes(&m, []measure.Limit{l}, 200); got != "f" {
		t.Errorf("the third in a row: %q", got)
	}
	l.FailedAbove = bound(150)
	if got := outcomes(&m, []measure.Limit{l}, 200); got != "o" {
		t.Errorf("the first under a changed limit: %q", got)
	}
}

// A mean waits until what was measured covers its time: when counting begins anew, and after a
// gap; a check that measures more rarely than that goes on.
func TestAMeanIsNotOfOneMeasurement(t *testing.T) {
	limit := measure.Limit{Measure: "total_ms", FailedAbove: bound(100), MeanS: 10}
	at := func(m *measure.Memory, seconds ...int64) string {
		var out strings.Builder
		for _, s := range seconds {
			values := measure.HTTP.None()
			values[0] = 900
			o, _ := m.Rate(measure.HTTP, s*1000, values, []measure.Limit{limit})
			out.WriteByte("eodf"[o])
		}
		return out.String()
	}
	for name, x := range map[string]struct {
		gap     int64
		seconds []int64
		want    string
	}{
		"every 5 s":                 {15_000, []int64{0, 5, 10, 15}, "ooff"},
		"every 4 s":                 {15_000, []int64{0, 4, 8, 12}, "ooof"},
		"after a gap, anew":         {15_000, []int64{0, 5, 10, 26, 31, 36}, "oofoof"},
		"at the gap's edge, no gap": {15_000, []int64{0, 5, 10, 25}, "ooff"},
		"more rarely than the time": {90_000, []int64{0, 30, 60}, "off"},
	} {
		if got := at(&measure.Memory{Gap: x.gap}, x.seconds...); got != x.want {
			t.Errorf("%s: %q, want %q", name, got, x.want)
		}
	}
}

func TestImpossibleLimits(t *testing.T) {
	for want, c := range map[string]struct {
		kind  measure.Kind
		limit measure.Limit
	}{
		"impossible; it lies between 1 and 4.5": {measure.UDP, measure.Limit{Measure: "mos", DegradedBelow: bound(0.5)}},
		"between 0 and 100 %":                   {measure.Ping, measure.Limit{Measure: "loss_percent", FailedAbove: bound(101)}},
		"choose one":                            {measure.Ping, measure.Limit{Measure: "loss_percent", FailedAbove: bound(10), InARow: 2, MeanS: 60}},
	} {
		if err := c.limit.Check(c.kind); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v; want %q", c.limit, err, want)
		}
	}
}
