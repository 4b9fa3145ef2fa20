package agent

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"kestite/core/definition"
)

// rates bound how much an agent measures.
type rates struct {
	now func() time.Time // the placed clock, by which days begin

	mu      sync.Mutex
	set     definition.Rates
	all     *rate.Limiter
	targets map[string]time.Time // the next start that each target allows
	day     time.Time
	used    int64
}

func newRates(now func() time.Time) *rates {
	return &rates{now: now, all: rate.NewLimiter(rate.Inf, 1), targets: map[string]time.Time{}}
}

func (r *rates) follow(set *definition.Rates) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var now definition.Rates
	if set != nil {
		now = *set
	}
	if now == r.set {
		return
	}
	r.set = now
	r.all.SetLimit(rate.Inf)
	if now.PerSecond > 0 {
		r.all.SetLimit(rate.Limit(now.PerSecond))
	}
}

// wait waits until a target may be measured. It returns why it may not be at
// all within a time, empty when it may.
func (r *rates) wait(ctx context.Context, target string, within time.Duration) string {
	if why := r.spend(0); why != "" {
		return why // nothing waits for what is used up
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	sleep(ctx, r.claim(target))
	if err := r.all.Wait(ctx); err != nil || ctx.Err() != nil {
		return fmt.Sprintf("not measured: the location's rates leave no room within %.0f s", within.Seconds())
	}
	return r.spend(1)
}

// spend takes n from the measurements of the day as it is now (UTC), or says that none
// is left.
func (r *rates) spend(n int64) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if today := r.now().UTC().Truncate(24 * time.Hour); !today.Equal(r.day) {
		r.day, r.used = today, 0
	}
	if r.set.PerDay > 0 && r.used >= r.set.PerDay {
		return fmt.Sprintf("not measured: the location's %d measurements of the day are used up", r.set.PerDay)
	}
	r.used += n
	return ""
}

// claim books the next start that a target allows, and returns how long it is until then.
func (r *rates) claim(target string) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.set.PerTargetS <= 0 {
		return 0
	}
	now := time.Now()
	const many = 100_000
	if len(r.targets) > many {
		for t, at := range r.targets {
			if at.Before(now) {
				delete(r.targets, t)
			}
		}
	}
	at := r.targets[target]
	if at.Before(now) {
		at = now
	}
	r.targets[target] = at.Add(time.Duration(r.set.PerTargetS * float64(time.Second)))
	return at.Sub(now)
}
