package report

import (
	"bytes"
	"fmt"
	"html"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"kestite/core/account"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/response"
	"kestite/core/span"
)

// full is a report that has something in every section, some of it long and hostile.
func full(layout definition.LayoutSpec) Content {
	yes, no, percent := true, false, "99.1234"
	at := func(day int) span.Instant {
		return span.Of(time.Date(2026, 10, day, 6, 0, 0, 0, time.UTC))
	}
	laid := LaidAs(layout)
	long := strings.Repeat("Gangway controller of the far quay ", 4) + "<b>&"
	end := at(4)
	c := Content{Organisation: "Skerry Line", Name: long, Customer: "Port authority", ServiceName: "Boarding gates", Target: "99.9", Timezone: "Europe/Oslo", Period: "2026-10", Number: 3, Remark: "Two\nlines.",
		Account: account.Account{From: at(1), To: at(31), Verdict: account.Missed, AvailabilityPercent: &percent, AvailabilityLowPercent: &percent, AvailabilityHighPercent: &percent, CoveragePercent: "100.0000", CreditPercent: "5",
			Intervals: []account.Interval{{From: at(1), To: at(3), Class: account.Up}, {From: at(3), To: at(4), Class: account.Down}, {From: at(4), To: at(31), Class: account.Unmeasured}},
			Latency:   &account.LatencyOutcome{Measurements: 1234, Within: 1200, Percent: &percent, Met: &no},
			Objectives: &account.ObjectivesMet{OutagesAtMost: &account.CountMet{Limit: 2, Value: 3, Met: &no}, LongestOutage: &account.LengthMet{Limit: 600, ValueMS: new(int64(599_001)), Met: &yes},
				MTTR: &account.LengthMet{Limit: 300, ValueMS: new(int64(1000)), Met: nil}}},
		Outages: []Outage{{From: at(3), To: at(4), MS: span.Day, Cause: long, Incident: 77}},
		Adjustments: []Adjusted{{definition.Adjustment{From: at(5), To: at(6), Class: "excused", Cause: "force-majeure", Reason: "A storm.", ProposedBy: "Runa", ApprovedBy: "Mikkel"}, 3_600_000},
			{definition.Adjustment{From: at(7), To: at(8), Class: "up", Cause: "measurement", Reason: "The log.", ProposedBy: "Runa", ApprovedBy: "Mikkel"}, 7_200_000}},
		Clauses: []string{"Promised to the port: 99.9 %."}, Method: []string{"Measured from outside."},
		Layout: &laid, LatencyPromise: &Promised{"page", "Gate page", 250_000, "95"},
		Work: []Worked{{"w", "Gate firmware", "planned", at(9), at(9) + 3_600_000, 3_600_000, 1_800_001, []account.Refusal{{Why: account.CapUsed, MS: 1_799_999}, {Why: "unknown", MS: 1}}}},
		Responses: []Timed{{response.Summary{Check: "page", Location: "eskerby", Measure: "total_ms", Count: 4711, P50: 47_449, P90: 50_050, P95: 61_999, P99: 99_949, Longest: 1_234_567}, "Gate page", "Eskerby", &Thinned{4711, 44_640}},
			{response.Summary{Check: "page", Location: "tolvik", Measure: "total_ms", Count: 1}, "Gate page", "Tolvik", nil}},
		Trend:     []Past{{"2026-08", 0, "99.9", account.Insufficient, "", "", "", 0}, {"2026-09", 2, "99.9", account.Met, "99.9512", "99.9500", "99.9524", 1_265_001}, {"2026-10", 0, "99.9", account.Missed, "99.1234", "99.1234", "99.1234", span.Day}},
		Incidents: []Happened{{77, at(3), &end, "A fuse."}, {78, at(30), nil, ""}},
		Credit:    &credit.Owed{Direction: credit.ToCustomer, Currency: "NOK", Fee: "1000.00", Percent: "5", Amount: "50.00"},
		Ledger:    []Settled{{"gates", "Gates", "2026-09", "NOK", "50.00", "10.00", "at most 4 % of the fees", "40.00", "40.00", "15.00", "25.00", "claimed"}},
		Claims:    []Settled{{"acquirer", "Card acquirer", "2026-10", "NOK", "1875.00", "0.00", "", "1875.00", "0.00", "0.00", "1875.00", "due"}},
	}
	return c
}

