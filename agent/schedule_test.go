package agent

import (
	"fmt"
	"testing"
	"time"

	"kestite/agent/wire"
)

func TestStartsAreOnAFixedGrid(t *testing.T) {
	interval := 30 * time.Second
	ph := Phase("page", "tolvik", interval)
	if ph < 0 || ph >= interval || ph != Phase("page", "tolvik", interval) || ph == Phase("page", "eskerby", interval) {
		t.Fatalf("phase %s", ph)
	}
	at := time.UnixMilli(1_772_409_600_000)
	for range 100 {
		n := next(at, interval, ph)
		if !n.After(at) || n.Sub(at) > interval || (n.UnixMilli()-ph.Milliseconds())%interval.Milliseconds() != 0 {
			t.Fatalf("after %d comes %d", at.UnixMilli(), n.UnixMilli())
		}
		at = at.Add(7919 * time.Millisecond)
	}
}

func TestScheduleKeepsWhatStaysAndForgetsWhatGoes(t *testing.T) {
	now := time.UnixMilli(1_772_409_600_000)
	checks := func(n int) (out []wire.Check) {
		for i := range n {
			out = append(out, wire.Check{ID: fmt.Sprint(i), IntervalS: 10})
		}
		return out
	}
	s := newSchedule()
	s.set("tolvik", checks(50), now)
	seen := map[string]int{}
	for end := now.Add(20 * time.Second); !now.After(end); {
		ready, wake := s.take(now)
		for _, d := range ready {
			seen[d.check.ID]++
			if late := now.Sub(d.at); late < 0 || late > time.Second {
				t.Fatalf("%s is %s late", d.check.ID, late)
			}
		}
		now = wake
	}
	for id, n := range seen {
		if n != 2 {
			t.Errorf("check %s started %d times in 20 s", id, n)
		}
	}
	if len(seen) != 50 {
		t.Errorf("%d checks started", len(seen))
	}
	s.set("tolvik", checks(3), now)
	ready, _ := s.take(now.Add(10 * time.Second))
	if len(ready) != 3 {
		t.Errorf("%d of 3 checks are left", len(ready))
	}
}

func BenchmarkScheduleThousandChecks(b *testing.B) {
	s := newSchedule()
	var checks []wire.Check
	for i := range 1000 {
		checks = append(checks, wire.Check{ID: fmt.Sprint(i), IntervalS: 60})
	}
	now := time.Now()
	s.set("tolvik", checks, now)
	for b.Loop() {
		_, now = s.take(now)
	}
}
