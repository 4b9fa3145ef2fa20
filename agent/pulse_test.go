package agent

import (
	"strings"
	"testing"
	"time"
)

// What was measured while the agent's own timers did not go off says nothing, whether they
// went off again since or not; a short pause, and one before or after, does no harm.
func TestAStarvedAgentKnowsNothing(t *testing.T) {
	var now time.Duration
	for name, x := range map[string]struct {
		began, pausedAt, paused, ended time.Duration
		heard                          bool // the timer went off once more before the end was looked at
		timeoutMS                      int64
		starved                        bool
	}{
		"a pause throughout":                 {10 * time.Second, 10500 * time.Millisecond, 3 * time.Second, 14 * time.Second, true, 5000, true},
		"not heard of yet":                   {10 * time.Second, 10500 * time.Millisecond, 3 * time.Second, 13500 * time.Millisecond, false, 5000, true},
		"a pause of a tenth of a second":     {10 * time.Second, 10500 * time.Millisecond, 100 * time.Millisecond, 11 * time.Second, true, 5000, false},
		"over before":                        {10 * time.Second, 5 * time.Second, 3 * time.Second, 11 * time.Second, true, 5000, false},
		"0.7 s beside a timeout of a second": {10 * time.Second, 10200 * time.Millisecond, 700 * time.Millisecond, 11 * time.Second, true, 1000, true},
		"0.7 s beside one of five seconds":   {10 * time.Second, 10200 * time.Millisecond, 700 * time.Millisecond, 11 * time.Second, true, 5000, false},
	} {
		now = 0
		p := newPulse(func() time.Duration { return now })
		for now < x.ended {
			if step := now + beat; step <= x.pausedAt || step >= x.pausedAt+x.paused {
				now = step
				p.beat()
				continue
			}
			now = x.pausedAt + x.paused
			if x.heard {
				p.beat()
			}
		}
		if why := p.starved(x.began, x.timeoutMS); (why != "") != x.starved || x.starved && !strings.Contains(why, "starved") {
			t.Errorf("%s: %q", name, why)
		}
	}
}
