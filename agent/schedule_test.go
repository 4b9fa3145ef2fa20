package agent

import (
	"fmt"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/span"
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
	if n := startsOver(s, now, 10*time.Second); n != 3 {
		t.Errorf("%d of 3 checks are left", n)
	}
}

// startsOver is how many checks start in a time, taken as they come due.
func startsOver(s *schedule, now time.Time, length time.Duration) (n int) {
	for end := now.Add(length); ; {
		ready, wake := s.take(now)
		if n += len(ready); wake.After(end) {
			return n
		}
		now = wake
	}
}

// A check that pauses starts before and after, and its places stay the same.
func TestScheduleLeavesOutWhatPauses(t *testing.T) {
	begin := time.UnixMilli(1_772_409_600_000)
	quiet := span.Span{From: span.Of(begin.Add(time.Minute)), To: span.Of(begin.Add(3 * time.Minute))}
	checks := []wire.Check{{ID: "page", IntervalS: 10, Quiet: []span.Span{quiet}}, {ID: "other", IntervalS: 10}}
	s := newSchedule()
	s.set("tolvik", checks, begin)
	seen := map[string][]time.Time{}
	for now := begin; now.Before(begin.Add(5 * time.Minute)); {
		ready, wake := s.take(now)
		for _, d := range ready {
			seen[d.check.ID] = append(seen[d.check.ID], d.at)
		}
		now = wake
	}
	if got := len(seen["other"]); got != 30 {
		t.Errorf("one that does not pause started %d times in five minutes", got)
	}
	if got := len(seen["page"]); got != 18 {
		t.Errorf("one that pauses for two of five minutes started %d times", got)
	}
	for i, at := range seen["page"] {
		if quiet.Contains(span.Of(at)) {
			t.Errorf("it started at %s", at)
		}
		if i > 0 && at.Sub(seen["page"][i-1])%(10*time.Second) != 0 {
			t.Errorf("its places moved: %s after %s", at, seen["page"][i-1])
		}
	}
	// What is cancelled meanwhile is measured at once again.
	checks[0].Quiet = []span.Span{{From: quiet.From, To: quiet.To.Add(span.Hour)}}
	s.set("tolvik", checks, begin.Add(5*time.Minute))
	if n := startsOver(s, begin.Add(5*time.Minute), 10*time.Second); n != 1 {
		t.Errorf("%d start, of which one pauses", n)
	}
	checks[0].Quiet = nil
	s.set("tolvik", checks, begin.Add(5*time.Minute+11*time.Second))
	if n := startsOver(s, begin.Add(5*time.Minute+11*time.Second), 9*time.Second); n != 2 {
		t.Errorf("%d start after the pause was taken back", n)
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

// The clock may be set by minutes in either direction: checks go on at their
// places, and none waits for a time that the clock has gone back from.
func TestClockIsSet(t *testing.T) {
	for _, step := range []time.Duration{10 * time.Minute, -10 * time.Minute, -24 * time.Hour} {
		s := newSchedule()
		now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
		var checks []wire.Check
		for _, id := range []string{"a", "b", "c"} {
			checks = append(checks, wire.Check{ID: id, IntervalS: 30})
		}
		s.set("tolvik", checks, now)
		run := func(seconds int) map[string]int {
			starts := map[string]int{}
			for range seconds {
				now = now.Add(time.Second)
				ready, wake := s.take(now)
				if wake.After(now.Add(30 * time.Second)) {
					t.Fatalf("after a step of %s the next start is %s away", step, wake.Sub(now))
				}
				for _, d := range ready {
					starts[d.check.ID]++
				}
			}
			return starts
		}
		before := run(300)
		now = now.Add(step)
		after := run(300)
		for id, n := range after {
			if n < before[id]-1 || n > before[id]+1 {
				t.Errorf("after a step of %s %s started %d times in 300 s, before it %d", step, id, n, before[id])
			}
		}
		if len(after) != 3 {
			t.Errorf("after a step of %s only %v started", step, after)
		}
	}
}

// After a pause nothing that came due meanwhile starts: each check goes on at its own places,
// so that no second has more starts than usual, and the rare ones do not wait for their next
// day.
func TestAPauseMakesNoHerd(t *testing.T) {
	for _, interval := range []int64{60, 3600, 86_400} {
		s := newSchedule()
		now := time.UnixMilli(1_772_409_600_000)
		var checks []wire.Check
		for i := range 2000 {
			checks = append(checks, wire.Check{ID: fmt.Sprint(i), IntervalS: interval})
		}
		s.set("tolvik", checks, now)
		most := func(length, step time.Duration) (most int, started map[string]int) {
			started = map[string]int{}
			perSecond := map[int64]int{}
			for end := now.Add(length); now.Before(end); now = now.Add(step) {
				ready, _ := s.take(now)
				for _, d := range ready {
					if late := now.Sub(d.at); late > leeway(d.interval) {
						t.Fatalf("%s starts %s late", d.check.ID, late)
					}
					started[d.check.ID]++
					perSecond[now.Unix()]++
				}
			}
			for _, n := range perSecond {
				most = max(most, n)
			}
			return most, started
		}
		usual, _ := most(3*time.Minute, 10*time.Millisecond)
		now = now.Add(time.Duration(interval) * time.Second / 2)
		after, started := most(max(time.Duration(interval)*time.Second, catchUp+time.Second), 100*time.Millisecond)
		// What missed its start is spread over five minutes at least.
		if bound := max(2*usual, 2000/300*2+usual); after > bound {
			t.Errorf("every %d s: %d starts in a second after a pause, %d before", interval, after, usual)
		}
		if len(started) != len(checks) {
			t.Errorf("every %d s: %d of %d were measured within an interval of the pause", interval, len(started), len(checks))
		}
	}
}

// A check that found no slot in time is put back, and does not wait for longer than five minutes.
func TestWhatFoundNoSlotIsPutBack(t *testing.T) {
	now := time.UnixMilli(1_772_409_600_000)
	s := newSchedule()
	s.set("tolvik", []wire.Check{{ID: "certificate", IntervalS: 86_400}}, now)
	_, wake := s.take(now)
	if ready, _ := s.take(wake); len(ready) != 1 {
		t.Fatal("it was not due")
	}
	now = wake.Add(20 * time.Second)
	s.put("certificate", now)
	if _, again := s.take(now); again.Sub(now) > catchUp {
		t.Errorf("the next start is %s away", again.Sub(now))
	}
}
