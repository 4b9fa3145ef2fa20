// Package agent measures at a location: it asks the server what to measure,
// measures on schedule, keeps results on disk and delivers them when it can.
package agent

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"kestite/agent/store"
	"kestite/agent/ticks"
	"kestite/agent/wire"
	"kestite/core/clock"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/instrument"
)

// Agent is one agent. Fill the fields and call Run.
type Agent struct {
	Client  *Client
	Store   *store.Store
	Version string
	Log     *slog.Logger
	// Roots are what certificates of targets have to lead to; nil is the system's.
	Roots *x509.CertPool
	// Now is the machine's own clock, which anybody may set; nil is time.Now.
	Now func() time.Time
	// Ticks counts time as nobody can set it, and Start names the start of the
	// machine that it counts from; nil and empty are the machine's.
	Ticks func() time.Duration
	Start string
	// Policy says what may be measured; it is the owner's. Needed.
	Policy *instrument.Policy

	instance string
	time     *timeline
	set      *instrument.Set
	schedule *schedule
	refs     *references
	rates    *rates
	pulse    *pulse
	fresh    chan struct{} // something new to deliver
	slots    chan struct{} // bounds measurements under way
	trials   chan struct{} // and trials

	mu       sync.Mutex
	doubled  string    // why nothing is measured at present: a second process works with the token
	diskFull string    // why measurements are lost at present
	lateness []float64 // ms, a ring of the latest
	written  int
	lost     store.Lost
	spare    spare

	memories map[string]*memory // by check
}

// memory is what the agent remembers of a check's measurements.
type memory struct {
	measure.Memory
	failures int64          // in a row
	instants []span.Instant // the latest
}

// remembered is how many instants of a check are remembered, so that no two
// measurements have the same one when the database's clock was set back.
const remembered = 64

// unused is at, or the first instant after it that no other measurement has.
func (m *memory) unused(at span.Instant) span.Instant {
	for slices.Contains(m.instants, at) {
		at++
	}
	if m.instants = append(m.instants, at); len(m.instants) > remembered {
		m.instants = m.instants[1:]
	}
	return at
}

// mostAtOnce and mostTrials bound what is under way.
const (
	mostAtOnce = 2048
	mostTrials = 64
)

// Run works until ctx ends. It fails at once when the server refuses the token
// and there is nothing to go on with.
func (a *Agent) Run(ctx context.Context) error {
	if a.Now == nil {
		a.Now = time.Now
	}
	if a.Ticks == nil {
		a.Ticks = ticks.Count
	}
	if a.Start == "" {
		a.Start = ticks.Start()
	}
	a.instance = rand.Text()
	a.time = &timeline{own: a.Now, count: a.Ticks, start: a.Start}
	a.time.know(a.Store.SavedReadings())
	a.Client.Count, a.Client.Heard = a.Ticks, a.heard
	a.set = instrument.NewSet(a.Policy)
	a.set.Now = a.time.now
	a.set.Roots = a.Roots
	a.set.Flows = a.Client.Name()
	defer a.set.Close()
	a.schedule = newSchedule()
	a.refs, a.rates, a.pulse = &references{set: a.set}, newRates(a.time.now), newPulse(a.Ticks)
	a.memories = map[string]*memory{}
	a.fresh = make(chan struct{}, 1)
	a.slots = make(chan struct{}, mostAtOnce)
	a.trials = make(chan struct{}, mostTrials)
	a.lose(0)

	saved, have := a.Store.Saved()
	if have {
		a.follows(saved)
	}
	first, err := a.ask(ctx, "", 0)
	var refused *RefusedError
	switch {
	case errors.As(err, &refused) && !have:
		return err
	case err != nil:
		a.Log.Warn("the server cannot be reached; measuring goes on with what is known", "error", err)
	default:
		a.take(ctx, first)
	}
	var all sync.WaitGroup
	for _, work := range []func(context.Context){a.follow, a.measure, a.deliver, a.refs.watch, a.expire, a.pulse.run, a.rescue} {
		all.Go(func() { work(ctx) })
	}
	all.Wait()
	return nil
}

