package wire_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"

	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
)

func decode(text []byte, into any) error { return json.Unmarshal(text, into) }

// some are measurements of all shapes that come together.
func some(n int) []wire.Measurement {
	from := span.Instant(1_772_000_000_000)
	out := make([]wire.Measurement, 0, n)
	random := rand.New(rand.NewPCG(7, 7))
	for i := range n {
		m := wire.Measurement{
			Check: []string{"gates-web", "tolvik-ping", "fähre", ""}[i%4], At: from.Add(int64(i) * 10_001),
			Outcome: measure.Outcome(i % 4), LateMS: int64(i % 3),
		}
		switch i % 5 {
		case 0:
			m.Measures = map[string]float64{"total_ms": random.ExpFloat64(), "status": 200}
		case 1:
			m.Measures = map[string]float64{"loss_percent": 1e-3 * float64(i)}
			m.Clock = &wire.Clock{Offset: -12, Uncertain: int64(i % 2)}
		case 2:
			m.Detail = "nothing listens at harbour \u2693"
		case 3:
			m.Measures = map[string]float64{"total_ms": math.MaxFloat64, "status": math.Copysign(0, -1)}
			m.Findings = &measure.Findings{}
			m.Clock = &wire.Clock{Offset: math.MinInt64, Uncertain: math.MaxInt64}
		}
		out = append(out, m)
	}
	return out
}

func TestPackedBatchesSayTheSame(t *testing.T) {
	for _, n := range []int{0, 1, 7, 1000, wire.MaxBatch} {
		list := some(n)
		text, err := wire.Pack(wire.Batch{Measurements: list})
		if err != nil {
			t.Fatal(err)
		}
		got, refused, err := wire.Unpack(text, decode)
		if err != nil || len(refused) > 0 {
			t.Fatalf("%d measurements: %v, refused %v", n, err, refused)
		}
		if len(got) != n || n > 0 && !reflect.DeepEqual(got, list) {
			t.Fatalf("%d measurements come out otherwise than they went in", n)
		}
	}
	if _, err := wire.Pack(wire.Batch{Measurements: some(wire.MaxBatch + 1)}); !errors.Is(err, wire.ErrTooMany) {
		t.Errorf("too many are packed: %v", err)
	}
}

// columns is the packed form written by hand.
func columns(change func(map[int]any)) []byte {
	typed := func(tag uint64, b ...byte) cbor.Tag { return cbor.Tag{Number: tag, Content: b} }
	m := map[int]any{
		1: 2, 2: []string{"gates-web"}, 3: [][]string{{"status"}}, 4: []any{}, 5: typed(69, 0, 0, 0, 0), 6: typed(79, make([]byte, 16)...),
		7: []byte{1, 1}, 8: typed(69, 0, 0, 1, 0), 9: typed(86, make([]byte, 8)...), 10: typed(69, 0, 0, 0, 0), 11: typed(79, make([]byte, 16)...),
		12: map[int]string{}, 13: map[int][]byte{},
	}
	change(m)
	text, err := cbor.Marshal(m)
	if err != nil {
		panic(err)
	}
	return text
}

func TestPackedBatchesThatAreNoneAreRefused(t *testing.T) {
	list, refused, err := wire.Unpack(columns(func(map[int]any) {}), decode)
	if err != nil || len(refused) > 0 || len(list) != 2 || list[1].Measures["status"] != 0 {
		t.Fatalf("the sound one: %v %v %v", list, refused, err)
	}
	typed := func(tag uint64, b ...byte) cbor.Tag { return cbor.Tag{Number: tag, Content: b} }
	for name, c := range map[string]struct {
		change func(map[int]any)
		want   string
	}{
		"another version":       {func(m map[int]any) { m[1] = 3 }, "version 3"},
		"an unknown column":     {func(m map[int]any) { m[14] = 1 }, "unknown"},
		"a short column":        {func(m map[int]any) { m[7] = []byte{1} }, "lengths"},
		"no check of that kind": {func(m map[int]any) { m[5] = typed(69, 0, 0, 1, 0) }, "measurement 1 names"},
		"no shape of that kind": {func(m map[int]any) { m[8] = typed(69, 0, 0, 2, 0) }, "measurement 1 names"},
		"no clock of that kind": {func(m map[int]any) { m[10] = typed(69, 1, 0, 0, 0) }, "measurement 0 names"},
		"too few values":        {func(m map[int]any) { m[9] = typed(86) }, "0 values where 1"},
		"half an element":       {func(m map[int]any) { m[6] = typed(79, make([]byte, 15)...) }, "no typed array"},
		"other elements":        {func(m map[int]any) { m[6] = typed(71, make([]byte, 16)...) }, "no typed array"},
		"no typed array":        {func(m map[int]any) { m[6] = []int{1, 2} }, "cannot"},
		"too many":              {func(m map[int]any) { m[6] = typed(79, make([]byte, 8*(wire.MaxBatch+1))...) }, "at most"},
	} {
		if _, _, err := wire.Unpack(columns(c.change), decode); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	whole := columns(func(map[int]any) {})
	for n := range whole {
		if _, _, err := wire.Unpack(whole[:n], decode); err == nil {
			t.Errorf("%d of %d bytes are taken", n, len(whole))
		}
	}
	if _, _, err := wire.Unpack(append(bytes.Clone(whole), 0), decode); err == nil {
		t.Error("more after its end is taken")
	}
}

// One bad measurement among good ones is refused, and the good ones come in.
func TestOneBadRowOfAPackedBatch(t *testing.T) {
	for name, change := range map[string]func(map[int]any){
		"no outcome":  func(m map[int]any) { m[7] = []byte{1, 9} },
		"no instant":  func(m map[int]any) { m[6] = cbor.Tag{Number: 79, Content: append(make([]byte, 15), 0x80)} },
		"no findings": func(m map[int]any) { m[13] = map[int][]byte{1: []byte("{")} },
	} {
		list, refused, err := wire.Unpack(columns(change), decode)
		if err != nil || len(list) != 2 || len(refused) != 1 || refused[0].Index != 1 || !refused[0].Unstorable {
			t.Errorf("%s: %d read, refused %v, %v", name, len(list), refused, err)
		}
	}
	list, refused, err := wire.Unpack(columns(func(m map[int]any) { m[12] = map[int]any{0: "a\x00b"} }), decode)
	if err != nil || len(refused) > 0 || list[0].Detail != "a\x00b" {
		t.Errorf("a detail that is cleaned later: %v %v %v", list, refused, err)
	}
}

// Whatever comes, it is read or refused, and what is read can be packed again.
func FuzzUnpack(f *testing.F) {
	f.Add(columns(func(map[int]any) {}))
	text, err := wire.Pack(wire.Batch{Measurements: some(20)})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		list, refused, err := wire.Unpack(text, decode)
		if err != nil || len(refused) > 0 {
			return
		}
		again, err := wire.Pack(wire.Batch{Measurements: list})
		if err != nil {
			t.Fatal(err)
		}
		if other, _, err := wire.Unpack(again, decode); err != nil || len(other) != len(list) {
			t.Fatalf("packed again: %d of %d, %v", len(other), len(list), err)
		}
	})
}
