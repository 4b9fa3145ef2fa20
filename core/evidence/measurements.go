package evidence

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Measurements is what an account needs of measurements.csv: the stretches of
// every (check, location), and the answered measurements of checks that a
// latency objective asks about.
type Measurements struct {
	Rows      int64 // rows read
	LeftOut   int64 // rows whose check, location or instant no revision names
	stretches map[[2]string][]verdict.Stretch
	raw       map[[2]string][]verdict.Stretch // of checks that a rolling rule judged, before it did
	answered  map[latencyKey][]answers
}

type latencyKey struct {
	check string
	limit int64 // thousandths of a millisecond
}

// Stretches is a verdict.Source.
func (m *Measurements) Stretches(check, location string) []verdict.Stretch {
	return m.stretches[[2]string{check, location}]
}

// Raw is a verdict.Source of what the rolling rules judged.
func (m *Measurements) Raw(check, location string) []verdict.Stretch {
	if list, rolled := m.raw[[2]string{check, location}]; rolled {
		return list
	}
	return m.Stretches(check, location)
}

// Sources are those of an explanation.
func (m *Measurements) Sources() verdict.Sources {
	return verdict.Sources{Judged: m.Stretches, Raw: m.Raw}
}

// Timing is an account.Timing over the limits that the bundle's agreements name.
func (m *Measurements) Timing(check string, limit int64, counted func(span.Instant) bool) (measurements, within int64, err error) {
	for _, lane := range m.answered[latencyKey{check, limit}] {
		lane.each(func(at span.Instant, quick bool) {
			if !counted(at) {
				return
			}
			measurements++
			if quick {
				within++
			}
		})
	}
	return measurements, within, nil
}

// answers are the answered measurements of one lane in the order of time, each
// a varint of the milliseconds since the one before and, in the lowest bit,
// whether it came within the limit: two to four bytes a measurement.
type answers struct {
	packed []byte
	last   span.Instant
}

func (a *answers) add(at span.Instant, within bool) {
	v := int64(at-a.last) << 1
	if within {
		v |= 1
	}
	a.packed, a.last = binary.AppendVarint(a.packed, v), at
}

func (a *answers) each(visit func(at span.Instant, within bool)) {
	var at span.Instant
	for rest := a.packed; len(rest) > 0; {
		v, n := binary.Varint(rest)
		rest = rest[n:]
		at += span.Instant(v >> 1)
		visit(at, v&1 == 1)
	}
}

// lane is the reading of one (check, location), known to the bundle or not.
type lane struct {
	check, location string
	known           bool
	revisions       verdict.Revisions
	limits          []int64
	answered        []answers // for each of limits
	leftOut         int64
	series          verdict.Series
	stretches       []verdict.Stretch
	previous        sample
	any             bool
	unordered       bool
	rows            int64
	follower        *lane // whose row came after this one's last
	// current caches the revision last used and its bounds.
	current  verdict.Settings
	from, to span.Instant
	covered  bool
}

// sample is a row without its lane.
type sample struct {
	at      span.Instant
	outcome measure.Outcome
	digest  uint64
	total   int64 // thousandths
	line    int64
}

func (s sample) same(o sample) bool { return s.outcome == o.outcome && s.digest == o.digest }

// Bounds of what reading keeps in memory, so that no file takes more than a GiB.
const (
	mostLanes     = 200_000
	mostHours     = 1_000_000 // 114 years
	mostStretches = 4_000_000
	mostInHour    = 1 << 19 // rows out of order, beyond what is sorted at once anyway
)

type collector struct {
	bundle *definition.Compiled
	out    *Measurements
	lanes  map[string]*lane
	order  []*lane
	name   string
	limits map[string][]int64
	// perHour counts the rows of each hour since 1970 while reading, and most
	// is how many may be sorted at once.
	perHour map[int64]int64
	before  *lane // of the row before
	key     []byte
	hour    int64
	inHour  int64
	most    int64
	kept    int // stretches of all lanes
}

// bounded refuses what would take too much memory.
func (c *collector) bounded(line int64) error {
	found := ""
	switch {
	case len(c.lanes) > mostLanes:
		found = fmt.Sprintf("pairs of a check and a location (%d)", mostLanes)
	case len(c.perHour) > mostHours:
		found = fmt.Sprintf("different hours (%d)", mostHours)
	case c.kept > mostStretches:
		found = fmt.Sprintf("changes of outcome (%d)", mostStretches)
	default:
		return nil
	}
	return &RowFault{c.name, []int64{line}, "up to here there are more " + found + " than are read at once; give less of it, such as fewer checks or a shorter time"}
}