// heard takes in what a server says of the time.
func (a *Agent) heard(x clock.Exchange) {
	jumped, keep := a.time.hear(x)
	if jumped {
		ahead, wrong, _ := a.time.off()
		a.Log.Warn("measurements are placed by the database's clock", "own_clock_ahead", ahead.String(), "uncertain", wrong.String())
		a.schedule.anew(a.time.now())
	}
	if !keep {
		return
	}
	if err := a.Store.SaveReadings(a.time.readings()); err != nil {
		a.Log.Error("what is known of the database's clock cannot be kept on disk", "error", err)
	}
}

// ask asks for assignments once.
func (a *Agent) ask(ctx context.Context, known string, wait int64) (wire.Assignments, error) {
	a.mu.Lock()
	rep := wire.Saying{
		Instance: a.instance,
		Version:  a.Version, Known: known, WaitS: wait, Clock: span.Of(a.Now()),
		Backlog: a.Store.Backlog(), LatenessMS: percentile(a.lateness, 0.99), Complaint: a.complaint(),
		Sockets: a.set.Sockets(), CutOff: a.refs.cutOff(), Lost: a.lost.Count, LostAt: a.lost.At,
	}
	a.mu.Unlock()
	if ahead, wrong, known := a.time.off(); known {
		rep.ClockOffset, rep.Uncertain = ahead.Milliseconds(), wrong.Milliseconds()
	}
	rep.SetAside, rep.Aside = a.Store.Aside(wire.MostAside)
	out, err := a.Client.Assignments(ctx, rep)
	a.double(err)
	return out, err
}

// double notes whether another process works with the token: then that one
// measures, and this one does not.
func (a *Agent) double(err error) {
	var doubled *DoubledError
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case errors.As(err, &doubled):
		a.doubled = doubled.Detail
	case err == nil:
		a.doubled = ""
	}
}

// complaint is what the agent says is wrong with itself. It needs the lock.
func (a *Agent) complaint() string {
	if a.diskFull != "" {
		return a.diskFull
	}
	if ahead, wrong, known := a.time.off(); known && (ahead.Abs() > wire.Off*time.Millisecond || wrong > jump) {
		how := "ahead"
		if ahead < 0 {
			how = "behind"
		}
		return fmt.Sprintf("its own clock is %s %s; "+
			"measurements are placed by the database's clock all the same, to ±%s. Set the clock, and keep it right",
			span.Words(ahead.Abs().Milliseconds()), how, wrong.Round(time.Millisecond))
	}
	return ""
}

// MostAge is how old an undelivered measurement gets before it is dropped: the
// server takes none that is older.
const MostAge = wire.MostAge * time.Millisecond

// expire drops what has become too old to be delivered.
func (a *Agent) expire(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := a.Store.Expire(span.Of(a.time.now().Add(-MostAge)))
		if err != nil {
			a.Log.Error("old measurements cannot be dropped", "error", err)
		}
		if n > 0 {
			a.lose(n)
		}
		sleep(ctx, time.Minute)
	}
}

// lose counts measurements that are lost for good; with none, it only recalls
// those of earlier processes.
func (a *Agent) lose(n int) {
	if n > 0 {
		a.Log.Error("measurements are lost: the store is full, or they were not delivered in time", "lost", n)
	}
	now := span.Of(a.time.now())
	a.mu.Lock()
	defer a.mu.Unlock()
	all, err := a.Store.Lose(n+a.spare.unsaved, now)
	if err != nil {
		a.Log.Error("that measurements are lost cannot be kept on disk", "error", err)
		a.spare.unsaved += n
		a.lost = store.Lost{Count: a.lost.Count + int64(n), At: now}
		return
	}
	a.spare.unsaved, a.lost = 0, all
}

// follows makes assignments the ones to work by.
func (a *Agent) follows(out wire.Assignments) {
	a.refs.follow(out.References)
	a.rates.follow(out.Rates)
	a.schedule.set(out.Location, out.Checks, a.time.now())
	a.mu.Lock()
	defer a.mu.Unlock()
	known := map[string]bool{}
	for _, c := range out.Checks {
		known[c.ID] = true
	}
	for id := range a.memories {
		if !known[id] {
			delete(a.memories, id)
		}
	}
}

