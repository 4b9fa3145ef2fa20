package report

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/span"
)

// strip draws the period: the height says the class.
func strip(c Content, loc *time.Location) *Figure {
	const high, band, half, foot = 72.0, 20.0, 40.0, 14.0
	a, t := c.Account, c.Account.TotalMS
	scale := fieldWidth / float64(max(1, a.To-a.From))
	x := func(i span.Instant) float64 { return float64(i-a.From) * scale }
	f := &Figure{Width: fieldWidth, Height: high + foot,
		Words:   label("strip.alt", span.Words(t.Up), span.Words(t.Degraded), span.WordsUp(t.Down), span.Words(t.Unmeasured), a.Outages.Count),
		Caption: label("strip.caption")}
	for _, i := range a.Intervals {
		_, known := classInk[i.Class]
		if !known {
			continue
		}
		m := Mark{X: x(i.From), Width: max(x(i.To)-x(i.From), 1.2), Height: high, Ink: i.Class.String()}
		switch i.Class {
		case account.Up:
			m.Height = band
		case account.Degraded:
			m.Height = half
		case account.Down:
		case account.Unmeasured:
			m.Height, m.Hollow, m.Dashed = band, true, true
		default:
			m.Hollow = true
		}
		m.Y = high - m.Height
		f.Marks = append(f.Marks, m)
	}
	f.Marks = append(f.Marks, Mark{Y: high - 0.6, Width: fieldWidth, Height: 1.2, Ink: "text"})
	for _, t := range ticks(span.Span{From: a.From, To: a.To}, loc) {
		f.Marks = append(f.Marks, Mark{X: x(t.From), Y: high, Width: 1, Height: 4, Ink: "text"},
			Mark{X: (x(t.From) + x(t.To)) / 2, Y: high + foot - 1, Text: t.text, Anchor: "middle", Ink: "secondary"})
	}
	return f
}

// tick is a part of an axis with what stands under it.
type tick struct {
	span.Span
	text string
}

// ticks are the days of a period by their date, or its months where there are too
// many days for that.
func ticks(period span.Span, loc *time.Location) []tick {
	const most = 45 // days that there is room for
	byMonth := period.Length() > most*span.Day
	var out []tick
	for day := calendar.WallAt(period.From, loc).At(0); ; day = day.AddDays(1) {
		at := max(day.Instant(loc, calendar.Shift), period.From)
		if at >= period.To {
			break
		}
		date := at.Time().In(loc)
		text := date.Format("2")
		if byMonth {
			text = date.Format("Jan 2006")
		}
		if last := len(out) - 1; last >= 0 {
			if out[last].text == text {
				continue
			}
			out[last].To = at
		}
		out = append(out, tick{span.Span{From: at, To: period.To}, text})
	}
	return out
}

// percentOf reads a percentage of an account; false where there is none.
func percentOf(s string) (float64, bool) {
	v, err := strconv.ParseFloat(s, 64)
	return v, err == nil && !math.IsNaN(v) && !math.IsInf(v, 0)
}

