package agent

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// references tell whether the agent itself is cut off from the network: hosts
// that answer whenever it is not.
type references struct {
	set *instrument.Set

	mu      sync.Mutex
	targets []string
	at      time.Time // when they were last asked
	why     string    // why the agent takes itself for cut off; empty when it does not
}

const (
	referenceTimeout = time.Second
	referencesEvery  = 10 * time.Second
)

func (r *references) follow(targets []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.targets = targets
	if len(targets) == 0 {
		r.why = ""
	}
}

// cutOff says why the agent is cut off, as far as known.
func (r *references) cutOff() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.why
}

// since says whether the agent is cut off, by an answer no older than an instant.
// Only one question is under way at a time.
func (r *references) since(ctx context.Context, when time.Time) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.targets) == 0 || r.at.After(when) {
		return r.why
	}
	answers := make(chan bool, len(r.targets))
	for _, t := range r.targets {
		go func() { answers <- r.answers(ctx, t) }()
	}
	r.why = fmt.Sprintf("the agent is cut off: none of its reference targets answers (%s)", strings.Join(r.targets, ", "))
	for range r.targets {
		if <-answers {
			r.why = ""
			break
		}
	}
	r.at = time.Now()
	return r.why
}

func (r *references) answers(ctx context.Context, target string) bool {
	t := instrument.Task{Kind: measure.Ping.Name, Target: target, Timeout: referenceTimeout, Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 1, SizeBytes: 56, SpacingMS: 10}}}
	if _, _, err := definition.HostPort(target); err == nil {
		t.Kind = measure.TCP.Name
	}
	return r.set.Measure(ctx, t).Outcome == measure.OK
}

// watch asks now and then, so that people see an agent cut off before a check fails.
func (r *references) watch(ctx context.Context) {
	for ctx.Err() == nil {
		r.since(ctx, time.Now().Add(-referencesEvery/2))
		sleep(ctx, referencesEvery)
	}
}
