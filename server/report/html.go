package report

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/span"
	"kestite/web"
)

//go:embed pages
var pages embed.FS

var htmlPage = template.Must(template.ParseFS(pages, "pages/report.html.tmpl"))

// bar is an interval of the strip, in a field of 1000 by 60.
type bar struct {
	X, Y, Width, Height float64
	Colour              string
	Hollow, Dashed      bool
}

// outageRow is an outage as a page prints it.
type outageRow struct {
	No                      int
	From, To, Length, Cause string
}

// HTML makes the document as a page that stands alone and prints: no scripts, nothing that
// is loaded from elsewhere. digest is empty for a draft.
func HTML(c Content, made time.Time, digest string) ([]byte, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	at := func(i span.Instant) string { return i.Time().In(loc).Format(printed) }
	a := c.Account
	rows := []outageRow{}
	for n, o := range c.Outages {
		rows = append(rows, outageRow{n + 1, at(o.From), at(o.To), span.WordsUp(o.MS), seen(o.Cause)})
	}
	ink := map[string]string{}
	for _, name := range []string{"text", "secondary", "divider", "background", "down"} {
		ink[name] = web.Colours[name].Hex()
	}
	view := map[string]any{
		"Organisation": seen(c.Organisation), "Name": seen(c.Name), "Customer": seen(c.Customer), "Service": seen(c.ServiceName), "Period": PeriodWords(c.Period), "Number": c.Number,
		"Made": made.In(loc).Format("2 January 2006, 15:04 MST"), "Draft": digest == "", "Digest": digest, "Verdict": VerdictSentence(c), "Lead": leadWords(c, loc),
		"Strip": bars(a), "StripWords": stripWords(c), "From": at(a.From), "To": at(a.To), "Zone": c.Timezone, "Statement": StatementOf(c), "Outages": rows,
		"Adjustments": seenAll(AdjustmentWords(c, loc)), "Remark": seen(c.Remark), "Clauses": seenAll(c.Clauses), "Method": c.Method, "Ink": ink,
	}
	var buf bytes.Buffer
	if err := htmlPage.Execute(&buf, view); err != nil {
		return nil, fmt.Errorf("write the page: %w", err)
	}
	return buf.Bytes(), nil
}

func seenAll(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = seen(s)
	}
	return out
}

// stripWords say what the strip shows to who does not see it.
func stripWords(c Content) string {
	t := c.Account.TotalMS
	return fmt.Sprintf("The period as a strip: %s up, %s degraded, %s down, %s not measured, %d outages", span.Words(t.Up), span.Words(t.Degraded), span.WordsUp(t.Down),
		span.Words(t.Unmeasured), c.Account.Outages.Count)
}

// bars are the intervals of an account as the strip draws them: the height says the class.
func bars(a account.Account) []bar {
	const wide, high, band, half = 1000.0, 60.0, 17.0, 34.0
	scale := wide / float64(a.To-a.From)
	out := []bar{}
	for _, i := range a.Intervals {
		ink, known := classInk[i.Class]
		if !known {
			continue
		}
		left := float64(i.From-a.From) * scale
		b := bar{X: left, Width: max(float64(i.To-i.From)*scale, 1.2), Height: high, Colour: ink.Hex()}
		switch i.Class {
		case account.Up:
			b.Height = band
		case account.Degraded:
			b.Height = half
		case account.Down:
		case account.Unmeasured:
			b.Height, b.Hollow, b.Dashed = band, true, true
		default:
			b.Hollow = true
		}
		b.Y = high - b.Height
		out = append(out, b)
	}
	return out
}
