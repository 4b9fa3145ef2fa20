package agent

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/clock"
	"kestite/core/span"
)

// lab is a timeline over clocks that the test moves.
func lab(own time.Time, count time.Duration) (*timeline, *time.Time, *time.Duration) {
	t := &timeline{own: func() time.Time { return own }, count: func() time.Duration { return count }, start: "this"}
	t.know(store.Readings{})
	return t, &own, &count
}

// answer is an exchange that was on the way for so long, at the database's time.
func answer(count, way time.Duration, at time.Time) clock.Exchange {
	return clock.Exchange{Sent: count - way, Received: at.Add(-way / 2), Answered: at.Add(-way / 2), Arrived: count}
}

func TestTimeline(t *testing.T) {
	noon := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	line, own, count := lab(noon.Add(-time.Hour), 1000*time.Second)
	if at, placed, taken := line.stamp(); at != span.Of(*own) || placed != nil || taken == nil || taken.Own != span.Of(*own) {
		t.Errorf("before anything is known: %v %v %+v", at, placed, taken)
	}
	_, _, early := line.stamp()
	kept := store.Kept{}
	kept.At, kept.Taken = early.Own, early
	if _, _, err := line.settle(kept); !errors.Is(err, errNotYet) {
		t.Errorf("placed by nothing: %v", err)
	}

	*count += 10 * time.Second
	*own = own.Add(3 * time.Second) // it was set back meanwhile
	if jumped, keep := line.hear(answer(*count, 40*time.Millisecond, noon)); !jumped || !keep {
		t.Error("an hour's difference is no jump, or nothing to keep")
	}
	if got := line.now(); !got.Equal(noon) {
		t.Errorf("now is %v", got)
	}
	at, placed, err := line.settle(kept)
	if want := span.Of(noon.Add(-10 * time.Second)); err != nil || at != want || placed.Offset != int64(early.Own-want) || placed.Uncertain != 21 {
		t.Errorf("placed at %v, %+v, %v; want %v", at, placed, err, want)
	}
	if jumped, keep := line.hear(answer(*count, 40*time.Millisecond, noon)); jumped || keep {
		t.Error("nothing new is a jump, or to be kept")
	}

	// Long without a server the count is trusted less, and what is heard then is better.
	*count += 30 * 24 * time.Hour
	_, vague, late := line.stamp()
	if late == nil || vague.Uncertain < 250_000 || vague.Uncertain > 260_000 {
		t.Fatalf("thirty days later: %+v %v", vague, late)
	}
	kept.At, kept.Clock, kept.Taken = span.Of(noon.Add(30*24*time.Hour)), vague, late
	now := noon.Add(30*24*time.Hour + 90*time.Second) // the count was 90 s slow
	*count += 10 * time.Second
	line.hear(answer(*count, 20*time.Millisecond, now.Add(10*time.Second)))
	if at, placed, err := line.settle(kept); err != nil || at != span.Of(now) || placed.Uncertain > 12 {
		t.Errorf("placed at %v, %+v, %v; want %v", at, placed, err, now)
	}
	// What is known worse afterwards changes nothing.
	sharp := kept
	sharp.Clock = &wire.Clock{Offset: 7, Uncertain: 1}
	if at, placed, err := line.settle(sharp); err != nil || at != sharp.At || *placed != *sharp.Clock {
		t.Errorf("moved to %v, %+v, %v", at, placed, err)
	}

	// Another start of the machine: by what was kept of it, or never.
	kept.Taken = &store.Taken{Start: "before", Count: 5 * time.Second, Own: 42}
	kept.Clock = nil
	var never *errNever
	if _, _, err := line.settle(kept); !errors.As(err, &never) || never.own != 42 {
		t.Errorf("placed: %v", err)
	}
	line.know(store.Readings{"before": {Zero: noon.Add(-time.Hour), Error: time.Millisecond, Read: 4 * time.Second}})
	if at, _, err := line.settle(kept); err != nil || at != span.Of(noon.Add(-time.Hour+5*time.Second)) {
		t.Errorf("placed at %v, %v", at, err)
	}
}

func TestReadingsAreKeptOnDisk(t *testing.T) {
	dir := t.TempDir()
	kept, err := store.Open(dir, 10)
	if err != nil {
		t.Fatal(err)
	}
	noon := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	all := store.Readings{}
	for i := range 130 {
		all[fmt.Sprint(i)] = clock.Reading{Zero: noon.Add(time.Duration(i) * time.Hour), Error: time.Duration(i), Read: 7}
	}
	if err := kept.SaveReadings(all); err != nil {
		t.Fatal(err)
	}
	kept.Close()
	if kept, err = store.Open(dir, 10); err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	got := kept.SavedReadings()
	if r := got["129"]; len(got) != 100 || !r.Zero.Equal(noon.Add(129*time.Hour)) || r.Error != 129 || r.Read != 7 {
		t.Errorf("%d kept, the last %+v", len(got), r)
	}
	if _, old := got["29"]; old {
		t.Error("an old start is kept, and a later one is not")
	}
}

// No two measurements of a check have one instant, however often the clock is set back.
func TestInstantsAreUsedOnce(t *testing.T) {
	var m memory
	seen := map[span.Instant]bool{}
	for range remembered - 1 {
		at := m.unused(1000)
		if seen[at] {
			t.Fatalf("%d twice", at)
		}
		seen[at] = true
	}
	if m.unused(5000) != 5000 {
		t.Error("an instant that nobody has was moved")
	}
}
