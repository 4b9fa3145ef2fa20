package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"compress/gzip"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/store/storetest"
)

// world is a store and a server as a courier sees them.
type world struct {
	waiting []store.Kept
	poison  map[uint64]int // what a server answers to a piece that holds it
	answer  func() error   // what it answers whatever a piece holds; nil: takes it
	taken   []uint64
	aside   []uint64
}

func (w *world) load(after uint64, n int) ([]store.Kept, error) {
	var out []store.Kept
	for _, k := range w.waiting {
		if k.Key > after && len(out) < n {
			out = append(out, k)
		}
	}
	return out, nil
}

func (w *world) send(p *piece) error {
	if w.answer != nil {
		if err := w.answer(); err != nil {
			return err
		}
	}
	for _, k := range p.keys() {
		if status := w.poison[k]; status != 0 {
			return &AnswerError{status, "no"}
		}
	}
	return nil
}

// step sends one piece; false where there was nothing to send.
func (w *world) step(t *testing.T, c *courier) bool {
	t.Helper()
	p, err := c.pick(w.load)
	if err != nil {
		t.Fatal(err)
	}
	if p == nil {
		return false
	}
	err = w.send(p)
	if err == nil {
		w.taken = append(w.taken, p.keys()...)
		w.waiting = slices.DeleteFunc(w.waiting, func(k store.Kept) bool { return slices.Contains(p.keys(), k.Key) })
	}
	if bad := c.settle(p, fateOf(err)); bad != nil {
		w.aside = append(w.aside, bad.Key)
		w.waiting = slices.DeleteFunc(w.waiting, func(k store.Kept) bool { return k.Key == bad.Key })
	}
	return true
}

func (w *world) add(from, n uint64) {
	for k := range n {
		w.waiting = append(w.waiting, store.Kept{Key: from + k})
	}
}

// Whatever measurements no server can take, and whichever way they fail, exactly
// those are set aside, and each of the others is delivered.
func TestPoisonIsSingledOut(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 15))
	for round := range 60 {
		w := &world{poison: map[uint64]int{}}
		c := &courier{size: 1 + r.IntN(100)}
		total := uint64(50 + r.IntN(400))
		var bad []uint64
		for range r.IntN(25) {
			k := 1 + r.Uint64N(total)
			if w.poison[k] == 0 {
				bad = append(bad, k)
			}
			w.poison[k] = []int{400, 413, 422, 500, 502}[r.IntN(5)]
		}
		// They come one by one, and new ones never end: a measurement is doubted only
		// where others pass.
		added := uint64(1)
		isDone := func() bool {
			return len(w.aside) == len(bad) && !slices.ContainsFunc(w.waiting, func(k store.Kept) bool { return k.Key <= total }) && added > total
		}
		for steps := 0; !isDone(); steps++ {
			if steps > 5_000 {
				t.Fatalf("round %d: it goes in circles: %d taken, %v aside of %v", round, len(w.taken), w.aside, bad)
			}
			if n := uint64(r.IntN(3)); n > 0 {
				w.add(added, n)
				added += n
			}
			w.step(t, c)
		}
		slices.Sort(w.aside)
		slices.Sort(bad)
		if !slices.Equal(w.aside, bad) {
			t.Fatalf("round %d: set aside were %v, not %v", round, w.aside, bad)
		}
		slices.Sort(w.taken)
		if n := len(slices.Compact(slices.Clone(w.taken))); n != len(w.taken) {
			t.Fatalf("round %d: %d deliveries of %d measurements", round, len(w.taken), n)
		}
	}
}

