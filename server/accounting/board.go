// Package accounting makes the accounts that screens show: of each agreement that of its
// own period in a band, kept for as long as what it follows from stays as it is.
package accounting

import (
	"context"
	"runtime"
	"slices"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/errgroup"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/server/history"
	"kestite/server/lanes"
	"kestite/server/store/gen/db"
)

// Row is how an agreement stands in a period of its own.
type Row struct {
	Agreement string
	Period    calendar.Period
	Revision  int              // of the agreement, that accounts the period
	Account   *account.Account // without its clauses; nil where Fault says why
	Planned   []span.Span      // granted maintenance still to come
	Lost      []account.Lost   // of a period that is over: work of which less was granted than was planned
	Outlook   *standing.Outlook
	Fault     error
	// Stands says that Account is one that was published or frozen, and Today is what the
	// period's account would be now, nil where Fault says why; only after Kept.Stand.
	Stands *Stands
	Today  *account.Account
}

// Final says whether the period is over.
func (r Row) Final() bool { return r.Account != nil && r.Account.Final }

// Standing is what the order of agreements follows; name is what people call this one.
func (r Row) Standing(name string) standing.Row {
	out := standing.Row{Name: name, Faulty: r.Account == nil, Outlook: r.Outlook}
	if r.Account != nil {
		out.Nothing = r.Account.BaseMS == 0
		out.Verdict, out.LeftMS, out.AllowanceMS = r.Account.Verdict, r.Account.AllowanceLeftMS, r.Account.AllowanceMS
	}
	return out
}

// RowOf is the row of an account.
func RowOf(snap *catalogue.Snapshot, a *account.Account, p calendar.Period) Row {
	kept := *a
	kept.Clauses = nil
	out := Row{Agreement: a.Agreement, Period: p, Revision: snap.Accounting(a.Agreement, a.From).Number, Account: &kept, Planned: []span.Span{}}
	if !a.Final {
		out.Planned = append(out.Planned, a.Clauses.Granted.Cut(span.Span{From: a.To, To: a.Clauses.Period.To})...)
		out.Outlook = standing.OutlookOf(a)
	}
	return out
}

// calmFor is how old the account of a period that runs may be while its service is up
// and nothing of it changes, in ms: it differs from one made now by that much time of up.
const calmFor = 15 * span.Second

// mostKept is how many accounts are kept.
const mostKept = 20_000

// Board keeps accounts. It is safe for concurrent use.
type Board struct {
	Books *history.Books
	kept  *lru.Cache[key, keptRow]

	mu     sync.Mutex
	mark   string // of the definitions that checks are of
	checks map[key][]string
}

// key names an account.
type key struct{ agreement, period, zone string }

func keyOf(agreement string, p calendar.Period) key {
	return key{agreement, p.Name(), p.Location.String()}
}

// keptRow is a row with what it was made from.
type keptRow struct {
	row   Row
	at    span.Instant
	mark  string // of the definitions
	print print
}

// print tells one state of the lanes that an account follows from, from another.
type print struct {
	stretches uint64 // what ended, and whether anything is pending
	reach     uint64 // how far the open ones go, inside what matters to the period
	pending   bool
	broken    bool
}

// NewBoard returns a Board that keeps nothing yet.
func NewBoard(books *history.Books) *Board {
	kept, _ := lru.New[key, keptRow](mostKept) // its only error is a size below 1
	return &Board{Books: books, kept: kept}
}

// Now returns the rows of agreements as of now, made anew.
func (b *Board) Now(ctx context.Context, snap *catalogue.Snapshot, now span.Instant, band calendar.Period, ids []string) ([]Row, error) {
	rows, wanted, err := wanted(snap, now, band, ids)
	if err != nil {
		return nil, err
	}
	made, err := b.make(ctx, snap, now, wanted)
	return append(rows, made...), err
}