func (a *Agent) take(ctx context.Context, out wire.Assignments) {
	a.follows(out)
	if out.Release != 0 {
		a.release(out.Release)
	}
	if err := a.Store.Save(out); err != nil {
		a.Log.Error("assignments cannot be kept on disk", "error", err)
	}
	for _, t := range out.Trials {
		go func() {
			select {
			case a.trials <- struct{}{}:
				defer func() { <-a.trials }()
				a.try(ctx, t)
			case <-ctx.Done():
			}
		}()
	}
}

// release delivers the quarantine again, where a person asked for it since.
func (a *Agent) release(asked span.Instant) {
	n, err := a.Store.Release(asked)
	if err != nil {
		a.Log.Error("the quarantine cannot be released", "error", err)
		return
	}
	if n > 0 {
		a.Log.Info("the quarantine is delivered again", "measurements", n)
		select {
		case a.fresh <- struct{}{}:
		default:
		}
	}
}

// follow keeps a request for assignments open at the server.
func (a *Agent) follow(ctx context.Context) {
	const wait = 8
	saved, _ := a.Store.Saved()
	known := saved.Mark
	pause := time.Second
	for ctx.Err() == nil {
		out, err := a.ask(ctx, known, wait)
		if err != nil {
			if ctx.Err() == nil {
				a.Log.Warn("assignments", "error", err, "again_in", pause.String())
			}
			sleep(ctx, pause)
			pause = min(2*pause, 10*time.Second)
			continue
		}
		pause = time.Second
		if out.Mark != known || len(out.Trials) > 0 {
			a.Log.Info("assignments", "location", out.Location, "checks", len(out.Checks), "trials", len(out.Trials))
			known = out.Mark
			a.take(ctx, out)
		}
	}
}

// measure starts checks when they are due.
func (a *Agent) measure(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-a.schedule.changed:
		}
		ready, wake := a.schedule.take(a.time.now())
		a.mu.Lock()
		suspended := a.doubled != ""
		a.mu.Unlock()
		for _, d := range ready {
			if suspended {
				continue
			}
			select {
			case a.slots <- struct{}{}:
				if now := a.time.now(); now.Sub(d.at) > leeway(d.interval) { // all slots were taken until now
					<-a.slots
					a.schedule.put(d.check.ID, now)
					continue
				}
				go func() {
					defer func() { <-a.slots }()
					a.run(ctx, d)
				}()
			case <-ctx.Done():
				return
			}
		}
		timer.Reset(max(0, wake.Sub(a.time.now())))
	}
}

// run makes one scheduled measurement and keeps it.
func (a *Agent) run(ctx context.Context, d due) {
	held := a.rates.wait(ctx, d.check.Target, d.interval/2)
	late := a.time.now().Sub(d.at)
	a.note(late)
	began, start := time.Now(), a.Ticks()
	at, placed, taken := a.time.stamp()
	m := wire.Measurement{Check: d.check.ID, At: a.unused(d.check.ID, at), LateMS: late.Milliseconds(), Clock: placed}
	r := wire.Result{Outcome: measure.Error, Detail: held}
	if held == "" {
		r = a.judged(ctx, d, began, a.measured(ctx, d.check, start))
	}
	m.Outcome, m.Measures, m.Detail, m.Findings = r.Outcome, r.Measures, r.Detail, r.Findings
	if ctx.Err() != nil {
		return // cut short by our own end: nothing is known
	}
	dropped, err := a.Store.Add(m, taken)
	if err != nil {
		a.Log.Error("a measurement cannot be kept on disk and is held in memory", "check", m.Check, "error", err)
		a.disk("its disk does not take measurements, which are held in memory: " + err.Error())
		a.hold(m, taken)
		return
	}
	a.disk("")
	if dropped > 0 {
		a.lose(dropped)
	}
	select {
	case a.fresh <- struct{}{}:
	default:
	}
}

// unused is an instant that no other measurement of the check has.
func (a *Agent) unused(check string, at span.Instant) span.Instant {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.memory(check).unused(at)
}

// memory is what is remembered of a check. It needs the lock.
func (a *Agent) memory(check string) *memory {
	m := a.memories[check]
	if m == nil {
		m = &memory{}
		a.memories[check] = m
	}
	return m
}

