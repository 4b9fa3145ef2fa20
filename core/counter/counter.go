// Package counter compares an account with what somebody else says of the same time: a
// list of outages, as a customer or a supplier keeps one.
package counter

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/icalendar"
	"kestite/core/span"
)

// Outage is one of their list.
type Outage struct {
	From span.Instant `json:"from"`
	To   span.Instant `json:"to"`
	Text string       `json:"text,omitempty"`
	Line int          `json:"line" doc:"Of the file; 0 where lines say nothing"`
}

// Left is a line that could not be read.
type Left struct {
	Line int    `json:"line"`
	Why  string `json:"why"`
}

// Limits of a list.
const (
	Most      = 10_000  // outages
	MostBytes = 2 << 20 // of the file
)

// Read reads a list: an iCalendar file (RFC 5545) with an event for each outage, or lines
// of begin, end and, if they like, what it was, separated by commas, semicolons or tabs.
// Times are RFC 3339, or without a zone as 2006-01-02 15:04:05, seconds optional, in loc.
// A first line that names its columns is left out. What cannot be read is told, line by
// line; the error says that nothing can.
func Read(text string, loc *time.Location, now span.Instant) ([]Outage, []Left, error) {
	if len(text) > MostBytes {
		return nil, nil, fmt.Errorf("it is longer than %d MiB", MostBytes>>20)
	}
	text = strings.TrimPrefix(text, "\ufeff")
	if strings.HasPrefix(strings.TrimSpace(text), "BEGIN:VCALENDAR") {
		return readCalendar(text, loc, now)
	}
	return readLines(text, loc)
}

func readCalendar(text string, loc *time.Location, now span.Instant) ([]Outage, []Left, error) {
	events, left, err := icalendar.Read(text, loc.String(), now)
	if err != nil {
		return nil, nil, err
	}
	var out []Outage
	var bad []Left
	for _, l := range left {
		bad = append(bad, Left{Why: l.Name + ": " + l.Why})
	}
	for _, e := range events {
		spec := e.Spec
		zone, err := calendar.Zone(spec.Timezone)
		if err == nil {
			var start calendar.Wall
			if start, err = calendar.ParseWall(spec.Start); err == nil {
				from := start.Instant(zone, calendar.Shift)
				out = append(out, Outage{From: from, To: from.Add(spec.DurationS * span.Second), Text: spec.Name})
			}
		}
		switch {
		case err != nil:
			bad = append(bad, Left{Why: spec.Name + ": " + err.Error()})
		case spec.RRule != "":
			bad = append(bad, Left{Why: spec.Name + " recurs; only its first time was taken"})
		}
	}
	return bounded(out, bad)
}

// separator is what separates the fields of a text: what its first line has.
func separator(text string) rune {
	line, _, _ := strings.Cut(text, "\n")
	for _, c := range "\t;" {
		if strings.ContainsRune(line, c) {
			return c
		}
	}
	return ','
}

func readLines(text string, loc *time.Location) ([]Outage, []Left, error) {
	r := csv.NewReader(bytes.NewReader([]byte(text)))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes = separator(text), -1, true, true
	var out []Outage
	var bad []Left
	for n := 0; ; n++ {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return bounded(out, bad)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("it is no list of begins and ends: %w", err)
		}
		line, _ := r.FieldPos(0)
		o, err := outageOf(fields, loc)
		switch {
		case err == nil:
			o.Line = line
			out = append(out, o)
		case n > 0 || len(fields) > 0 && strings.ContainsAny(fields[0], "0123456789"):
			bad = append(bad, Left{line, err.Error()})
		}
	}
}

func outageOf(fields []string, loc *time.Location) (Outage, error) {
	if len(fields) < 2 {
		return Outage{}, errors.New("it has no begin and end")
	}
	from, err := instantOf(fields[0], loc)
	if err != nil {
		return Outage{}, fmt.Errorf("begin: %w", err)
	}
	to, err := instantOf(fields[1], loc)
	if err != nil {
		return Outage{}, fmt.Errorf("end: %w", err)
	}
	if to <= from {
		return Outage{}, errors.New("it ends before it begins, or as it begins")
	}
	return Outage{From: from, To: to, Text: strings.TrimSpace(strings.Join(fields[2:], " "))}, nil
}