// Servers in trouble of their own never make a good measurement look bad,
// however long and in whatever order.
func TestTroubleOfServersSetsNothingAside(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 23))
	troubles := []error{
		&AnswerError{500, "trouble"}, &AnswerError{503, "busy"}, &AnswerError{429, "slower"}, &RefusedError{401, "who"}, &RefusedError{403, "no"},
		&DoubledError{"another"}, errors.New("connection refused"), context.DeadlineExceeded,
	}
	for round := range 40 {
		w := &world{}
		one := troubles[round%len(troubles)]
		steps := 0
		w.answer = func() error {
			steps++
			if steps < 400 {
				return one
			}
			return nil
		}
		c := &courier{size: 1 + r.IntN(200)}
		w.add(1, 300)
		for i := range uint64(400) {
			w.add(301+i, 1)
			w.step(t, c)
		}
		for w.step(t, c) {
		}
		if len(w.aside) != 0 || len(w.taken) != 700 {
			t.Fatalf("after %v: %d delivered, %v set aside", one, len(w.taken), w.aside)
		}
	}
}

// quiet is a server that answers batches as handle says.
func quiet(t *testing.T, handle func(wire.Batch) (int, any)) *httptest.Server {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		z, err := gzip.NewReader(r.Body)
		if err != nil {
			t.Error(err)
			return
		}
		text, _ := io.ReadAll(z)
		var b wire.Batch
		if err := json.Unmarshal(text, &b); err != nil {
			t.Error(err)
		}
		status, body := handle(b)
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(body)
	}))
	t.Cleanup(s.Close)
	return s
}

// The agent's own loop: what no server takes, and what one says it could not
// keep, is in quarantine with the reason; the others are gone from the store.
func TestDeliveryWithPoison(t *testing.T) {
	t.Parallel()
	kept, err := store.Open(t.TempDir(), 1000)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	var took atomic.Int64
	srv := quiet(t, func(b wire.Batch) (int, any) {
		var receipt wire.Receipt
		for i, m := range b.Measurements {
			switch m.Detail {
			case "unreadable":
				return http.StatusUnprocessableEntity, map[string]string{"detail": "the batch cannot be read"}
			case "unstorable":
				receipt.Refused = append(receipt.Refused, wire.Refusal{Index: i, Reason: "it cannot be stored", Unstorable: true})
			case "misplaced":
				receipt.Refused = append(receipt.Refused, wire.Refusal{Index: i, Reason: "there is no such check"})
			default:
				receipt.Stored++
			}
		}
		took.Add(int64(receipt.Stored))
		return http.StatusOK, receipt
	})
	for i := range 100 {
		m := wire.Measurement{Check: "c", At: span.Of(storetest.Now()), Outcome: measure.OK}
		m.Detail = map[int]string{17: "unreadable", 40: "unstorable", 41: "misplaced", 99: "unreadable"}[i]
		if _, err := kept.Add(m, nil); err != nil {
			t.Fatal(err)
		}
	}
	a := &Agent{Client: NewClient(srv.URL, "token"), Store: kept, Log: slog.New(slog.DiscardHandler), fresh: make(chan struct{}, 1)}
	ctx, end := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); a.deliver(ctx) }()
	defer func() { end(); <-done }()
	for limit := storetest.Now().Add(30 * time.Second); kept.Backlog() > 0; time.Sleep(10 * time.Millisecond) {
		if storetest.Now().After(limit) {
			t.Fatalf("%d wait still", kept.Backlog())
		}
	}
	count, latest := kept.Aside(10)
	if count != 3 || took.Load() != 96 {
		t.Errorf("%d are in quarantine, %d were taken: %+v", count, took.Load(), latest)
	}
}

// A server that does not answer is left for the next one at once, and the next
// one is kept to.
func TestNextServer(t *testing.T) {
	t.Parallel()
	stopped := make(chan struct{})
	var asked [3]atomic.Int64
	dead := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked[0].Add(1)
		select { // as one that was stopped: it takes the connection and says nothing
		case <-stopped:
		case <-r.Context().Done():
		}
	}))
	defer dead.Close()
	defer close(stopped)
	broken := quiet(t, func(wire.Batch) (int, any) {
		asked[1].Add(1)
		return http.StatusInternalServerError, map[string]string{"detail": "trouble"}
	})
	good := quiet(t, func(b wire.Batch) (int, any) {
		asked[2].Add(1)
		return http.StatusOK, wire.Receipt{Stored: len(b.Measurements)}
	})
	c := NewClient(fmt.Sprintf("http://127.0.0.1:1, %s ,%s/,%s", dead.URL, broken.URL, good.URL), "token")
	for range 3 {
		receipt, err := c.Deliver(t.Context(), wire.Batch{Measurements: make([]wire.Measurement, 2)})
		if err != nil || receipt.Stored != 2 {
			t.Fatalf("%+v %v", receipt, err)
		}
	}
	if a, b, g := asked[0].Load(), asked[1].Load(), asked[2].Load(); a != 1 || b != 1 || g != 3 {
		t.Errorf("the stopped one was asked %d times, the broken one %d, the good one %d", a, b, g)
	}
}

