// Package span is the arithmetic of time that everything else is written in:
// instants in whole milliseconds, half-open spans, sets of spans, and
// timelines of values that are total over all time.
package span

import (
	"fmt"
	"slices"
	"time"
)

// Instant is a point in time in whole milliseconds since 1970-01-01T00:00:00Z.
type Instant int64

// Beginning and End bound every timeline. No real instant lies outside them.
const (
	Beginning Instant = -1 << 60
	End       Instant = 1 << 60
)

// Millisecond multiples, for durations as plain int64 milliseconds.
const (
	Second int64 = 1000
	Minute       = 60 * Second
	Hour         = 60 * Minute
	Day          = 24 * Hour
)

// Of returns the instant of t, truncated to the millisecond.
func Of(t time.Time) Instant { return Instant(t.UnixMilli()) }

// Time returns i in UTC.
func (i Instant) Time() time.Time { return time.UnixMilli(int64(i)).UTC() }

// String writes i as RFC 3339 in UTC with milliseconds.
func (i Instant) String() string { return i.Time().Format("2006-01-02T15:04:05.000Z") }

// Add returns i moved by ms milliseconds, saturating at Beginning and End.
func (i Instant) Add(ms int64) Instant {
	switch {
	case ms > 0 && i > End-Instant(ms):
		return End
	case ms < 0 && i < Beginning-Instant(ms):
		return Beginning
	}
	return i + Instant(ms)
}

// Span is the half-open stretch of time [From, To). It is empty when To ≤ From.
type Span struct {
	From Instant `json:"from"`
	To   Instant `json:"to"`
}

// All is the whole of time.
var All = Span{Beginning, End}

// Empty says whether s covers no time.
func (s Span) Empty() bool { return s.To <= s.From }

// Length is the duration of s in milliseconds, 0 when it is empty.
func (s Span) Length() int64 { return max(0, int64(s.To-s.From)) }

// Contains says whether i lies in s.
func (s Span) Contains(i Instant) bool { return s.From <= i && i < s.To }

// Intersect returns the time that s and o share; it may be empty.
func (s Span) Intersect(o Span) Span { return Span{max(s.From, o.From), min(s.To, o.To)} }

// Set is a set of instants as disjoint, non-touching, non-empty spans in order.
// The nil Set is empty.
type Set []Span

// Union returns the set of all time in any of spans, in any order.
func Union(spans ...Span) Set {
	sorted := make([]Span, 0, len(spans))
	for _, s := range spans {
		if !s.Empty() {
			sorted = append(sorted, s)
		}
	}
	slices.SortFunc(sorted, func(a, b Span) int {
		switch {
		case a.From < b.From:
			return -1
		case a.From > b.From:
			return 1
		}
		return 0
	})
	var set Set
	for _, s := range sorted {
		if n := len(set); n > 0 && s.From <= set[n-1].To {
			set[n-1].To = max(set[n-1].To, s.To)
			continue
		}
		set = append(set, s)
	}
	return set
}

// Cut returns the part of the set inside within.
func (set Set) Cut(within Span) Set {
	var out Set
	for _, s := range set {
		if s = s.Intersect(within); !s.Empty() {
			out = append(out, s)
		}
	}
	return out
}

// Intersect returns the time in both sets.
func (set Set) Intersect(other Set) Set {
	var out Set
	for i, j := 0, 0; i < len(set) && j < len(other); {
		if s := set[i].Intersect(other[j]); !s.Empty() {
			out = append(out, s)
		}
		if set[i].To < other[j].To {
			i++
		} else {
			j++
		}
	}
	return out
}

// Without returns the parts of set that are not in other.
func (set Set) Without(other Set) Set {
	var out Set
	n := 0
	for _, s := range set {
		for n < len(other) && other[n].To <= s.From {
			n++
		}
		from := s.From
		for k := n; k < len(other) && other[k].From < s.To; k++ {
			if from < other[k].From {
				out = append(out, Span{from, other[k].From})
			}
			from = max(from, other[k].To)
		}
		if from < s.To {
			out = append(out, Span{from, s.To})
		}
	}
	return out
}

// Length is the total duration of the set in milliseconds.
func (set Set) Length() int64 {
	var total int64
	for _, s := range set {
		total += s.Length()
	}
	return total
}

// Take returns the earliest part of the set that is at most ms milliseconds long.
func (set Set) Take(ms int64) Set {
	var out Set
	for _, s := range set {
		if ms <= 0 {
			break
		}
		if s.Length() > ms {
			s.To = s.From.Add(ms)
		}
		ms -= s.Length()
		out = append(out, s)
	}
	return out
}

// Contains says whether i lies in the set.
func (set Set) Contains(i Instant) bool {
	n, _ := slices.BinarySearchFunc(set, i, func(s Span, i Instant) int {
		if s.To <= i {
			return -1
		}
		return 1
	})
	return n < len(set) && set[n].Contains(i)
}

// ParseInstant reads an RFC 3339 date-time with an offset and at most
// millisecond precision.
func ParseInstant(s string) (Instant, error) {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil || t.Nanosecond()%int(time.Millisecond) != 0 || !StrictDateTime(s) {
		return 0, fmt.Errorf("%q is no RFC 3339 instant; write it as 2006-01-02T15:04:05Z, to the millisecond at most", s)
	}
	return Of(t), nil
}

// StrictDateTime refuses what time.Parse lets through beyond RFC 3339: a comma
// as decimal sign and fields of fewer digits.
func StrictDateTime(s string) bool {
	if len(s) < 19 || s[10] != 'T' || s[13] != ':' || s[16] != ':' {
		return false
	}
	return len(s) == 19 || s[19] != ','
}

// MarshalText writes i as String does.
func (i Instant) MarshalText() ([]byte, error) { return []byte(i.String()), nil }

// UnmarshalText reads what ParseInstant does.
func (i *Instant) UnmarshalText(text []byte) (err error) {
	*i, err = ParseInstant(string(text))
	return err
}
