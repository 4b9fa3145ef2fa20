package agent

import (
	"container/heap"
	"hash/fnv"
	"sync"
	"time"

	"kestite/agent/wire"
	"kestite/core/span"
)

// Phase is the fixed place of a check in its interval, so that load is spread
// and regular across restarts.
func Phase(check, location string, interval time.Duration) time.Duration {
	h := fnv.New64a()
	h.Write([]byte(check + "\x00" + location))
	return time.Duration(h.Sum64() % uint64(interval/time.Millisecond) * uint64(time.Millisecond))
}

// next returns the first start after t on the check's grid.
func next(t time.Time, interval, phase time.Duration) time.Time {
	since := t.UnixMilli() - phase.Milliseconds()
	step := interval.Milliseconds()
	n := since / step
	if since < 0 && since%step != 0 {
		n--
	}
	return time.UnixMilli((n+1)*step + phase.Milliseconds())
}

// due is a check and its next start.
type due struct {
	check    wire.Check
	interval time.Duration
	phase    time.Duration
	at       time.Time
	index    int
}

type dues []*due

func (d dues) Len() int           { return len(d) }
func (d dues) Less(i, j int) bool { return d[i].at.Before(d[j].at) }
func (d dues) Swap(i, j int) {
	d[i], d[j] = d[j], d[i]
	d[i].index, d[j].index = i, j
}
func (d *dues) Push(x any) {
	e := x.(*due)
	e.index = len(*d)
	*d = append(*d, e)
}
func (d *dues) Pop() any {
	old := *d
	e := old[len(old)-1]
	*d = old[:len(old)-1]
	return e
}

// schedule knows which check starts when.
type schedule struct {
	mu       sync.Mutex
	location string
	heap     dues
	known    map[string]*due
	changed  chan struct{}
}

func newSchedule() *schedule {
	return &schedule{known: map[string]*due{}, changed: make(chan struct{}, 1)}
}

// set makes checks the ones to run. Those that stay keep their next start.
func (s *schedule) set(location string, checks []wire.Check, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.location = location
	keep := map[string]bool{}
	for _, c := range checks {
		keep[c.ID] = true
		interval := time.Duration(c.IntervalS) * time.Second
		if d := s.known[c.ID]; d != nil && d.interval == interval {
			d.check = c
			continue
		} else if d != nil {
			heap.Remove(&s.heap, d.index)
		}
		ph := Phase(c.ID, location, interval)
		d := &due{check: c, interval: interval, phase: ph, at: next(now, interval, ph)}
		s.known[c.ID] = d
		heap.Push(&s.heap, d)
	}
	for id, d := range s.known {
		if !keep[id] {
			heap.Remove(&s.heap, d.index)
			delete(s.known, id)
		}
	}
	select {
	case s.changed <- struct{}{}:
	default:
	}
}

// hasten starts a check at a time where that comes before its next start.
func (s *schedule) hasten(check string, at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d := s.known[check]
	if d == nil || !at.Before(d.at) {
		return
	}
	d.at = at
	heap.Fix(&s.heap, d.index)
	select {
	case s.changed <- struct{}{}:
	default:
	}
}

// put puts a check that was taken and could not start in time back.
func (s *schedule) put(check string, now time.Time) {
	s.mu.Lock()
	d := s.known[check]
	s.mu.Unlock()
	if d != nil {
		s.hasten(check, d.missed(now))
	}
}

// follow puts checks back on their grid when the clock was set back: one whose
// next start is more than an interval away would not be measured until then. It
// needs the lock.
func (s *schedule) follow(now time.Time) {
	if len(s.heap) == 0 || !s.heap[0].at.After(now.Add(s.heap[0].interval)) {
		return
	}
	s.place(now)
}

// anew puts all checks on their grid after the clock was moved.
func (s *schedule) anew(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.place(now)
	select {
	case s.changed <- struct{}{}:
	default:
	}
}

// place puts all checks on their grid. It needs the lock.
func (s *schedule) place(now time.Time) {
	for _, d := range s.heap {
		d.at = next(now, d.interval, d.phase)
	}
	heap.Init(&s.heap)
}

// leeway is how late a check may start: a tenth of its interval, half a second at least and
// a second at most. After a pause of the agent (stopped, asleep, waiting for its disk) all
// that came due meanwhile would start at once, and measure the agent.
func leeway(interval time.Duration) time.Duration {
	return min(max(interval/10, 500*time.Millisecond), time.Second)
}

// catchUp is the grid on which checks that missed their start are put back, where their
// own is coarser: a day's certificate check does not wait for the next day.
const catchUp = 5 * time.Minute

// missed is the next start of a check that could not start when it was due: the instants
// on its grid that have gone by stay not measured.
func (d *due) missed(now time.Time) time.Time {
	grid := min(d.interval, catchUp)
	return next(now, grid, d.phase%grid)
}

// take returns the checks that are due at now and do not pause then, each with the time it was due,
// and when the next one is. Those that come too late are put back.
func (s *schedule) take(now time.Time) (ready []due, wake time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.follow(now)
	for len(s.heap) > 0 && !s.heap[0].at.After(now) {
		d := s.heap[0]
		switch {
		case now.Sub(d.at) > leeway(d.interval):
			d.at = d.missed(now)
		case d.check.IsQuiet(span.Of(d.at)):
			d.at = next(now, d.interval, d.phase)
		default:
			ready = append(ready, *d)
			d.at = next(now, d.interval, d.phase)
		}
		heap.Fix(&s.heap, 0)
	}
	wake = now.Add(time.Hour)
	if len(s.heap) > 0 {
		wake = s.heap[0].at
	}
	return ready, wake
}