// Batches are packed for a server that said it takes them, and one of an earlier
// version at the same address gets what it understands, at once and nothing lost.
func TestBatchesArePackedWhereThatIsTaken(t *testing.T) {
	var old atomic.Bool
	var forms []string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		form := r.Header.Get("Content-Type")
		forms = append(forms, form)
		text, err := wire.Unzip(r.Body, wire.MaxBytes)
		if err != nil {
			t.Error(err)
		}
		var b wire.Batch
		if !old.Load() {
			w.Header().Set("Accept", wire.Accepted)
		}
		if form == wire.TypePacked && !old.Load() {
			b.Measurements, _, err = wire.Unpack(text, func(text []byte, into any) error { return json.Unmarshal(text, into) })
		} else {
			err = json.Unmarshal(text, &b)
		}
		if err != nil {
			w.WriteHeader(http.StatusUnprocessableEntity)
			json.NewEncoder(w).Encode(map[string]string{"detail": "the batch cannot be read"})
			return
		}
		json.NewEncoder(w).Encode(wire.Receipt{Stored: len(b.Measurements)})
	}))
	defer srv.Close()
	c := NewClient(srv.URL, "token")
	batch := wire.Batch{Measurements: []wire.Measurement{{Check: "gates", At: span.Of(storetest.Now()), Outcome: measure.OK, Measures: map[string]float64{"total_ms": 4}}}}
	for _, step := range []struct {
		old  bool
		want []string
	}{
		{false, []string{wire.TypeJSON}},                 // nothing is known of it yet
		{false, []string{wire.TypePacked}},               // it said so
		{true, []string{wire.TypePacked, wire.TypeJSON}}, // another now answers
		{true, []string{wire.TypeJSON}},                  //
		{false, []string{wire.TypeJSON}},                 // it is brought to the new version
		{false, []string{wire.TypePacked}},
	} {
		old.Store(step.old)
		forms = nil
		if receipt, err := c.Deliver(t.Context(), batch); err != nil || receipt.Stored != 1 {
			t.Fatalf("%+v %v", receipt, err)
		}
		if !slices.Equal(forms, step.want) {
			t.Errorf("an old server %v: sent as %v, want %v", step.old, forms, step.want)
		}
	}
	if err := c.TrialResult(t.Context(), "x", wire.Result{}); err != nil || forms[len(forms)-1] != wire.TypeJSON {
		t.Errorf("what has no packed form: %v %v", forms, err)
	}
}

// What no server keeps is left out of a result before it is stored.
func TestResultsAreKeepable(t *testing.T) {
	inf := 1e300
	r := wire.Result{
		Outcome: measure.OK, Detail: "fine\x00", Measures: map[string]float64{"value": inf * inf, "total_ms": 4, "status": 1e39},
		Findings: &measure.Findings{Response: &measure.Response{Body: string(make([]byte, measure.MostFindings))}},
	}
	keepable(&r)
	if len(r.Measures) != 1 || r.Measures["total_ms"] != 4 || r.Findings != nil {
		t.Errorf("%+v", r)
	}
	want := "fine\ufffd; status left out: 1e+39 is no value that can be kept; value left out: +Inf is no value that can be kept; " +
		"its findings were too large to keep"
	if r.Detail != want {
		t.Errorf("%q", r.Detail)
	}
	if _, err := json.Marshal(r); err != nil {
		t.Error(err)
	}
}
