package clock_test

import (
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"kestite/core/clock"
)

var noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

func ms(n int) time.Duration { return time.Duration(n) * time.Millisecond }

func TestReading(t *testing.T) {
	for name, c := range map[string]struct {
		x    clock.Exchange
		zero time.Time
		off  time.Duration
	}{
		"the same way there and back":  {clock.Exchange{Sent: ms(1000), Received: noon.Add(ms(10)), Answered: noon.Add(ms(10)), Arrived: ms(1020)}, noon.Add(-ms(1000)), ms(10)},
		"held for eight seconds":       {clock.Exchange{Sent: ms(1000), Received: noon.Add(ms(10)), Answered: noon.Add(ms(8010)), Arrived: ms(9020)}, noon.Add(-ms(1000)), ms(10)},
		"at once":                      {clock.Exchange{Sent: ms(5), Received: noon, Answered: noon, Arrived: ms(5)}, noon.Add(-ms(5)), 0},
		"a clock with an error itself": {clock.Exchange{Sent: 0, Received: noon, Answered: noon, Arrived: ms(4), Error: ms(3)}, noon.Add(-ms(2)), ms(5)},
	} {
		r, err := c.x.Reading()
		if err != nil || !r.Zero.Equal(c.zero) || r.Error != c.off || r.Read != c.x.Arrived {
			t.Errorf("%s: %+v, %v; want zero at %v ± %v", name, r, err, c.zero, c.off)
		}
	}
	for name, x := range map[string]clock.Exchange{
		"set back while it was held": {Sent: 0, Received: noon, Answered: noon.Add(-time.Hour), Arrived: ms(20)},
		"set on while it was held":   {Sent: 0, Received: noon, Answered: noon.Add(time.Hour), Arrived: ms(20)},
		"arrived before it was sent": {Sent: ms(20), Received: noon, Answered: noon, Arrived: ms(10)},
	} {
		if r, err := x.Reading(); !errors.Is(err, clock.ErrTangled) {
			t.Errorf("%s: %+v, %v", name, r, err)
		}
	}
}

// Whatever the way there and back takes and however the counter drifts, the truth
// lies within the error, at the time and days later.
func TestTruthLiesWithinTheError(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		rate := 1 + (2*r.Float64()-1)*clock.Drift*0.9 // of the counter, against the clock
		begin := noon.Add(time.Duration(r.Int64N(int64(time.Hour))))
		counted := func(at time.Time) time.Duration { return time.Duration(rate * float64(at.Sub(noon))) }
		there, held, back := time.Duration(r.ExpFloat64()*3e7), time.Duration(r.Int64N(10e9)), time.Duration(r.ExpFloat64()*3e7)
		x := clock.Exchange{Sent: counted(begin), Received: begin.Add(there), Answered: begin.Add(there + held), Arrived: counted(begin.Add(there + held + back))}
		reading, err := x.Reading()
		if err != nil { // the counter ran slower than the clock, and the way was short
			continue
		}
		for _, later := range []time.Duration{0, time.Second, time.Hour, 72 * time.Hour, -time.Hour} {
			at := begin.Add(there + held + back + later)
			off := reading.At(counted(at)).Sub(at).Abs()
			// While it was held the counter may have parted from the clock too.
			if most := reading.ErrorAt(counted(at)) + time.Duration(clock.Drift*float64(held+there+back)) + time.Microsecond; off > most {
				t.Fatalf("%+v: %v off after %v, and at most %v was said", x, off, later, most)
			}
		}
	}
}

func TestFilterTakesTheLeastWrong(t *testing.T) {
	var f clock.Filter
	if _, ok := f.Best(0); ok {
		t.Error("a reading out of nothing")
	}
	add := func(zero time.Time, off, read time.Duration) bool {
		return f.Add(clock.Reading{Zero: zero, Error: off, Read: read})
	}
	add(noon, ms(50), time.Second)
	add(noon.Add(ms(20)), ms(5), 2*time.Second)
	add(noon.Add(-ms(100)), ms(300), 3*time.Second)
	if r, _ := f.Best(4 * time.Second); r.Error != ms(5) {
		t.Errorf("took %+v", r)
	}
	// Half an hour on, the good one has aged by 180 ms.
	if add(noon.Add(ms(25)), ms(90), 1800*time.Second) {
		t.Error("a clock that was not set counts as set")
	}
	if r, _ := f.Best(1800 * time.Second); r.Error != ms(90) {
		t.Errorf("took %+v", r)
	}
	if !add(noon.Add(-time.Hour), ms(40), 1801*time.Second) {
		t.Error("the clock was set back an hour, and nothing was noticed")
	}
	if r, _ := f.Best(1802 * time.Second); !r.Zero.Equal(noon.Add(-time.Hour)) {
		t.Errorf("took %+v although the clock was set", r)
	}
	for n := range 20 {
		add(noon.Add(-time.Hour), ms(60), 1803*time.Second+time.Duration(n)*time.Second)
	}
	if r, _ := f.Best(1830 * time.Second); r.Error != ms(60) {
		t.Errorf("took %+v, which is beyond the eight latest", r)
	}
}