// trendFigure draws the availability of the last periods beside the target; nil where
// nothing of them is known.
func (c Content) trendFigure() *Figure {
	const high, foot, left = 130.0, 16.0, 0.0
	least := 100.0
	var said []string
	for _, p := range c.Trend {
		if v, is := percentOf(p.Low); is {
			least = min(least, v)
		}
		if v, is := percentOf(p.Availability); is {
			least = min(least, v)
			said = append(said, PeriodWords(p.Period)+" "+p.Availability+" %")
		}
		if v, is := percentOf(p.Target); is {
			least = min(least, v)
		}
	}
	if len(said) == 0 {
		return nil
	}
	// The scale begins at a whole step below the least, so that what is near 100 is told apart.
	step := math.Pow(10, math.Floor(math.Log10(max(100-least, 0.001))))
	floor := max(0, math.Floor((least-step/4)/step)*step)
	y := func(v float64) float64 { return high - (v-floor)/(100-floor)*(high-12) }
	f := &Figure{Width: fieldWidth, Height: high + foot, Words: label("trend.alt", len(c.Trend), strings.Join(said, ", ")),
		Caption: label("trend.caption", strconv.FormatFloat(math.Round(floor*1e4)/1e4, 'f', -1, 64))}
	wide := (fieldWidth - left) / float64(len(c.Trend))
	for n, p := range c.Trend {
		middle := left + (float64(n)+0.5)*wide
		if t, is := percentOf(p.Target); is {
			f.Marks = append(f.Marks, Mark{X: left + float64(n)*wide, Y: y(t) - 0.6, Width: wide, Height: 1.2, Ink: "secondary"})
		}
		low, isLow := percentOf(p.Low)
		top, isTop := percentOf(p.High)
		if isLow && isTop {
			f.Marks = append(f.Marks, Mark{X: middle - 0.75, Y: y(top), Width: 1.5, Height: max(1, y(low)-y(top)), Ink: "secondary"})
		}
		if v, is := percentOf(p.Availability); is && p.Verdict != account.Insufficient {
			m := Mark{X: middle - 7, Y: y(v) - 5, Width: 14, Height: 10, Ink: account.Up.String()}
			if p.Verdict == account.Missed {
				m.Ink, m.Hollow = account.Down.String(), true
			}
			f.Marks = append(f.Marks, m)
		}
		f.Marks = append(f.Marks, Mark{X: middle, Y: high + foot - 2, Text: shortPeriod(p.Period), Anchor: "middle", Ink: "secondary"})
	}
	f.Marks = append(f.Marks, Mark{Y: high - 0.6, Width: fieldWidth, Height: 1.2, Ink: "text"})
	return f
}

// shortPeriod is the name of a period where there is little room: "Oct" for 2026-10.
func shortPeriod(name string) string {
	p, err := calendar.ParsePeriod(name, time.UTC)
	if err != nil {
		return name
	}
	if len(name) == len("2006-01") && !strings.Contains(name, "W") && !strings.Contains(name, "Q") {
		return p.Span().From.Time().Format("Jan")
	}
	if from, _, is := strings.Cut(name, "/"); is {
		return from
	}
	return name
}

// responseFigure draws how long answers took, a line for each check and location.
func (c Content) responseFigure() *Figure {
	const row, label0, right = 24.0, 330.0, 110.0
	list := c.Responses
	longest := int64(1)
	for _, r := range list {
		longest = max(longest, r.P99)
	}
	f := &Figure{Width: fieldWidth, Height: row*float64(len(list)) + 4, Words: label("response.alt"), Caption: label("response.caption", milliseconds(longest))}
	x := func(v int64) float64 {
		return label0 + float64(v)/float64(longest)*(fieldWidth-label0-right)
	}
	for n, r := range list {
		middle := row*float64(n) + row/2 + 2
		f.Marks = append(f.Marks,
			Mark{X: 0, Y: middle + 4, Text: short(r.Name+", "+r.Place, 46), Anchor: "start", Ink: "text"},
			Mark{X: label0, Y: middle - 0.4, Width: fieldWidth - label0 - right, Height: 0.8, Ink: "divider"},
			Mark{X: x(r.P50), Y: middle - 1, Width: max(1, x(r.P99)-x(r.P50)), Height: 2, Ink: account.Up.String()},
			Mark{X: x(r.P50), Y: middle - 5, Width: max(3, x(r.P95)-x(r.P50)), Height: 10, Ink: account.Up.String()},
			Mark{X: fieldWidth, Y: middle + 4, Text: fmt.Sprintf("%s – %s ms", milliseconds(r.P50), milliseconds(r.P99)), Anchor: "end", Ink: "text"})
	}
	return f
}

// short cuts a text that is longer than there is room for.
func short(text string, most int) string {
	r := []rune(text)
	if len(r) <= most {
		return text
	}
	return string(r[:most-1]) + "…"
}
