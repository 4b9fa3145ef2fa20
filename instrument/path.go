package instrument

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// What a probe met.
type answer uint8

const (
	exceeded    answer = iota + 1 // its time was up at a router (RFC 792 type 11, RFC 4443 §3.3)
	arrived                       // the target itself answered
	unreachable                   // somebody said that it cannot be reached
)

// reply is the answer to one probe.
type reply struct {
	probe int
	at    time.Time
	from  netip.Addr
	what  answer
	note  string // of unreachable
}

// prober sends the packets of one trace, all of one flow, and hears the answers.
type prober interface {
	// send sends one packet and returns when.
	send(ttl, probe int) (time.Time, error)
	replies() <-chan reply
	close()
}

const (
	firstWindow = 3                      // probes in flight while the distance is not known
	patience    = 400 * time.Millisecond // after which a silent hop does not hold up the next
	betweenHops = 10 * time.Millisecond
	silentHops  = 6 // in a row, after which the search ends
)

// path traces the way to the target. The first round finds the distance, three
// hops at a time; the others repeat it. The measures are those of the packets
// that were to reach the target.
func (s *Set) path(ctx context.Context, t Task) Result {
	set := t.Path.Filled()
	lookup, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	addr, err := s.resolve(lookup, t.Target)
	if err != nil {
		return failure(measure.Path, err)
	}
	p, err := s.tracer.open(addr, set, flowOf(s.Flows, addr, set))
	if err != nil {
		return failure(measure.Path, err)
	}
	defer p.close()
	w := &walk{set: set, timeout: t.Timeout, prober: p}
	if err := w.run(ctx); err != nil {
		return failure(measure.Path, err)
	}
	trace := w.trace(addr)
	if set.Names {
		nameHops(ctx, trace.Hops)
	}
	route := measure.Route{Reached: trace.Reached}
	for _, h := range trace.Hops {
		route.Hops = append(route.Hops, h.Addrs)
	}
	known, changed := s.tracer.remember(fmt.Sprint(t.Target, " ", set.Method, " ", set.Port), route)
	trace.Changed, trace.Route = changed, fmt.Sprintf("%06x", known.Fingerprint())
	r := Result{Outcome: measure.Failed, Values: w.values(trace), Findings: &measure.Findings{Remote: addr.String(), Trace: &trace}}
	r.Values[measure.PathRouteChanged], r.Values[measure.PathRoute] = 0, float64(known.Fingerprint())
	if changed != "" {
		r.Values[measure.PathRouteChanged] = 1
	}
	if !trace.Reached {
		r.Detail = trace.End
		return r
	}
	r.Outcome, r.Detail = measure.Path.Rate(r.Values, t.Limits)
	if changed != "" {
		r.Detail = strings.TrimPrefix(r.Detail+"; "+measure.RouteChanged+changed, "; ")
	}
	return r
}

// sent is one probe of a walk.
type sent struct {
	ttl  int
	at   time.Time
	got  *reply
	lost bool // it could not be sent
}

// walk is a trace under way.
type walk struct {
	set     definition.PathSettings
	timeout time.Duration
	prober  prober
	probes  []sent
	highest int // distance of the last hop looked at
}

// nearest is the shortest distance at which there was an answer of a kind; 0 while
// there is none.
func (w *walk) nearest(which answer) int {
	best := 0
	for _, p := range w.probes {
		if p.got != nil && p.got.what == which && (best == 0 || p.ttl < best) {
			best = p.ttl
		}
	}
	return best
}

// refused is the shortest distance for which somebody refuses packets while nothing is
// known of any further on, and how many were refused; 0 where one that was sent further
// got there, as one refusal ends no path.
func (w *walk) refused() (ttl, packets int) {
	ttl = w.nearest(unreachable)
	for _, p := range w.probes {
		switch {
		case p.got == nil || p.ttl < ttl:
		case p.got.what == unreachable:
			packets++
		case p.got.what == arrived, p.ttl > ttl:
			return 0, 0
		}
	}
	return ttl, packets
}

// enoughRefused is how many refusals end the search for the way.
const enoughRefused = 3

// over says whether the search for the way has come to an end.
func (w *walk) over() bool {
	_, packets := w.refused()
	return packets >= enoughRefused || w.nearest(arrived) > 0
}

// stands is the distance at which somebody stands who refuses packets: where time was
// exceeded at them, since they refuse what goes further, and otherwise the shortest at
// which they refuse.
func (w *walk) stands(who netip.Addr) int {
	at, refuses := 0, 0
	for _, p := range w.probes {
		if p.got == nil || p.got.from != who {
			continue
		}
		if p.got.what == exceeded && (at == 0 || p.ttl < at) {
			at = p.ttl
		}
		if p.got.what == unreachable && (refuses == 0 || p.ttl < refuses) {
			refuses = p.ttl
		}
	}
	return cmp.Or(at, refuses)
}

