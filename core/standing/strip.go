package standing

import (
	"strconv"
	"strings"

	"kestite/core/account"
	"kestite/core/span"
)

// MostColumns is how many columns a strip has at most.
const MostColumns = 750

// letters are the classes as a strip writes them, the beginning of each word or what
// tells it from the others.
var letters = [...]byte{
	account.Outside: 'o', account.Up: 'u', account.Degraded: 'g', account.Down: 'd', account.Tolerated: 't', account.Maintenance: 'm',
	account.Upstream: 's', account.Excused: 'x', account.Unmeasured: 'n',
}

// Strip writes which class a time had as columns of equal length, from left to right:
// "212u 1u96d4 300" is 212 columns of up, one that was up for 96 % of its time and down
// for 4 %, and 300 of which nothing is said. A class that a column has at all has at
// least 1 %. columns is 1 to MostColumns; intervals are in order of time.
func Strip(intervals []account.Interval, over span.Span, columns int) string {
	if over.Empty() || columns < 1 {
		return ""
	}
	w := stripWriter{}
	edge := func(c int) span.Instant { return over.From + span.Instant(int64(c)*over.Length()/int64(columns)) }
	i := 0
	for c := 0; c < columns; {
		column := span.Span{From: edge(c), To: edge(c + 1)}
		for i < len(intervals) && intervals[i].To <= column.From {
			i++
		}
		if i < len(intervals) && intervals[i].From <= column.From && intervals[i].To >= column.To { // whole columns of it
			last := c + 1
			for last < columns && edge(last+1) <= intervals[i].To {
				last++
			}
			w.add(last-c, string(letters[intervals[i].Class]))
			c = last
			continue
		}
		var part [len(letters)]int64
		for n := i; n < len(intervals) && intervals[n].From < column.To; n++ {
			part[intervals[n].Class] += column.Intersect(span.Span{From: intervals[n].From, To: intervals[n].To}).Length()
		}
		w.add(1, shares(part, column.Length()))
		c++
	}
	return w.end()
}

// shares are the classes of a column with their parts of its time, in per cent.
func shares(part [len(letters)]int64, whole int64) string {
	var out []byte
	for class, ms := range part {
		if ms <= 0 {
			continue
		}
		out = append(out, letters[class])
		if ms < whole {
			out = strconv.AppendInt(out, min(99, max(1, (ms*100+whole/2)/whole)), 10)
		}
	}
	return string(out)
}

// stripWriter joins columns that are alike.
type stripWriter struct {
	text  strings.Builder
	alike int
	last  string
}

func (w *stripWriter) add(columns int, shares string) {
	if w.alike > 0 && shares != w.last {
		w.flush()
	}
	w.alike, w.last = w.alike+columns, shares
}

func (w *stripWriter) flush() {
	if w.text.Len() > 0 {
		w.text.WriteByte(' ')
	}
	w.text.WriteString(strconv.Itoa(w.alike))
	w.text.WriteString(w.last)
	w.alike = 0
}

func (w *stripWriter) end() string {
	if w.alike > 0 {
		w.flush()
	}
	return w.text.String()
}