// Every section says the same in every form, on every paper, whatever it is shown by.
func TestSectionsSayTheSameInEveryForm(t *testing.T) {
	bare := func(s string) string { return strings.Join(strings.Fields(s), "") }
	tags := regexp.MustCompile(`<[^>]*>`)
	for _, layout := range []definition.LayoutSpec{
		{Sections: definition.AllSections(), Statistics: definition.Statistics()},
		{Sections: definition.AllSections(), Show: definition.ShowTables, Paper: definition.PaperLetter, Landscape: true, Accent: "#1f5f6b"},
		{Sections: definition.AllSections(), Show: definition.ShowGraphs, Landscape: true},
	} {
		c := full(layout)
		made := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
		d, err := c.Document(made, "0123456789abcdef0123", nil)
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Sections) != len(definition.AllSections()) {
			t.Errorf("%d sections of %d", len(d.Sections), len(definition.AllSections()))
		}
		document, err := d.PDF()
		if err != nil {
			t.Fatal(err)
		}
		page, err := d.HTML()
		if err != nil {
			t.Fatal(err)
		}
		book, err := XLSX(c, made, "0123456789abcdef0123")
		if err != nil {
			t.Fatal(err)
		}
		f, err := excelize.OpenReader(bytes.NewReader(book))
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("pdftotext", "-layout", "-", "-")
		cmd.Stdin = bytes.NewReader(document)
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		forms := map[string]string{"PDF": bare(string(out)), "page": bare(html.UnescapeString(tags.ReplaceAllString(string(page), " ")))}
		at := map[string]int{}
		graphs := 0
		for _, s := range d.Sections {
			for form, text := range forms {
				i := strings.Index(text[at[form]:], bare(s.Title))
				if i < 0 {
					t.Errorf("%+v: the %s has no section %s, or in another order", layout, form, s.Title)
					continue
				}
				at[form] += i
			}
			for _, b := range s.Blocks {
				if b.Figure != nil {
					graphs++
				}
				if b.Table == nil {
					continue
				}
				if layout.Show == definition.ShowGraphs && (s.Key == definition.SectionTrend || s.Key == definition.SectionResponse) {
					t.Errorf("%s has a table", s.Key)
				}
				for _, r := range b.Table.Rows {
					for _, cell := range r.Cells {
						if text := html.UnescapeString(cell.Text); !strings.Contains(forms["page"], bare(text)) {
							t.Errorf("%s: the page does not say %q", s.Key, cell.Text)
						}
						for word := range strings.FieldsSeq(cell.Text) { // a cell may be broken into lines beside others
							if !strings.Contains(forms["PDF"], word) {
								t.Errorf("%s: the PDF does not say %q of %q", s.Key, word, cell.Text)
							}
						}
					}
				}
				if s.Key == definition.SectionOutages {
					continue
				}
				if rows, err := f.GetRows(sheetName(s.Title)); err != nil || len(rows) != len(b.Table.Rows)+1 {
					t.Errorf("%s: %d rows of the workbook, %v; %d of the table", s.Title, len(rows), err, len(b.Table.Rows))
				}
			}
		}
		if want := map[string]int{definition.ShowTables: 0}[layout.Show]; layout.Show == definition.ShowTables && graphs != want || layout.Show != definition.ShowTables && graphs != 2 {
			t.Errorf("%+v: %d graphs", layout, graphs)
		}
		for _, doubt := range []string{"Fewer than a hundred answers (1)", "By 4711 of the 44640 measurements of the period"} {
			for form, text := range forms {
				if !strings.Contains(text, bare(doubt)) {
					t.Errorf("%+v: the %s does not say %q", layout, form, doubt)
				}
			}
		}
		if strings.Contains(string(page), "<b>") {
			t.Error("markup of a name stands in the page")
		}
		f.Close()
	}
}

// Figures stay inside their field, however odd what they draw.
func TestFiguresStayInside(t *testing.T) {
	c := full(definition.LayoutSpec{})
	for name, change := range map[string]func(*Content){
		"as it is": func(*Content) {},
		"all the same": func(c *Content) {
			for i := range c.Trend {
				c.Trend[i] = Past{"2026-10", 0, "100", account.Met, "100.0000", "100.0000", "100.0000", 0}
			}
		},
		"nothing is left": func(c *Content) { c.Trend[1].Availability, c.Trend[1].Low = "0.0000", "0.0000" },
		"no number":       func(c *Content) { c.Trend[1].Availability, c.Trend[1].Low, c.Trend[1].High = "NaN", "-Inf", "1e400" },
		"no time at all":  func(c *Content) { c.Responses = []Timed{{Name: "x"}} },
		"an age":          func(c *Content) { c.Responses[0].P99 = 1 << 60 },
	} {
		x := c
		x.Trend, x.Responses = append([]Past{}, c.Trend...), append([]Timed{}, c.Responses...)
		change(&x)
		for _, f := range []*Figure{x.trendFigure(), x.responseFigure(), strip(x, time.UTC)} {
			for _, m := range f.Marks {
				if !(m.X >= -1 && m.X+m.Width <= f.Width+2 && m.Y >= -8 && m.Y+m.Height <= f.Height+2) {
					t.Errorf("%s: %s lies outside of %s", name, fmt.Sprintf("%+v", m), f.Words)
				}
			}
		}
	}
}