// run takes no longer than a timeout to find the way, the spacing for each further
// round, and a timeout for the last answers.
func (w *walk) run(ctx context.Context) error {
	if err := w.explore(ctx, time.Now().Add(w.timeout)); err != nil {
		return err
	}
	spacing := time.Duration(w.set.SpacingMS) * time.Millisecond
	found := time.Now()
	for round := 1; round < w.set.Rounds; round++ {
		last := w.highest
		if e := w.nearest(arrived); e > 0 {
			last = e
		} else if ttl, _ := w.refused(); ttl > 0 {
			last = ttl
		}
		pace := min(betweenHops, spacing/time.Duration(max(1, last)))
		begin := found.Add(time.Duration(round)*spacing - time.Duration(last)*pace)
		if err := w.listen(ctx, begin, func() bool { return false }); err != nil {
			return err
		}
		for ttl := 1; ttl <= last; ttl++ {
			if err := w.send(ttl); err != nil {
				return err
			}
			if err := w.listen(ctx, begin.Add(time.Duration(ttl)*pace), func() bool { return false }); err != nil {
				return err
			}
		}
	}
	return w.listen(ctx, time.Now().Add(w.timeout), func() bool {
		return !slices.ContainsFunc(w.probes, func(p sent) bool { return p.got == nil && !p.lost })
	})
}

// explore is the first round, until a time at most.
func (w *walk) explore(ctx context.Context, until time.Time) error {
	for ttl := 1; ttl <= w.set.MaxHops; ttl++ {
		open := func() bool { // room for another probe, or an end
			waiting := 0
			for _, p := range w.probes {
				if p.got == nil && !p.lost && time.Since(p.at) < min(patience, w.timeout) {
					waiting++
				}
			}
			return waiting < firstWindow || w.over() || !time.Now().Before(until)
		}
		for !open() {
			if err := w.listen(ctx, time.Now().Add(2*betweenHops), open); err != nil {
				return err
			}
		}
		if w.over() || w.silent() >= silentHops || !time.Now().Before(until) {
			return nil
		}
		if _, round := w.loop(); round != nil {
			return nil
		}
		if err := w.send(ttl); err != nil {
			return err
		}
		w.highest = ttl
		if err := w.listen(ctx, time.Now().Add(betweenHops), func() bool { return false }); err != nil {
			return err
		}
	}
	return nil
}

// mostRound is how many routers a loop has that is looked for.
const mostRound = 8

// loop finds routers that packets go round among: the distance at which that begins,
// and who they are, in order. All have to have answered twice over, and one alone
// four times, since some routers answer for another.
func (w *walk) loop() (from int, round []netip.Addr) {
	var way []netip.Addr // by distance, as far as all are known
	for ttl := 1; ttl <= w.highest; ttl++ {
		at := slices.IndexFunc(w.probes, func(p sent) bool { return p.ttl == ttl && p.got != nil && p.got.what == exceeded })
		if at < 0 {
			way = append(way, netip.Addr{})
			continue
		}
		way = append(way, w.probes[at].got.from)
	}
	for len(way) > 0 && !way[len(way)-1].IsValid() { // not answered yet
		way = way[:len(way)-1]
	}
	for n := 1; n <= mostRound; n++ {
		repeated := 0
		for i := len(way) - 1; i >= n && way[i].IsValid() && way[i] == way[i-n]; i-- {
			repeated++
		}
		if repeated >= max(n, 3) {
			return len(way) - repeated - n + 1, way[len(way)-repeated-n:][:n]
		}
	}
	return 0, nil
}

// silent is how many hops, from the last one back, gave no answer.
func (w *walk) silent() int {
	n := 0
	for i := len(w.probes) - 1; i >= 0 && w.probes[i].got == nil; i-- {
		if time.Since(w.probes[i].at) >= min(patience, w.timeout) {
			n++
		}
	}
	return n
}

func (w *walk) send(ttl int) error {
	at, err := w.prober.send(ttl, len(w.probes))
	if err != nil && ours(err) {
		return err
	}
	w.probes = append(w.probes, sent{ttl: ttl, at: at, lost: err != nil})
	return nil
}

// listen takes answers until a time, or until done.
func (w *walk) listen(ctx context.Context, until time.Time, done func() bool) error {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	for !done() {
		select {
		case r := <-w.prober.replies():
			if p := &w.probes[r.probe]; p.got == nil && r.at.Sub(p.at) <= w.timeout {
				p.got = &r
			}
		case <-timer.C:
			return nil
		case <-ctx.Done():
			return &errOwn{ctx.Err()}
		}
	}
	return nil
}