// Rows returns the rows of agreements; one that says that all is well may be calmFor old.
// One that cannot be accounted costs its own row, and one that had ended before its
// period in the band has none. What is returned is others' too.
func (b *Board) Rows(ctx context.Context, snap *catalogue.Snapshot, now span.Instant, band calendar.Period, ids []string) ([]Row, error) {
	rows, wanted, err := wanted(snap, now, band, ids)
	if err != nil {
		return nil, err
	}
	prints, err := b.prints(ctx, snap, wanted)
	if err != nil {
		return nil, err
	}
	var due []own
	print := map[key]print{}
	for i, w := range wanted {
		id := keyOf(w.agreement, w.period)
		k, has := b.kept.Get(id)
		switch same := has && k.mark == snap.Mark; {
		case same && k.holds(prints[i], now):
			rows = append(rows, k.row)
			continue
		case same && k.row.Fault != nil: // it would hold up the others
			made, err := b.make(ctx, snap, now, []own{w})
			if err != nil {
				return nil, err
			}
			rows = append(rows, made...)
			for _, r := range made {
				b.kept.Add(id, keptRow{r, now, snap.Mark, prints[i]})
			}
			continue
		}
		due = append(due, w)
		print[id] = prints[i]
	}
	made, err := b.make(ctx, snap, now, due)
	if err != nil {
		return nil, err
	}
	for _, r := range made {
		k := keyOf(r.Agreement, r.Period)
		b.kept.Add(k, keptRow{r, now, snap.Mark, print[k]})
	}
	return append(rows, made...), nil
}

// holds says whether a kept row still says what one made now would.
func (k keptRow) holds(p print, now span.Instant) bool {
	a := k.row.Account
	switch {
	case p.broken || p.stretches != k.print.stretches || now < k.at:
		return false
	case a == nil:
		return int64(now-k.at) < calmFor
	case a.Final:
		return p.reach == k.print.reach
	}
	return !p.pending && now < k.row.Period.Span().To && int64(now-k.at) < calmFor && calm(a)
}

// calm says whether an account goes on with what harms nobody.
func calm(a *account.Account) bool {
	if len(a.Intervals) == 0 {
		return false
	}
	switch a.Intervals[len(a.Intervals)-1].Class {
	case account.Up, account.Outside:
		return true
	}
	return false
}

// own is an agreement with its own period.
type own struct {
	agreement string
	period    calendar.Period
}

