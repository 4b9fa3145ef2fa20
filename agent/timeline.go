package agent

import (
	"fmt"
	"sync"
	"time"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/clock"
	"kestite/core/span"
)

// timeline places instants on the database's clock, by which all servers and
// agents place them: counted on this machine, whose own clock anybody may set.
type timeline struct {
	own   func() time.Time
	count func() time.Duration
	start string // of the machine; counts of two starts cannot be compared

	mu     sync.Mutex
	filter clock.Filter
	latest time.Duration            // when the latest reading was taken in
	saved  map[string]clock.Reading // by start, as kept on disk
}

const (
	// sure is how far an instant may be wrong that is placed for good at once. One
	// less sure is placed when it is delivered first, by what is known then.
	sure = 250 * time.Millisecond
	// readingsEvery is how often readings are taken in that are no better than known.
	readingsEvery = 4 * time.Second
	// jump is how far the clock must have been moved to start checks by it anew.
	jump = time.Second
)

// know takes in what earlier processes knew.
func (t *timeline) know(saved map[string]clock.Reading) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.saved = saved
	if r, ok := saved[t.start]; ok {
		t.filter.Add(r)
	}
}

// hear takes in an exchange with a server. jumped says that now has moved by more
// than a second with it, and keep that the reading is worth keeping on disk.
func (t *timeline) hear(x clock.Exchange) (jumped, keep bool) {
	r, err := x.Reading()
	if err != nil {
		return false, false
	}
	before := t.now()
	t.mu.Lock()
	defer t.mu.Unlock()
	best, known := t.filter.Best(r.Read)
	if known && r.Read-t.latest < readingsEvery && best.ErrorAt(r.Read) <= r.Error {
		return false, false
	}
	t.latest = r.Read
	set := t.filter.Add(r)
	best, _ = t.filter.Best(r.Read)
	kept, has := t.saved[t.start]
	if keep = !has || set || kept.ErrorAt(r.Read) > 2*best.ErrorAt(r.Read)+10*time.Millisecond; keep {
		t.saved[t.start] = best
	}
	return best.At(t.count()).Sub(before).Abs() > jump, keep
}

// readings are what is to be kept on disk.
func (t *timeline) readings() map[string]clock.Reading {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make(map[string]clock.Reading, len(t.saved))
	for start, r := range t.saved {
		out[start] = r
	}
	return out
}

// now is what the database's clock shows, as far as known: the machine's own clock
// until a server was heard.
func (t *timeline) now() time.Time {
	count := t.count()
	t.mu.Lock()
	defer t.mu.Unlock()
	if r, ok := t.filter.Best(count); ok {
		return r.At(count)
	}
	return t.own()
}

// off is how far the machine's own clock is ahead, and how far that may be wrong;
// false while no server was heard.
func (t *timeline) off() (ahead, wrong time.Duration, known bool) {
	count, own := t.count(), t.own()
	t.mu.Lock()
	defer t.mu.Unlock()
	r, ok := t.filter.Best(count)
	if !ok {
		return 0, 0, false
	}
	return own.Sub(r.At(count)), r.ErrorAt(count), true
}

// stamp begins a measurement: its instant, as far as known now.
func (t *timeline) stamp() (span.Instant, *wire.Clock, *store.Taken) {
	taken := store.Taken{Start: t.start, Count: t.count(), Own: span.Of(t.own())}
	at, c := t.place(taken, nil, nil)
	switch {
	case c == nil:
		return taken.Own, nil, &taken
	case c.Uncertain > sure.Milliseconds():
		return at, c, &taken
	}
	return at, c, nil
}

// errNotYet is a measurement of which it will be known when it was made, once a
// server is heard.
var errNotYet = fmt.Errorf("no server has said yet what time it is")

// errNever is one of which nobody will know.
type errNever struct{ own span.Instant }

func (e *errNever) Error() string {
	return fmt.Sprintf("nobody can tell when it was made: by its own clock at %s, "+
		"but its machine was started anew before any server said how far that clock was off", e.own)
}

// settle places a kept measurement for good. The error is errNotYet or *errNever.
func (t *timeline) settle(k store.Kept) (span.Instant, *wire.Clock, error) {
	at, c := t.place(*k.Taken, &k.At, k.Clock)
	switch {
	case c != nil:
		return at, c, nil
	case k.Taken.Start == t.start:
		return 0, nil, errNotYet
	}
	return 0, nil, &errNever{k.Taken.Own}
}

// place is the instant of what was taken by the reading that is least wrong for it,
// or as it was placed before where that is better; nil where nothing is known.
func (t *timeline) place(taken store.Taken, was *span.Instant, said *wire.Clock) (span.Instant, *wire.Clock) {
	t.mu.Lock()
	r, ok := t.saved[taken.Start]
	if taken.Start == t.start {
		if best, has := t.filter.Best(taken.Count); has {
			r, ok = best, true
		}
	}
	t.mu.Unlock()
	if !ok {
		if said == nil {
			return 0, nil
		}
		return *was, said
	}
	wrong := r.ErrorAt(taken.Count)
	if said != nil && said.Uncertain <= wrong.Milliseconds() {
		return *was, said
	}
	at := span.Of(r.At(taken.Count))
	return at, &wire.Clock{Offset: int64(taken.Own - at), Uncertain: int64((wrong + time.Millisecond - 1) / time.Millisecond)}
}