// trace sums up a walk that is over.
func (w *walk) trace(target netip.Addr) measure.Trace {
	t := measure.Trace{Method: w.set.Method, Target: target.String(), Hops: []measure.Hop{}}
	last := w.nearest(arrived)
	t.Reached = last > 0
	refused := w.refusal()
	switch {
	case t.Reached:
	case refused != nil:
		last = w.stands(refused.from)
	default: // silence: up to the last that answered
		for _, p := range w.probes {
			if p.got != nil && p.got.what == exceeded {
				last = max(last, p.ttl)
			}
		}
	}
	for ttl := 1; ttl <= last; ttl++ {
		t.Hops = append(t.Hops, w.hop(ttl))
	}
	bearOut(t.Hops, t.Reached)
	switch {
	case t.Reached:
	case refused != nil:
		t.Hops[last-1].Note = refused.note
		t.End = fmt.Sprintf("the path ends at hop %d, where %s says: %s", last, refused.from, refused.note)
	case w.describeLoop() != "":
		t.End = w.describeLoop()
	case last == 0:
		t.End = fmt.Sprintf("no hop answered, of %d tried", w.highest)
	default:
		t.End = fmt.Sprintf("silence after hop %d (%s), %d hops further", last, t.Hops[last-1].Addrs[0], w.highest-last)
	}
	return t
}

// refusal is that of the packets at the shortest distance, where refusals are what ends
// the path; nil where they are not.
func (w *walk) refusal() *reply {
	ttl, _ := w.refused()
	for _, p := range w.probes {
		if ttl > 0 && p.ttl == ttl && p.got != nil && p.got.what == unreachable {
			return p.got
		}
	}
	return nil
}

// describeLoop is empty where there is none.
func (w *walk) describeLoop() string {
	from, round := w.loop()
	if round == nil {
		return ""
	}
	names := make([]string, len(round))
	for i, a := range round {
		names[i] = a.String()
	}
	return fmt.Sprintf("the way is a loop: from hop %d on, packets go round by %s", from, strings.Join(names, ", "))
}

// hop sums up the probes of one distance.
func (w *walk) hop(ttl int) measure.Hop {
	h := measure.Hop{TTL: ttl, Addrs: []string{}}
	var rtts []float64
	var refusals counted
	for _, p := range w.probes {
		if p.ttl != ttl {
			continue
		}
		h.Sent++
		if p.got == nil {
			continue
		}
		if p.got.what == unreachable {
			who, here := p.got.from, w.stands(p.got.from) == ttl
			if refusals.add(fmt.Sprintf("%s says: %s", who, p.got.note)); !here {
				continue // this packet got lost; who said so is not this hop
			}
		}
		h.Answered++
		rtts = append(rtts, float64(p.got.at.Sub(p.at))/float64(time.Millisecond))
		if a := p.got.from.String(); !slices.Contains(h.Addrs, a) {
			h.Addrs = append(h.Addrs, a)
		}
	}
	h.Note = refusals.words(h.Sent)
	if len(rtts) > 0 {
		values := measure.RoundTrips(rtts)
		low, mean, high := rounded(values[measure.TripLeast]), rounded(values[measure.TripMean]), rounded(values[measure.TripMost])
		h.MinMS, h.MeanMS, h.MaxMS = &low, &mean, &high
	}
	return h
}

func rounded(v float64) float64 { return math.Round(v*1000) / 1000 }

// bearOut sets each hop's loss to what later hops bear out. Routers answer
// sparingly and may stay silent while they forward everything, so that an answer
// from further on says more than a missing one from here.
func bearOut(hops []measure.Hop, reached bool) {
	least := math.Inf(1)
	for i := len(hops) - 1; i >= 0; i-- {
		h := &hops[i]
		if h.Answered == 0 {
			if math.IsInf(least, 1) && !reached {
				all := 100.0
				h.LossPercent = &all
			}
			continue
		}
		least = min(least, 100*float64(h.Sent-h.Answered)/float64(h.Sent))
		loss := rounded(least)
		h.LossPercent = &loss
	}
}

// values are the measures of a trace; those of the route are left to the caller.
func (w *walk) values(t measure.Trace) []float64 {
	out := measure.Path.None()
	out[0] = 100
	if !t.Reached {
		return out
	}
	target := t.Hops[len(t.Hops)-1]
	out[0] = 100 * float64(target.Sent-target.Answered) / float64(target.Sent)
	out[1], out[2], out[3], out[4] = *target.MinMS, *target.MeanMS, *target.MaxMS, float64(len(t.Hops))
	return out
}

// nameHops looks up the reverse names of all addresses, for a second at most.
func nameHops(ctx context.Context, hops []measure.Hop) {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	var all sync.WaitGroup
	for i := range hops {
		hops[i].Names = make([]string, len(hops[i].Addrs))
		for j, a := range hops[i].Addrs {
			all.Go(func() {
				if names, err := net.DefaultResolver.LookupAddr(ctx, a); err == nil && len(names) > 0 {
					hops[i].Names[j] = strings.TrimSuffix(names[0], ".")
				}
			})
		}
	}
	all.Wait()
}
