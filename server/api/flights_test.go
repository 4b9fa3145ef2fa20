package api

import (
	"context"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// Equal questions are answered once; one that comes while the answer is being
// computed gets the next, which knows all that it may have been told meanwhile.
func TestEqualQuestionsAreAnsweredOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		f := newFlights()
		var computed atomic.Int64
		ask := func() int64 {
			a, err := f.do(t.Context(), "standing", func(context.Context) *answer {
				n := computed.Add(1)
				time.Sleep(time.Second)
				return &answer{status: int(n)}
			})
			if err != nil {
				t.Error(err)
				return 0
			}
			return int64(a.status)
		}
		var all sync.WaitGroup
		var first, second [20]int64
		all.Go(func() { first[0] = ask() })
		synctest.Wait() // it is being computed
		for i := 1; i < 20; i++ {
			all.Go(func() { first[i] = ask() })
		}
		synctest.Wait()
		time.Sleep(1500 * time.Millisecond) // the first is done, the second is being computed
		for i := range second {
			all.Go(func() { second[i] = ask() })
		}
		all.Wait()
		if first[0] != 1 || computed.Load() != 3 {
			t.Errorf("the first got answer %d; %d were computed for 40 askers", first[0], computed.Load())
		}
		for i := 1; i < 20; i++ {
			if first[i] != 2 || second[i] != 3 {
				t.Errorf("askers %d got answers %d and %d", i, first[i], second[i])
			}
		}
		if len(f.open) != 0 || f.waiting != 0 {
			t.Errorf("left over: %d open, %d waiting", len(f.open), f.waiting)
		}
	})
}

// Few are computed at once, what nobody wants any more is not computed, and
// beyond a bound askers are told to come again.
func TestFewQuestionsAreAnsweredAtOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		f := newFlights()
		slots := cap(f.slots)
		var now, most, computed atomic.Int64
		compute := func(ctx context.Context) *answer {
			most.Store(max(most.Load(), now.Add(1)))
			defer now.Add(-1)
			computed.Add(1)
			time.Sleep(time.Second)
			return &answer{status: http.StatusOK}
		}
		var all sync.WaitGroup
		var busy atomic.Int64
		gone, leave := context.WithCancel(t.Context())
		for i := range mostWaiting + slots + 10 {
			ctx := t.Context()
			if i >= slots && i < slots+50 {
				ctx = gone
			}
			all.Go(func() {
				if _, err := f.do(ctx, string(rune('a'+i)), compute); err != nil && ctx != gone {
					busy.Add(1)
				}
			})
			synctest.Wait()
		}
		leave()
		all.Wait()
		if int(most.Load()) > slots {
			t.Errorf("%d were computed at once, with %d places", most.Load(), slots)
		}
		if busy.Load() != 10 {
			t.Errorf("%d were turned away; 10 were too many", busy.Load())
		}
		if n := computed.Load(); n != int64(mostWaiting+slots-50) {
			t.Errorf("%d were computed; 50 of %d had gone away", n, mostWaiting+slots)
		}
	})
}
