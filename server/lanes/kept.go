// Package lanes keeps what follows from the measurements of one check at one location:
// the state of its series, the stretches that ended, and the open one, which lives with
// the lane until it ends.
package lanes

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"

	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// Kept is what lane.machine holds.
type Kept struct {
	Series verdict.Series `json:"series"`
	// Tail is the open stretch, which the next measurement may extend. It is in no
	// table yet, or stands there shorter than here.
	Tail *verdict.Stretch `json:"tail,omitempty"`
	// Raw is the instant of the latest raw measurement, errors included; 0 where earlier
	// versions did not note it.
	Raw span.Instant `json:"raw,omitempty"`
}

// BrokenError is a lane whose kept state cannot be read.
type BrokenError struct {
	Lane int32
	Err  error
}

func (e *BrokenError) Error() string {
	return fmt.Sprintf("the state of lane %d cannot be read: %v", e.Lane, e.Err)
}

func (e *BrokenError) Unwrap() error { return e.Err }

// Of reads what is kept of a lane; a lane that never stored anything gives the zero
// Kept. The error is a *BrokenError.
func Of(l db.Lane) (Kept, error) {
	k, err := read(l.Machine)
	if err != nil {
		return Kept{}, &BrokenError{l.ID, err}
	}
	return k, nil
}

// Empty says whether a lane never stored anything.
func Empty(l db.Lane) bool { return len(l.Machine) == 0 || string(l.Machine) == "{}" }

// coding is the first byte of Kept as bytes; what begins with a brace is JSON, as
// versions before wrote it.
const coding = 1

const (
	started = 1 << iota
	apart
	hasTail
	hasRaw
)

const (
	alone = 1 << iota
	anew
)

// Bytes is Kept as stored: numbers of variable length (encoding/binary's), instants as
// ms, most of them as the distance from the last measurement.
func (k Kept) Bytes() []byte {
	s := &k.Series
	flags := bit(s.Started, started) | bit(s.Apart, apart) | bit(k.Tail != nil, hasTail) | bit(k.Raw > 0, hasRaw)
	out := []byte{coding, flags, byte(s.State)}
	out = binary.AppendVarint(out, int64(s.LastAt))
	out = binary.AppendVarint(out, s.Stale)
	out = binary.AppendVarint(out, s.Revision)
	if k.Raw > 0 {
		out = binary.AppendVarint(out, int64(k.Raw-s.LastAt))
	}
	if k.Tail != nil {
		out = appendStretch(out, *k.Tail, s.LastAt)
	}
	for _, p := range s.Pending {
		out = appendStretch(append(out, bit(p.Alone, alone)|bit(p.Anew, anew)), p.Stretch, s.LastAt)
	}
	return out
}

func bit(is bool, b byte) byte {
	if is {
		return b
	}
	return 0
}

func appendStretch(out []byte, s verdict.Stretch, last span.Instant) []byte {
	out = append(out, byte(s.State), byte(s.Own))
	out = binary.AppendVarint(out, int64(s.First-last))
	out = binary.AppendVarint(out, int64(s.Last-last))
	return binary.AppendVarint(out, s.Count)
}

var errCut = errors.New("it ends in the middle")

func read(text []byte) (Kept, error) {
	var k Kept
	switch {
	case len(text) == 0:
		return k, nil
	case text[0] == '{':
		err := json.Unmarshal(text, &k)
		return k, err
	case text[0] != coding:
		return k, fmt.Errorf("its coding is %d; a later version wrote it", text[0])
	}
	r := reader{rest: text[1:]}
	flags := r.byte()
	s := &k.Series
	s.State, s.Started, s.Apart = r.state(), flags&started != 0, flags&apart != 0
	s.LastAt, s.Stale, s.Revision = span.Instant(r.int()), r.int(), r.int()
	if flags&hasRaw != 0 {
		k.Raw = s.LastAt + span.Instant(r.int())
	}
	if flags&hasTail != 0 {
		tail := r.stretch(s.LastAt)
		k.Tail = &tail
	}
	for r.err == nil && len(r.rest) > 0 {
		how := r.byte()
		s.Pending = append(s.Pending, verdict.Pending{Alone: how&alone != 0, Anew: how&anew != 0, Stretch: r.stretch(s.LastAt)})
	}
	return k, r.err
}

// reader reads on after an error as if there were nothing, and keeps the error.
type reader struct {
	rest []byte
	err  error
}

func (r *reader) byte() byte {
	if len(r.rest) == 0 {
		r.err = errCut
		return 0
	}
	b := r.rest[0]
	r.rest = r.rest[1:]
	return b
}

func (r *reader) int() int64 {
	v, n := binary.Varint(r.rest)
	if n <= 0 {
		r.err, r.rest = errCut, nil
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) state() verdict.State {
	b := r.byte()
	if b > byte(verdict.Down) && r.err == nil {
		r.err = fmt.Errorf("there is no state %d", b)
	}
	return verdict.State(b)
}

func (r *reader) stretch(last span.Instant) verdict.Stretch {
	return verdict.Stretch{
		State: r.state(), Own: r.state(), First: last + span.Instant(r.int()), Last: last + span.Instant(r.int()), Count: r.int(),
	}
}

// Present is the state of a lane at some time lately.
type Present struct {
	State verdict.State
	Since span.Instant // of the run of equal state, as far as it is open
}

// Present is the state of the lane now: that of its open stretch, unless it has been
// silent for too long since.
func (k Kept) Present(now span.Instant) Present {
	if k.Tail == nil || k.Series.Stale > 0 && now >= k.Series.LastAt.Add(k.Series.Stale) {
		return Present{verdict.Unmeasured, k.Series.LastAt}
	}
	return Present{k.Series.State, k.Tail.First}
}
