package agent

import (
	"log/slog"
	"testing"
	"time"

	"kestite/agent/store"
	"kestite/agent/ticks"
	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
)

// What the disk does not take is held up to a bound; beyond it the oldest are lost, which is
// counted though the disk cannot keep the count, and kept once it can.
func TestWhatIsHeldIsBoundedAndCounted(t *testing.T) {
	dir := t.TempDir()
	kept, err := store.Open(dir, 10)
	if err != nil {
		t.Fatal(err)
	}
	if err := kept.Close(); err != nil { // takes nothing from now on
		t.Fatal(err)
	}
	a := &Agent{Store: kept, Log: slog.New(slog.DiscardHandler), time: &timeline{own: time.Now, count: ticks.Count, start: "test"}}
	const beyond = 959
	for n := range mostSpare + beyond {
		a.hold(wire.Measurement{Check: "gates", At: span.Instant(n), Outcome: measure.OK}, nil)
	}
	if a.lost.Count != beyond || len(a.spare.rows) != mostSpare || a.spare.rows[0].At != beyond {
		t.Fatalf("%d lost, %d held from %d on", a.lost.Count, len(a.spare.rows), a.spare.rows[0].At)
	}
	if a.Store, err = store.Open(dir, 10); err != nil {
		t.Fatal(err)
	}
	defer a.Store.Close()
	a.lose(1)
	if all, err := a.Store.Lose(0, 0); err != nil || all.Count != beyond+1 || a.lost.Count != beyond+1 {
		t.Errorf("on disk are %d of %d, %v", all.Count, a.lost.Count, err)
	}
}