// wanted are the periods that rows are made for; of those that have none for a fault it
// returns the rows.
func wanted(snap *catalogue.Snapshot, now span.Instant, band calendar.Period, ids []string) (faulty []Row, out []own, err error) {
	for _, id := range ids {
		p, err := ownAt(snap, now, id, band)
		if history.Incomputable(err) {
			faulty = append(faulty, Row{Agreement: id, Fault: err})
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if over, err := ended(snap, id, p); err == nil && over {
			continue
		}
		out = append(out, own{id, p})
	}
	return faulty, out, nil
}

// ownAt is the period of an agreement that a band shows: the one that holds the
// band's end as the clocks of the agreement show it, or the present where the band
// is not over.
func ownAt(snap *catalogue.Snapshot, now span.Instant, agreement string, band calendar.Period) (calendar.Period, error) {
	loc, err := calendar.Zone(snap.Agreements[agreement].Current().Spec.Timezone)
	if err != nil {
		return calendar.Period{}, definition.Faultf("timezone", "%v", err)
	}
	return snap.PeriodAt(agreement, min(now, band.EndIn(loc)-1))
}

// ended says whether an agreement promises nothing any more in a period, as one does
// not that has another in its place.
func ended(snap *catalogue.Snapshot, agreement string, p calendar.Period) (bool, error) {
	began, err := snap.Begins(agreement, p.Span().From)
	if err != nil || began >= p.Span().From { // it is still to come, or began in it
		return false, err
	}
	promised, err := snap.Promises(agreement, p)
	return !promised, err
}

// make makes rows, those of one period together, in pieces side by side.
func (b *Board) make(ctx context.Context, snap *catalogue.Snapshot, now span.Instant, wanted []own) ([]Row, error) {
	type group struct {
		period calendar.Period
		ids    []string
	}
	groups := map[key]*group{}
	for _, w := range wanted {
		k := keyOf("", w.period)
		if groups[k] == nil {
			groups[k] = &group{period: w.period}
		}
		groups[k].ids = append(groups[k].ids, w.agreement)
	}
	// Few pieces: what several agreements depend on is judged once in each.
	const least = 100
	size := max(least, (len(wanted)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
	var pieces []group
	for _, g := range groups {
		for ids := range slices.Chunk(g.ids, size) {
			pieces = append(pieces, group{g.period, ids})
		}
	}
	made := make([][]Row, len(pieces))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(1, runtime.GOMAXPROCS(0)))
	for i, p := range pieces {
		work.Go(func() (err error) {
			made[i], err = b.together(ctx, snap, now, p.period, p.ids)
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(made...), nil
}

// together makes the rows of agreements that have a period in common.
func (b *Board) together(ctx context.Context, snap *catalogue.Snapshot, now span.Instant, p calendar.Period, ids []string) ([]Row, error) {
	list, lost, err := b.accounts(ctx, snap, now, p, ids)
	switch {
	case history.Incomputable(err) && len(ids) == 1:
		return []Row{{Agreement: ids[0], Period: p, Fault: err}}, nil
	case history.Incomputable(err): // one of them; the others stand all the same
		var out []Row
		for _, id := range ids {
			one, err := b.together(ctx, snap, now, p, []string{id})
			if err != nil {
				return nil, err
			}
			out = append(out, one...)
		}
		return out, nil
	case err != nil:
		return nil, err
	}
	out := make([]Row, len(list))
	for i, a := range list {
		out[i] = RowOf(snap, a, p)
		out[i].Lost = lost[i]
	}
	return out, nil
}

func (b *Board) accounts(ctx context.Context, snap *catalogue.Snapshot, now span.Instant, p calendar.Period, ids []string) ([]*account.Account,
	[][]account.Lost, error) {
	open, err := b.Books.Open(ctx, snap, p, now, nil, ids)
	if err != nil {
		return nil, nil, err
	}
	list, err := open.Evidence.All()
	if err != nil {
		return nil, nil, err
	}
	lost := make([][]account.Lost, len(list))
	for i, a := range list {
		if !a.Final {
			continue
		}
		if lost[i], err = open.Evidence.Lost(a.Clauses.Agreement, a); err != nil {
			return nil, nil, err
		}
	}
	return list, lost, nil
}

// prints looks at the lanes that the accounts follow from.
func (b *Board) prints(ctx context.Context, snap *catalogue.Snapshot, wanted []own) ([]print, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	rows, err := b.Books.Store.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	byCheck := map[string][]laneState{}
	for _, l := range rows {
		byCheck[l.CheckID] = append(byCheck[l.CheckID], stateOf(l))
	}
	out := make([]print, len(wanted))
	for i, w := range wanted {
		when := w.period.Span()
		within := span.Span{From: when.From.Add(-catalogue.Margin), To: when.To.Add(catalogue.Margin)}
		for _, check := range b.checksOf(snap, w, within) {
			for _, l := range byCheck[check] {
				out[i].add(l, within.To)
			}
		}
	}
	return out, nil
}

// laneState is what of a lane tells whether accounts change.
type laneState struct {
	id      int32
	ended   int64
	reach   span.Instant // of the last measurement
	pending int64
	broken  bool
}

func stateOf(l db.Lane) laneState {
	kept, err := lanes.Of(l)
	return laneState{l.ID, l.Ended, kept.Series.LastAt, kept.Series.PendingCount(), err != nil}
}

// add takes a lane into account; all in the same order.
func (p *print) add(l laneState, until span.Instant) {
	p.stretches = mix(mix(mix(p.stretches, uint64(l.id)), uint64(l.ended)), uint64(l.pending))
	p.reach = mix(p.reach, uint64(min(l.reach, until)))
	p.pending = p.pending || l.pending > 0
	p.broken = p.broken || l.broken
}

// mix is one step of FNV-1a, over 64 bits at once.
func mix(h, v uint64) uint64 {
	const offset, prime = 14695981039346656037, 1099511628211
	if h == 0 {
		h = offset
	}
	h = (h ^ v) * prime
	return h ^ h>>29
}

// checksOf are the checks that an agreement's account of a period follows from.
func (b *Board) checksOf(snap *catalogue.Snapshot, w own, within span.Span) []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.mark != snap.Mark {
		b.mark, b.checks = snap.Mark, map[key][]string{}
	}
	k := keyOf(w.agreement, w.period)
	list, has := b.checks[k]
	if !has {
		spec := snap.Accounting(w.agreement, w.period.Span().From).Spec
		services := []string{spec.Service}
		if spec.Upstream != nil {
			services = append(services, spec.Upstream.Excuse...)
		}
		list = []string{}
		for _, id := range snap.Needed(within, services...) {
			list = append(list, snap.ChecksOf[id]...)
		}
		if len(b.checks) >= mostKept {
			clear(b.checks)
		}
		b.checks[k] = list
	}
	return list
}

// Sort puts rows into the order of urgency; name is what people call an agreement.
func Sort(rows []Row, name func(agreement string) string) {
	slices.SortStableFunc(rows, func(a, b Row) int {
		return standing.Compare(a.Standing(name(a.Agreement)), b.Standing(name(b.Agreement)))
	})
}