// Open returns a fresh reader over the same measurements; ReadMeasurements
// calls it a second time when rows are not in the order of time.
type Open func() (io.ReadCloser, error)

// Progress is told now and then how many rows and bytes were read.
type Progress func(rows, bytes int64)

// ReadMeasurements reads measurements.csv, in one pass and bounded memory where
// the rows of each (check, location) are in the order of time; those of a lane
// that are not are sorted in memory, a slice of time per further pass. The error is a *RowFault
// or one of reading.
func ReadMeasurements(bundle *definition.Compiled, name string, open Open, progress Progress) (*Measurements, error) {
	c := &collector{
		bundle: bundle, name: name, lanes: map[string]*lane{}, limits: map[string][]int64{}, perHour: map[int64]int64{}, most: mostSorted,
		out: &Measurements{stretches: map[[2]string][]verdict.Stretch{}, raw: map[[2]string][]verdict.Stretch{}, answered: map[latencyKey][]answers{}},
	}
	for _, a := range bundle.Agreements {
		if l := a.Latency; l != nil && !slices.Contains(c.limits[l.Check], l.Limit()) {
			c.limits[l.Check] = append(c.limits[l.Check], l.Limit())
		}
	}
	if err := c.pass(open, progress, c.stream); err != nil {
		return nil, err
	}
	c.perHour[c.hour] += c.inHour
	var unordered []*lane
	for _, l := range c.order {
		if l.unordered {
			unordered = append(unordered, l)
		}
	}
	if err := c.sorted(unordered, open, progress); err != nil {
		return nil, err
	}
	for _, l := range c.order {
		c.out.Rows += l.rows
		c.out.LeftOut += l.leftOut
		for i, limit := range l.limits {
			key := latencyKey{l.check, limit}
			c.out.answered[key] = append(c.out.answered[key], l.answered[i])
		}
		if l.known {
			c.out.stretches[[2]string{l.check, l.location}] = l.series.AtEnd(l.stretches)
		}
	}
	c.roll()
	return c.out, nil
}

// roll lets the rolling rules judge what the lanes of their checks found.
func (c *collector) roll() {
	for id, revisions := range c.bundle.Checks {
		if !verdict.Revisions(revisions).Rolls() {
			continue
		}
		lanes := map[string][]verdict.Stretch{}
		for _, l := range c.order {
			if l.known && l.check == id {
				lanes[l.location] = c.out.stretches[[2]string{id, l.location}]
				c.out.raw[[2]string{id, l.location}] = lanes[l.location]
			}
		}
		for location, list := range verdict.Roll(revisions, lanes, false) {
			c.out.stretches[[2]string{id, location}] = list
		}
	}
}

func (c *collector) pass(open Open, progress Progress, take func(*lane, sample) error) error {
	in, err := open()
	if err != nil {
		return err
	}
	defer in.Close()
	rows, err := newRowReader(in, c.name)
	if err != nil {
		return err
	}
	var r row
	for n := int64(1); ; n++ {
		if err := rows.read(&r); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		if progress != nil && n%(1<<19) == 0 {
			progress(n, rows.bytes)
		}
		if r.outcome == measure.Error {
			continue
		}
		l := c.laneOf(&r)
		err := take(l, sample{r.at, r.outcome, r.digest, r.total, r.line})
		if err == nil {
			err = c.bounded(r.line)
		}
		if err != nil {
			return err
		}
	}
}

// laneOf finds the lane of a row. Files mostly go round their lanes in the same
// order again and again, so the one that followed last time is tried first.
func (c *collector) laneOf(r *row) *lane {
	if c.before != nil {
		if l := c.before.follower; l != nil && string(r.check) == l.check && string(r.location) == l.location {
			c.before = l
			return l
		}
	}
	c.key = append(append(append(c.key[:0], r.check...), 0), r.location...)
	l := c.lanes[string(c.key)]
	if l == nil {
		l = &lane{check: string(r.check), location: string(r.location)}
		l.revisions = c.bundle.Checks[l.check]
		l.known = l.revisions.Knows(l.location)
		l.limits = c.limits[l.check]
		l.answered = make([]answers, len(l.limits))
		c.lanes[string(c.key)] = l
		c.order = append(c.order, l)
	}
	if c.before != nil {
		c.before.follower = l
	}
	c.before = l
	return l
}

// stream takes a row of the first pass.
func (c *collector) stream(l *lane, s sample) error {
	l.rows++
	if h := int64(s.at) / span.Hour; h != c.hour {
		c.perHour[c.hour] += c.inHour
		c.hour, c.inHour = h, 0
	}
	c.inHour++
	if l.unordered {
		return nil
	}
	if l.any && s.at <= l.previous.at {
		if s.at < l.previous.at {
			l.unordered = true
			return nil
		}
		return c.repeated(l, l.previous, s)
	}
	l.any, l.previous = true, s
	c.judge(l, s)
	return nil
}

