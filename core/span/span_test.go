package span

import (
	"math/rand/v2"
	"testing"
)

// naive is a set as a list of the instants in it, for small ranges.
func naive(set Set, n Instant) []bool {
	out := make([]bool, n)
	for i := range out {
		out[i] = set.Contains(Instant(i))
	}
	return out
}

func randomSet(r *rand.Rand, n int) Set {
	var spans []Span
	for range r.IntN(6) {
		from := Instant(r.IntN(n))
		spans = append(spans, Span{from, from + Instant(r.IntN(8))})
	}
	return Union(spans...)
}

func TestSetsAgreeWithListsOfInstants(t *testing.T) {
	const n = 40
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		a, b := randomSet(r, n), randomSet(r, n)
		in, inB := naive(a, n+10), naive(b, n+10)
		both, only := naive(a.Intersect(b), n+10), naive(a.Without(b), n+10)
		var length int64
		for i := range both {
			if both[i] != (in[i] && inB[i]) {
				t.Fatalf("%v ∩ %v at %d is %v", a, b, i, both[i])
			}
			if only[i] != (in[i] && !inB[i]) {
				t.Fatalf("%v without %v at %d is %v", a, b, i, only[i])
			}
			if in[i] {
				length++
			}
		}
		if rest := a.Without(b); rest.Length() != length-a.Intersect(b).Length() || len(Union(rest...)) != len(rest) {
			t.Fatalf("%v without %v is %v", a, b, rest)
		}
		if a.Length() != length {
			t.Fatalf("length of %v is %d, not %d", a, a.Length(), length)
		}
		if k := int64(r.IntN(12)); a.Take(k).Length() != min(k, length) {
			t.Fatalf("take %d of %v is %v", k, a, a.Take(k))
		}
		for i := 1; i < len(a); i++ {
			if a[i].From <= a[i-1].To {
				t.Fatalf("%v has touching spans", a)
			}
		}
	}
}

func randomLine(r *rand.Rand, n int) Timeline[int] {
	line := Constant(r.IntN(3))
	for at := Instant(0); at < Instant(n); at += Instant(1 + r.IntN(7)) {
		line = line.Append(at, r.IntN(3))
	}
	return line
}

func TestTimelineOperationsAgreeInstantByInstant(t *testing.T) {
	const n = 40
	r := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		a, b := randomLine(r, n), randomLine(r, n)
		set := randomSet(r, n)
		over := a.Overlay(set, 9, func(v int) bool { return v != 1 })
		sum := Merge([]Timeline[int]{a, b}, func(v []int) int { return v[0]*10 + v[1] })
		where := a.Where(Span{5, 30}, func(v int) bool { return v == 2 })
		for i := Instant(-3); i < n+12; i++ {
			want := a.At(i)
			if set.Contains(i) && want != 1 {
				want = 9
			}
			if got := over.At(i); got != want {
				t.Fatalf("overlay of %v by %v at %d is %d, not %d", a, set, i, got, want)
			}
			if got := sum.At(i); got != a.At(i)*10+b.At(i) {
				t.Fatalf("merge at %d is %d", i, got)
			}
			if got := where.Contains(i); got != (i >= 5 && i < 30 && a.At(i) == 2) {
				t.Fatalf("where at %d is %v", i, got)
			}
		}
		for i := 1; i < len(sum); i++ {
			if sum[i].At <= sum[i-1].At || sum[i].Value == sum[i-1].Value {
				t.Fatalf("merge is not minimal: %v", sum)
			}
		}
	}
}

func TestParseInstantIsStrict(t *testing.T) {
	for text, want := range map[string]Instant{
		"1970-01-01T00:00:00Z":          0,
		"1970-01-01T00:00:00.001Z":      1,
		"1970-01-01T01:00:00+01:00":     0,
		"1970-01-01T00:00:00.100000Z":   100,
		"2026-03-02T00:00:00.000-00:00": 1772409600000,
	} {
		if got, err := ParseInstant(text); err != nil || got != want {
			t.Errorf("%s is %d, %v; want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"", "2026-03-02", "2026-03-02 00:00:00Z", "2026-03-02T00:00:00", "2026-03-02T00:00:00.0001Z", "2026-03-02T00:00:00,5Z", "2026-02-30T00:00:00Z", "2026-03-02T24:00:00Z", "2026-03-02T1:00:00Z"} {
		if got, err := ParseInstant(text); err == nil {
			t.Errorf("%q was read as %s", text, got)
		}
	}
}