// keepable leaves out of a result what no server keeps, and says so: values
// that are no numbers, and findings beyond their bound.
func keepable(m *wire.Result) {
	var out []string
	for name, v := range m.Measures {
		if !measure.Usable(v) {
			out = append(out, fmt.Sprintf("%s left out: %v is no value that can be kept", name, v))
			delete(m.Measures, name)
		}
	}
	slices.Sort(out)
	if m.Findings != nil {
		if text, err := json.Marshal(m.Findings); err != nil || len(text) > measure.MostFindings {
			out, m.Findings = append(out, "its findings were too large to keep"), nil
		}
	}
	m.Detail = measure.Clean(strings.TrimPrefix(strings.Join(append([]string{m.Detail}, out...), "; "), "; "), measure.MostDetail)
}

// judged completes a measurement: an agent that is cut off knows nothing of its
// target, limits over time look at those before by when they were due, and a failure
// that is not confirmed yet is looked at again soon.
func (a *Agent) judged(ctx context.Context, d due, began time.Time, r wire.Result) wire.Result {
	c := d.check
	if r.Outcome == measure.Failed {
		if why := a.refs.since(ctx, began); why != "" {
			return wire.Result{Outcome: measure.Error, Detail: why}
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	m := a.memory(c.ID)
	m.Gap = c.StaleAfterS * 1000
	if r.Outcome == measure.Error {
		return r
	}
	kind, _ := measure.KindNamed(c.Kind)
	values := kind.None()
	for name, v := range r.Measures {
		values[kind.Index(name)] = v
	}
	if o, why := m.Rate(kind, int64(span.Of(d.at)), values, c.Limits); o > r.Outcome {
		r.Outcome, r.Detail = o, strings.TrimSuffix(why+"; "+r.Detail, "; ")
	}
	if r.Outcome != measure.Failed {
		m.failures = 0
		return r
	}
	if m.failures++; c.RetryS > 0 && m.failures < c.Confirm {
		again := d.at.Add(time.Duration(c.RetryS) * time.Second)
		if now := a.time.now(); again.Before(now) { // the failure took longer
			again = now
		}
		a.schedule.hasten(c.ID, again)
	}
	return r
}

func (a *Agent) disk(complaint string) {
	a.mu.Lock()
	a.diskFull = complaint
	a.mu.Unlock()
}

// measured makes one measurement that began at a count; where the agent itself was starved
// meanwhile, it says nothing of the target.
func (a *Agent) measured(ctx context.Context, c wire.Check, began time.Duration) wire.Result {
	r := a.once(ctx, c)
	if why := a.pulse.starved(began, c.TimeoutMS); why != "" {
		return wire.Result{Outcome: measure.Error, Detail: why}
	}
	return r
}

// once makes one measurement.
func (a *Agent) once(ctx context.Context, c wire.Check) wire.Result {
	r := a.set.Measure(ctx, instrument.Task{
		Kind: c.Kind, Target: c.Target, Timeout: time.Duration(c.TimeoutMS) * time.Millisecond, Limits: c.Limits, Settings: c.Settings, Secret: c.Secret,
	})
	if r.Findings.Empty() {
		r.Findings = nil
	}
	out := wire.Result{Outcome: r.Outcome, Measures: r.Measures(c.Kind), Detail: r.Detail, Findings: r.Findings}
	keepable(&out)
	return out
}

// try makes a trial measurement and reports it at once.
func (a *Agent) try(ctx context.Context, t wire.Trial) {
	if err := a.Client.TrialResult(ctx, t.ID, a.measured(ctx, t.Check, a.Ticks())); err != nil {
		a.Log.Warn("the result of a trial was not delivered", "error", err)
	}
}

// note remembers how late a start was.
func (a *Agent) note(late time.Duration) {
	const kept = 1000
	a.mu.Lock()
	defer a.mu.Unlock()
	ms := float64(late) / float64(time.Millisecond)
	if len(a.lateness) < kept {
		a.lateness = append(a.lateness, ms)
		return
	}
	a.lateness[a.written%kept] = ms
	a.written++
}

func percentile(list []float64, q float64) float64 {
	if len(list) == 0 {
		return 0
	}
	sorted := slices.Clone(list)
	slices.Sort(sorted)
	return sorted[int(q*float64(len(sorted)-1))]
}

func sleep(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}
