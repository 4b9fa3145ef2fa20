package lanes

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2/simplelru"

	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// Lane is a lane with its stretches, as of one moment.
type Lane struct {
	ID              int32
	Check, Location string
	Kept            Kept
	// Stretches are those that ended and the open one, in order of time, without what is
	// pending; others read them too.
	Stretches []verdict.Stretch
}

// Of several of these, mostLanes and mostStretches bound what is remembered: 40 bytes
// a stretch.
const (
	mostLanes     = 100_000
	mostStretches = 3_000_000
)

// Memory remembers stretches that ended, so that of a lane only what changed is read
// again. A nil Memory remembers nothing. It is safe for concurrent use.
type Memory struct {
	mu    sync.Mutex
	lanes *lru.LRU[int32, remembered]
	held  int
}

// remembered are all stretches of a lane that ended and touch what is since an instant.
type remembered struct {
	ended int64 // lane.ended when they were read
	since span.Instant
	list  []verdict.Stretch
}

// NewMemory returns an empty Memory.
func NewMemory() *Memory {
	m := &Memory{}
	m.lanes, _ = lru.NewLRU(mostLanes, func(_ int32, r remembered) { m.held -= len(r.list) }) // its only error is a size below 1
	return m
}

// know returns what is remembered of a lane, if that holds still.
func (m *Memory) know(l db.Lane, since span.Instant) ([]verdict.Stretch, bool) {
	if m == nil {
		return nil, false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	r, has := m.lanes.Get(l.ID)
	return r.list, has && r.ended == l.Ended && r.since <= since
}

func (m *Memory) learn(lane int32, r remembered) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.lanes.Remove(lane)
	m.lanes.Add(lane, r)
	for m.held += len(r.list); m.held > mostStretches; {
		m.lanes.RemoveOldest()
	}
}

// Load returns the lanes of checks with the stretches that touch what is from since on
// and begin before an instant, in order of their ids. The error may be a *BrokenError.
func (m *Memory) Load(ctx context.Context, q *db.Queries, checks []string, since, before span.Instant) ([]Lane, error) {
	rows, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, fmt.Errorf("load lanes: %w", err)
	}
	ended := make([][]verdict.Stretch, len(rows))
	place := map[int32]int{}
	var unknown []int32
	for i, l := range rows {
		list, known := m.know(l, since)
		if ended[i] = list; !known {
			unknown, place[l.ID] = append(unknown, l.ID), i
		}
	}
	until := before // what is remembered goes to the end
	if m != nil {
		until = span.End
	}
	read, err := stretchesOf(ctx, q, unknown, since, until)
	if err != nil {
		return nil, err
	}
	for _, r := range read {
		i := place[r.ID]
		rows[i].Machine, ended[i] = r.Machine, r.stretches()
		m.learn(r.ID, remembered{r.Ended, since, ended[i]})
	}
	out := make([]Lane, len(rows))
	for i, l := range rows {
		kept, err := Of(l)
		if err != nil {
			return nil, err
		}
		out[i] = Lane{l.ID, l.CheckID, l.Location, kept, kept.join(ended[i], since, before)}
	}
	return out, nil
}

type readLane db.StretchesOfLanesRow

// mostAtOnce is how many lanes one statement reads the stretches of.
const mostAtOnce = 1000

func stretchesOf(ctx context.Context, q *db.Queries, ids []int32, since, before span.Instant) ([]readLane, error) {
	var out []readLane
	for piece := range slices.Chunk(ids, mostAtOnce) {
		rows, err := q.StretchesOfLanes(ctx, db.StretchesOfLanesParams{Lanes: piece, Since: instant(since), Before: instant(before)})
		if err != nil {
			return nil, fmt.Errorf("load stretches: %w", err)
		}
		for _, r := range rows {
			out = append(out, readLane(r))
		}
	}
	return out, nil
}

// instant is an instant that PostgreSQL can hold.
func instant(at span.Instant) time.Time {
	const earliest, latest = -62_135_596_800_000, 253_402_300_799_000 // the years 1 to 9999
	return min(max(at, earliest), latest).Time()
}

func (r readLane) stretches() []verdict.Stretch {
	out := make([]verdict.Stretch, len(r.Firsts))
	for i := range out {
		out[i] = verdict.Stretch{
			State: verdict.State(r.States[i]), Own: verdict.State(r.Owns[i]),
			First: span.Of(r.Firsts[i]), Last: span.Of(r.Lasts[i]), Count: r.Counts[i],
		}
	}
	return out
}

// join is the stretches of a lane that touch what is from since on and begin before an
// instant: of those that ended, and the open one in place of what tables hold of it.
func (k Kept) join(ended []verdict.Stretch, since, before span.Instant) []verdict.Stretch {
	from, _ := slices.BinarySearchFunc(ended, since, func(s verdict.Stretch, at span.Instant) int { return cmp.Compare(s.Last, at) })
	to := begun(ended, before)
	if k.Tail == nil {
		return ended[min(from, to):to:to]
	}
	to = min(to, begun(ended, k.Tail.First))
	list := ended[min(from, to):to:to]
	if k.Tail.First >= before || k.Tail.Last < since {
		return list
	}
	return append(list, *k.Tail)
}

// begun is how many stretches begin before an instant.
func begun(list []verdict.Stretch, at span.Instant) int {
	n, _ := slices.BinarySearchFunc(list, at, func(s verdict.Stretch, at span.Instant) int { return cmp.Compare(s.First, at) })
	return n
}

// All returns all stretches of one lane.
func All(ctx context.Context, q *db.Queries, lane int32) ([]verdict.Stretch, error) {
	rows, err := stretchesOf(ctx, q, []int32{lane}, span.Beginning, span.End)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	kept, err := Of(db.Lane{ID: lane, Machine: rows[0].Machine})
	if err != nil {
		return nil, err
	}
	return kept.join(rows[0].stretches(), span.Beginning, span.End), nil
}
