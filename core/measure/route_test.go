package measure_test

import (
	"math"
	"testing"

	"kestite/core/measure"
)

func route(reached bool, hops ...string) measure.Route {
	r := measure.Route{Reached: reached}
	for _, h := range hops {
		if h == "" {
			r.Hops = append(r.Hops, nil)
			continue
		}
		r.Hops = append(r.Hops, []string{h})
	}
	return r
}

func TestRoutesDiffer(t *testing.T) {
	for _, c := range []struct {
		name          string
		before, after measure.Route
		want          string
	}{
		{"equal", route(true, "a", "b", "c"), route(true, "a", "b", "c"), ""},
		{"another hop", route(true, "a", "b", "c"), route(true, "a", "x", "c"), "hop 2 was b and is x"},
		{"a hop fell silent", route(true, "a", "b", "c"), route(true, "a", "", "c"), ""},
		{"a silent hop speaks", route(true, "a", "", "c"), route(true, "a", "b", "c"), ""},
		{"longer", route(true, "a", "c"), route(true, "a", "", "c"), "the target was 2 hops away and is 3"},
		{"cut short", route(true, "a", "b", "c"), route(false, "a", "b"), ""},
		{"cut short elsewhere", route(true, "a", "b", "c"), route(false, "a", "x"), "hop 2 was b and is x"},
	} {
		if got := c.before.Differs(c.after); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	several := measure.Route{Hops: [][]string{{"a", "b"}}}
	if got := several.Differs(route(false, "b")); got != "" {
		t.Errorf("a hop of several addresses that answers by one of them: %q", got)
	}
}

func TestFingerprintOutlivesSilence(t *testing.T) {
	whole := route(true, "a", "b", "c")
	for name, later := range map[string]measure.Route{
		"equal": whole, "silent in the middle": route(true, "a", "", "c"), "cut short": route(false, "a"), "nothing": route(false),
	} {
		if joined := whole.Joined(later); joined.Fingerprint() != whole.Fingerprint() {
			t.Errorf("%s: the fingerprint of %v is not that of %v", name, joined, whole)
		}
	}
	if whole.Fingerprint() == route(true, "a", "x", "c").Fingerprint() || whole.Fingerprint() == route(true, "b", "a", "c").Fingerprint() {
		t.Error("different routes share a fingerprint")
	}
	if f := whole.Fingerprint(); float32(f) != float32(uint32(float32(f))) || f >= 1<<24 {
		t.Errorf("%d is not held exactly by a single-precision number", f)
	}
}

func TestHeld(t *testing.T) {
	none := math.NaN()
	for _, c := range []struct {
		looks  []float64
		since  int
		before float64
	}{
		{nil, -1, none}, {[]float64{none, none}, -1, none}, {[]float64{7}, 0, none}, {[]float64{7, 7, none, 7}, 3, none},
		{[]float64{7, 7, 5, 7}, 1, 5}, {[]float64{none, 7, none, 5, 5}, 1, 5}, {[]float64{7, none, none}, 0, none},
	} {
		since, before := measure.Held(c.looks)
		if since != c.since || before != c.before && !(math.IsNaN(before) && math.IsNaN(c.before)) {
			t.Errorf("of %v: %d, before %v", c.looks, since, before)
		}
	}
}