// repeated refuses two rows for the same measurement unless they are equal.
func (c *collector) repeated(l *lane, a, b sample) error {
	if a.same(b) {
		return nil
	}
	return &RowFault{c.name, []int64{min(a.line, b.line), max(a.line, b.line)},
		fmt.Sprintf("they differ for the same check, location and instant (%s, %s, %s); keep one", l.check, l.location, a.at)}
}

// judge lets a measurement join its series.
func (c *collector) judge(l *lane, s sample) {
	if !l.known {
		l.leftOut++
		return
	}
	if s.at < l.from || s.at >= l.to {
		l.look(s.at)
	}
	if !l.covered {
		l.leftOut++
		return
	}
	if c.bundle.AsOf != nil && s.at >= *c.bundle.AsOf {
		return
	}
	before := len(l.stretches)
	l.stretches = l.series.Add(l.stretches, s.at, severity(s.outcome), l.current)
	c.kept += len(l.stretches) - before
	if s.outcome == measure.Failed || s.total == measure.None {
		return
	}
	for i, limit := range l.limits {
		l.answered[i].add(s.at, s.total <= limit)
	}
}

// look finds the revision at i, or the empty time around it.
func (l *lane) look(i span.Instant) {
	l.from, l.to, l.covered = span.Beginning, span.End, false
	for _, r := range l.revisions {
		from, to := definition.Begins(r.From), definition.Ends(r.Until)
		switch {
		case to <= i:
			l.from = max(l.from, to)
		case from > i:
			l.to = min(l.to, from)
		default:
			l.from, l.to, l.covered = from, to, true
			l.current = verdict.SettingsOf(r)
			return
		}
	}
}

func severity(o measure.Outcome) verdict.State {
	switch o {
	case measure.OK:
		return verdict.Up
	case measure.Degraded:
		return verdict.Degraded
	}
	return verdict.Down
}

// mostSorted bounds how many rows are held in memory at once to be sorted.
var mostSorted int64 = 5 << 20

// sorted reads the lanes whose rows came out of order once more and judges them
// in order: a slice of time after the other, each in a pass of its own, as long
// as needed for a slice's rows to fit in memory.
func (c *collector) sorted(lanes []*lane, open Open, progress Progress) error {
	if len(lanes) == 0 {
		return nil
	}
	for _, l := range lanes {
		c.forget(l)
	}
	for _, slice := range c.slices() {
		samples := make(map[*lane][]sample, len(lanes))
		held := int64(0)
		err := c.pass(open, progress, func(l *lane, s sample) error {
			if !l.unordered || !slice.Contains(s.at) {
				return nil
			}
			if held++; held > c.most+mostInHour {
				return &RowFault{c.name, []int64{s.line}, fmt.Sprintf("the hour of %s has more rows out of order than can be sorted; sort the file by time", s.at)}
			}
			samples[l] = append(samples[l], s)
			return nil
		})
		if err != nil {
			return err
		}
		for _, l := range lanes {
			if err := c.judgeSorted(l, samples[l]); err != nil {
				return err
			}
			delete(samples, l)
		}
	}
	return nil
}

func (c *collector) judgeSorted(l *lane, list []sample) error {
	slices.SortFunc(list, func(a, b sample) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.line, b.line))
	})
	for i, s := range list {
		if i > 0 && s.at == list[i-1].at {
			if err := c.repeated(l, list[i-1], s); err != nil {
				return err
			}
			continue
		}
		c.judge(l, s)
	}
	return nil
}

// slices cuts time so that each slice holds about as many rows as may be in
// memory at once, and whole hours.
func (c *collector) slices() []span.Span {
	hours := slices.Sorted(maps.Keys(c.perHour))
	var out []span.Span
	from, held := span.Beginning, int64(0)
	for _, h := range hours {
		if n := c.perHour[h]; held > 0 && held+n > c.most {
			at := span.Instant(h * span.Hour)
			out = append(out, span.Span{From: from, To: at})
			from, held = at, 0
		}
		held += c.perHour[h]
	}
	return append(out, span.Span{From: from, To: span.End})
}

// forget undoes what the first pass made of a lane before it lost its order.
func (c *collector) forget(l *lane) {
	c.kept -= len(l.stretches)
	*l = lane{
		check: l.check, location: l.location, known: l.known, revisions: l.revisions,
		limits: l.limits, answered: make([]answers, len(l.limits)), rows: l.rows, unordered: true,
	}
}