func instantOf(s string, loc *time.Location) (span.Instant, error) {
	s = strings.TrimSpace(s)
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil && t.Year() >= 1970 && t.Year() < 9999 {
		return span.Of(t), nil
	}
	plain := strings.Replace(s, "T", " ", 1)
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2.1.2006 15:04:05", "2.1.2006 15:04"} {
		if t, err := time.ParseInLocation(layout, plain, loc); err == nil && t.Year() >= 1970 && t.Year() < 9999 {
			return span.Of(t), nil
		}
	}
	return 0, fmt.Errorf("%q is no time; write it as 2006-01-02 15:04:05 or with its zone, 2006-01-02T15:04:05+01:00", s)
}

func bounded(out []Outage, bad []Left) ([]Outage, []Left, error) {
	if len(out) > Most {
		return nil, nil, fmt.Errorf("it has %d outages; %d at most are compared", len(out), Most)
	}
	slices.SortFunc(out, func(a, b Outage) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	return out, bad, nil
}

// Who says that it was down.
const (
	Theirs = "theirs" // they list it; here it is something else
	Ours   = "ours"   // it is down here; they do not list it
)

// Difference is a stretch in which list and account say otherwise.
type Difference struct {
	From  span.Instant `json:"from"`
	To    span.Instant `json:"to"`
	MS    int64        `json:"ms"`
	Who   string       `json:"who" enum:"theirs,ours" doc:"Who says that it was down"`
	Class string       `json:"class" doc:"What it is in the account"`
	Why   string       `json:"why"`
	Text  string       `json:"text,omitempty" doc:"What their list says of it"`
}

// Comparison is a list beside an account.
type Comparison struct {
	Listed      int          `json:"listed" doc:"Outages of their list that touch the period"`
	TheirsMS    int64        `json:"theirs_ms" doc:"Down by their list, in the period; what overlaps counts once"`
	OursMS      int64        `json:"ours_ms" doc:"Down in the account"`
	BothMS      int64        `json:"both_ms" doc:"Down in both"`
	Differences []Difference `json:"differences"`
}

// whys say what a class means where a list says down.
var whys = map[account.Class]string{
	account.Outside: "it lies outside the agreed hours", account.Up: "it was measured as up", account.Degraded: "it was measured as degraded, which is not down",
	account.Tolerated: "it was shorter than the outages that count", account.Maintenance: "it was granted as planned work", account.Upstream: "a service that is excused was down then",
	account.Excused: "an approved adjustment excuses it", account.Unmeasured: "nothing was measured then",
}

// Compare says in which stretches a list and an account differ: every millisecond that is
// down in exactly one of them, cut where the class changes.
func Compare(a *account.Account, list []Outage) Comparison {
	period := span.Span{From: a.From, To: a.To}
	var theirs []span.Span
	out := Comparison{Differences: []Difference{}}
	for _, o := range list {
		if s := (span.Span{From: o.From, To: o.To}).Intersect(period); !s.Empty() {
			theirs = append(theirs, s)
			out.Listed++
		}
	}
	said := span.Union(theirs...)
	out.TheirsMS = said.Length()
	for _, i := range a.Intervals {
		within := span.Span{From: i.From, To: i.To}
		listed := said.Cut(within)
		if i.Class == account.Down {
			out.OursMS += within.Length()
			out.BothMS += listed.Length()
			for _, s := range span.Union(within).Without(listed) {
				out.Differences = append(out.Differences, Difference{s.From, s.To, s.Length(), Ours, i.Class.String(), "it was measured as down, and they do not list it", ""})
			}
			continue
		}
		for _, s := range listed {
			out.Differences = append(out.Differences, Difference{s.From, s.To, s.Length(), Theirs, i.Class.String(), whys[i.Class], textOf(list, s)})
		}
	}
	return out
}

// textOf is what a list says of a stretch: the first that touches it.
func textOf(list []Outage, s span.Span) string {
	for _, o := range list {
		if !(span.Span{From: o.From, To: o.To}).Intersect(s).Empty() {
			return o.Text
		}
	}
	return ""
}
