// Package counter compares an account with what somebody else says of the same time: a
// list of outages, as a customer or a supplier keeps one.
package counter

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
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

// separators of fields; of those by which as many lines can be read, the first.
const separators = "\t;,"

// mostQuoted is how many lines a record may have: a quoted field that is not closed by then
// was not meant to be one.
const mostQuoted = 3

// readLines reads lines by the separator by which most of them are outages.
func readLines(text string, loc *time.Location) ([]Outage, []Left, error) {
	lines := strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), "\n")
	var out []Outage
	var bad []Left
	for _, sep := range separators {
		if list, left := readBy(sep, lines, loc); out == nil && bad == nil || len(list) > len(out) {
			out, bad = list, left
		}
	}
	return bounded(out, bad)
}

func readBy(sep rune, lines []string, loc *time.Location) (out []Outage, bad []Left) {
	for n := 0; n < len(lines); {
		line, record := n, lines[n]
		n++
		open := quoteOpen(record, sep, false)
		for more := n; open && more < min(len(lines), line+mostQuoted); more++ {
			if !quoteOpen(lines[more], sep, true) {
				record, n, open = strings.Join(lines[line:more+1], "\n"), more+1, false
			}
		}
		if strings.TrimSpace(record) == "" {
			continue
		}
		var o Outage
		err := errors.New("a quote begins in it and does not end")
		if !open {
			o, err = outageOfRecord(record, sep, loc)
		}
		switch {
		case err == nil:
			o.Line = line + 1
			out = append(out, o)
		case line > 0 || strings.ContainsAny(record, "0123456789"): // not names of columns
			bad = append(bad, Left{line + 1, err.Error()})
		}
	}
	return out, bad
}

// quoteOpen says whether a quoted field is open after a line; within says that one was before
// it. A quote begins a field alone, and ends it before a separator or the line's end.
func quoteOpen(line string, sep rune, within bool) bool {
	begins := !within
	for i := 0; i < len(line); i++ {
		switch c := rune(line[i]); {
		case within && c == '"':
			rest := strings.TrimLeft(line[i+1:], " ")
			switch {
			case strings.HasPrefix(line[i+1:], `"`):
				i++ // it stands for a quote
			case rest == "" || rune(rest[0]) == sep:
				within = false
			}
		case within, c == ' ' && begins:
		case c == '"' && begins:
			within, begins = true, false
		default:
			begins = c == sep
		}
	}
	return within
}

func outageOfRecord(record string, sep rune, loc *time.Location) (Outage, error) {
	r := csv.NewReader(strings.NewReader(record))
	r.Comma, r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes = sep, -1, true, true
	fields, err := r.Read()
	if err != nil {
		return Outage{}, fmt.Errorf("it cannot be read: %w", err)
	}
	return outageOf(fields, loc)
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
		if t, err := time.Parse(layout, plain); err == nil && t.Year() >= 1970 && t.Year() < 9999 {
			return calendar.WallOf(t).Instant(loc, calendar.Shift), nil
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
