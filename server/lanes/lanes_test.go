package lanes

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"reflect"
	"testing"

	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// random is a lane after some measurements, with the stretches that ended.
func random(seed uint64) (Kept, []verdict.Stretch) {
	r := rand.New(rand.NewPCG(seed, 1))
	var k Kept
	var out []verdict.Stretch
	at := span.Instant(1_795_000_000_000)
	for range r.IntN(60) {
		at = at.Add(1 + r.Int64N(200_000))
		set := verdict.Settings{
			Confirm: 1 + r.Int64N(3), Recover: 1 + r.Int64N(3), StaleAfter: 150_000, Apart: r.IntN(5) == 0, Revision: int64(at) / 2_000_000,
		}
		out = k.Series.Add(out, at, verdict.State(1+r.IntN(3)), set)
		k.Raw = at.Add(r.Int64N(2))
	}
	if n := len(out); n > 0 {
		k.Tail = &out[n-1]
		return k, out[:n-1]
	}
	return k, nil
}

// Whatever a lane went through is read as it was written, in today's coding and in that
// of versions before.
func TestKeptIsReadAsWritten(t *testing.T) {
	longest := 0
	for seed := range uint64(3000) {
		want, _ := random(seed)
		if len(want.Series.Pending) == 0 {
			want.Series.Pending = nil
		}
		text, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		coded := want.Bytes()
		if len(want.Series.Pending) == 0 {
			longest = max(longest, len(coded))
		}
		for says, machine := range map[string][]byte{"bytes": coded, "JSON": text} {
			got, err := Of(db.Lane{Machine: machine})
			if err != nil || !reflect.DeepEqual(got, want) {
				t.Fatalf("%d as %s: %v\n%+v\n%+v", seed, says, err, got, want)
			}
		}
		for n := 1; n < len(coded); n++ { // a part of it is no other lane: it is an error, or has less pending
			got, err := Of(db.Lane{ID: 7, Machine: coded[:n]})
			var broken *BrokenError
			if err != nil && (!errors.As(err, &broken) || broken.Lane != 7) {
				t.Fatal(err)
			}
			if err == nil && len(got.Series.Pending) >= len(want.Series.Pending) {
				t.Fatalf("%d: the first %d of %d bytes are read as %+v", seed, n, len(coded), got)
			}
		}
	}
	if longest > 50 {
		t.Errorf("a lane takes up to %d bytes without anything pending", longest)
	}
	if k, err := Of(db.Lane{}); err != nil || !reflect.DeepEqual(k, Kept{}) {
		t.Errorf("nothing is %+v, %v", k, err)
	}
	for _, machine := range []string{"\x02", "\x01\x00\x07\x00\x00\x00", `{"series": "nonsense"}`} {
		if _, err := Of(db.Lane{Machine: []byte(machine)}); err == nil {
			t.Errorf("%q is read", machine)
		}
	}
}

// The open stretch stands behind those that ended, in place of what a table holds of it;
// what is cut out of both is what touches a span.
func TestJoinIsACutOfAll(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 2))
		k, ended := random(seed)
		if k.Tail == nil {
			continue
		}
		all := append(append([]verdict.Stretch{}, ended...), *k.Tail)
		if r.IntN(2) == 0 { // an older state of the open one
			older := *k.Tail
			older.Last, older.Count = older.First, 1
			ended = append(append([]verdict.Stretch{}, ended...), older)
		}
		before := append([]verdict.Stretch{}, ended...)
		since := all[0].First.Add(r.Int64N(int64(k.Tail.Last-all[0].First)+2) - 1)
		until := since.Add(r.Int64N(4_000_000))
		want := []verdict.Stretch{}
		for _, s := range all {
			if s.Last >= since && s.First < until {
				want = append(want, s)
			}
		}
		got := k.join(ended, since, until)
		if len(got)+len(want) > 0 && !reflect.DeepEqual(got, want) {
			t.Fatalf("%d from %d until %d:\n%v\n%v", seed, since, until, got, want)
		}
		_ = append(got, verdict.Stretch{}) // others read the list too
		if !reflect.DeepEqual(ended, before) {
			t.Fatalf("%d: what ended was changed", seed)
		}
	}
}

func TestMemoryIsBounded(t *testing.T) {
	m := NewMemory()
	list := make([]verdict.Stretch, mostStretches/10)
	for lane := range int32(25) {
		m.learn(lane, remembered{ended: 1, list: list})
		m.learn(lane, remembered{ended: 2, list: list}) // in its place
	}
	if m.held > mostStretches || m.lanes.Len() != 10 {
		t.Errorf("%d stretches of %d lanes are held", m.held, m.lanes.Len())
	}
	if _, known := m.know(db.Lane{ID: 24, Ended: 2}, 0); !known {
		t.Error("the latest is forgotten")
	}
	for says, l := range map[string]db.Lane{"the oldest": {ID: 1, Ended: 2}, "what changed": {ID: 24, Ended: 3}} {
		if _, known := m.know(l, 0); known {
			t.Errorf("%s is known", says)
		}
	}
	if _, known := m.know(db.Lane{ID: 24, Ended: 2}, -1); known {
		t.Error("what is from before is known")
	}
}
