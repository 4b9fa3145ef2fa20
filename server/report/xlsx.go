package report

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"kestite/core/calendar"
	"kestite/core/definition"
)

// Sheets of the workbook.
const (
	sheetReport   = "Report"
	sheetTime     = "Time"
	sheetOutages  = "Outages"
	sheetPeriods  = "Intervals"
	sheetAdjusted = "Adjustments"
	sheetWords    = "Clauses"
)

// book writes a workbook sheet by sheet, each row by row; the first error stays.
type book struct {
	f       *excelize.File
	sw      *excelize.StreamWriter // of the sheet that is written
	next    int                    // its next row
	err     error
	head    int         // style of a heading
	number  int         // of milliseconds
	moment  int         // of a time
	decimal map[int]int // of numbers with so many decimals
}

// XLSX makes the document as a workbook: numbers are numbers, times are in the agreement's
// zone, and the percentages are formulas over the milliseconds, which a spreadsheet
// recalculates. digest is empty for a draft.
func XLSX(c Content, made time.Time, digest string) ([]byte, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	return workbook(c.Name, c.Organisation, made, func(b *book) {
		b.report(c, made.In(loc), digest)
		b.time(c)
		b.outages(c, loc)
		b.intervals(c, loc)
		b.adjustments(c, loc)
		b.sections(c.Sections(loc))
		b.words(c)
	})
}

// workbook is one with what fill writes, of an organisation, made then.
func workbook(title, creator string, made time.Time, fill func(*book)) (out []byte, err error) {
	b := &book{f: excelize.NewFile(), decimal: map[int]int{}}
	defer func() {
		if failed := b.f.Close(); err == nil {
			err = failed
		}
	}()
	at := made.UTC().Format("2006-01-02T15:04:05Z")
	b.keep(b.f.SetDocProps(&excelize.DocProperties{Title: seen(title), Creator: seen(creator), LastModifiedBy: seen(creator),
		Created: at, Modified: at}))
	b.keep(b.f.SetAppProps(&excelize.AppProperties{Application: "Kestite", Company: seen(creator), DocSecurity: 0}))
	b.keep(b.f.SetSheetName("Sheet1", sheetReport))
	b.head = b.style(excelize.Style{Font: &excelize.Font{Bold: true}})
	b.number = b.style(excelize.Style{NumFmt: 3}) // #,##0
	moment := "yyyy-mm-dd hh:mm:ss.000"
	b.moment = b.style(excelize.Style{CustomNumFmt: &moment})
	fill(b)
	b.flush()
	if b.err != nil {
		return nil, fmt.Errorf("write the workbook: %w", b.err)
	}
	var buf bytes.Buffer
	if err := b.f.Write(&buf); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

func (b *book) style(of excelize.Style) int {
	id, err := b.f.NewStyle(&of)
	b.keep(err)
	return id
}

// decimals is the style of numbers with so many decimals.
func (b *book) decimals(n int) int {
	if id, has := b.decimal[n]; has {
		return id
	}
	format := "#,##0"
	if n > 0 {
		format += "." + strings.Repeat("0", n)
	}
	b.decimal[n] = b.style(excelize.Style{CustomNumFmt: &format})
	return b.decimal[n]
}

func (b *book) keep(err error) {
	if b.err == nil {
		b.err = err
	}
}

// flush ends the sheet that is written.
func (b *book) flush() {
	if b.sw != nil {
		b.keep(b.sw.Flush())
	}
	b.sw = nil
}

// sheet begins a sheet with the widths of its columns and its head; rows follow.
func (b *book) sheet(name string, widths []float64, head ...any) {
	b.flush()
	if b.err != nil {
		return
	}
	_, err := b.f.NewSheet(name)
	b.keep(err)
	if b.sw, err = b.f.NewStreamWriter(name); err != nil {
		b.keep(err)
		return
	}
	b.next = 1
	for i, w := range widths {
		b.keep(b.sw.SetColWidth(i+1, i+1, w))
	}
	if len(head) > 0 {
		b.keep(b.sw.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}))
		for i, h := range head {
			head[i] = excelize.Cell{StyleID: b.head, Value: h}
		}
		b.row(head...)
	}
}

// row writes the next row; texts are texts, whatever they begin with.
func (b *book) row(cells ...any) {
	for i, v := range cells {
		switch v := v.(type) {
		case string:
			cells[i] = seen(v)
		case figure:
			cells[i] = b.figure("", string(v))
		case formula:
			cells[i] = b.figure(v.of, v.shows)
		case time.Time:
			cells[i] = excelize.Cell{StyleID: b.moment, Value: wallOf(v)}
		case int64:
			cells[i] = excelize.Cell{StyleID: b.number, Value: v}
		}
	}
	if b.err != nil {
		return
	}
	b.keep(b.sw.SetRow("A"+strconv.Itoa(b.next), cells))
	b.next++
}

// figure is a number as it is printed; what is no number, such as a dash, stays a text.
type figure string

// formula is computed by who opens the workbook; shows is what it comes to, as it is
// printed, for who does not compute.
type formula struct{ of, shows string }

// mostDigits is how many digits a number of a workbook keeps.
const mostDigits = 15

// figure is a printed number as a number with as many decimals.
func (b *book) figure(formula, printed string) any {
	_, decimals, _ := strings.Cut(printed, ".")
	n, err := strconv.ParseFloat(printed, 64)
	if err != nil || len(printed) > mostDigits || strings.Trim(printed, "-.0123456789") != "" {
		return seen(printed)
	}
	return excelize.Cell{StyleID: b.decimals(len(decimals)), Formula: formula, Value: n}
}

// wallOf is what a clock on the wall shows, as a time without a zone: spreadsheets have none.
func wallOf(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

func (b *book) report(c Content, made time.Time, digest string) {
	b.sheet(sheetReport, []float64{30, 60})
	state := "published"
	if digest == "" {
		state = "draft, not published"
	}
	rows := [][]any{
		{"Organisation", c.Organisation}, {"Agreement", c.Name}, {"Customer", c.Customer}, {"Service", c.ServiceName}, {"Period", PeriodWords(c.Period)}, {"Zone", c.Timezone},
		{"From", c.Account.From.Time().In(made.Location())}, {"To", c.Account.To.Time().In(made.Location())}, {"Report", c.Number}, {"State", state}, {"Made", made},
		{"Target, %", figure(c.Target)}, {"Verdict", string(c.Account.Verdict)}, {"In words", VerdictSentence(c)}, {"Remark", c.Remark}, {"Credit", CreditWords(c)}, {"SHA-256", digest},
	}
	for _, r := range rows {
		b.row(r...)
	}
}

// time writes the classes in milliseconds, and what follows from them by formulas.
func (b *book) time(c Content) {
	b.sheet(sheetTime, []float64{34, 18, 70}, "What", "ms or %", "How")
	t := c.Account.TotalMS
	// Degraded time counts to a decimal share: everything is counted in parts of a
	// millisecond that are whole, so that a spreadsheet computes without rounding.
	whole, decimals, _ := strings.Cut(cmp.Or(c.DegradedWeight, "0"), ".")
	parts := "100" + strings.Repeat("0", len(decimals))
	base, down := "B4-B10-B11", "B7*"+parts+"+B6*"+whole+decimals
	if c.Maintenance == definition.MaintenanceExclude {
		base += "-B9"
	}
	switch c.Unmeasured {
	case definition.UnmeasuredDown:
		down += "+B12*" + parts
	case definition.UnmeasuredUp:
	default:
		base += "-B12"
	}
	rows := [][]any{
		{"Calendar time of the period", t.Period}, {"Outside service hours", t.Outside}, {"Agreed time", t.Agreed}, {"Up", t.Up}, {"Degraded", t.Degraded}, {"Down", t.Down},
		{"Tolerated", t.Tolerated}, {"Maintenance", t.Maintenance}, {"Upstream", t.Upstream}, {"Excused", t.Excused}, {"Unmeasured", t.Unmeasured},
	}
	for _, r := range rows {
		b.row(r...)
	}
	exact := func(of string, shows int64) formula { return formula{of, strconv.FormatInt(shows, 10)} }
	b.row("Sum of the classes", exact("SUM(B5:B12)", t.Agreed), "equals the agreed time")
	b.row("Base", exact(base, c.Account.BaseMS), "what is left to be available in")
	b.row("Downtime", exact("ROUNDUP(("+down+")/"+parts+",0)", c.Account.DowntimeMS), downtimeNote(c)+" Rounded up.")
	available, all := "(B14*"+parts+"-("+down+"))", "(B14*"+parts+")"
	thousandths := "INT(" + available + "*1000/" + all + ")"
	below := "INT((" + available + "*1000-" + thousandths + "*" + all + ")*1000/" + all + ")"
	b.row("Availability, %", formula{"(" + thousandths + "*1000+" + below + ")/10000", or(c.Account.AvailabilityPercent)},
		"truncated to four decimals, by whole numbers alone")
	b.row("Availability as published, %", figure(or(c.Account.AvailabilityPercent)), "sampling leaves it between the two figures at the end")
	b.row("Allowance", c.Account.AllowanceMS)
	b.row("Allowance left", exact("B18-B15", c.Account.AllowanceMS-c.Account.DowntimeMS))
	b.row("Coverage, %", figure(c.Account.CoveragePercent))
	b.row("Credit, %", figure(c.Account.CreditPercent))
	b.row("At least, by sampling, %", figure(or(c.Account.AvailabilityLowPercent)))
	b.row("At most, by sampling, %", figure(or(c.Account.AvailabilityHighPercent)))
}

func (b *book) outages(c Content, loc *time.Location) {
	b.sheet(sheetOutages, []float64{8, 24, 24, 16, 60}, "No.", "From", "To", "ms", "Cause")
	for i, o := range c.Outages {
		b.row(int64(i+1), o.From.Time().In(loc), o.To.Time().In(loc), o.MS, o.Cause)
	}
}

func (b *book) intervals(c Content, loc *time.Location) {
	b.sheet(sheetPeriods, []float64{24, 24, 14, 18}, "From", "To", "Class", "ms")
	for _, v := range c.Account.Intervals {
		b.row(v.From.Time().In(loc), v.To.Time().In(loc), v.Class.String(), int64(v.To-v.From))
	}
}

func (b *book) adjustments(c Content, loc *time.Location) {
	if len(c.Adjustments) == 0 {
		return
	}
	b.sheet(sheetAdjusted, []float64{24, 24, 16, 14, 16, 60, 20, 24, 24}, "From", "To", "ms in service hours", "Counts as", "Cause", "Reason", "Reference", "Proposed by", "Approved by")
	for _, a := range c.Adjustments {
		b.row(a.From.Time().In(loc), a.To.Time().In(loc), a.MS, a.Class, a.Cause, a.Reason, a.Reference, a.ProposedBy, a.ApprovedBy)
	}
}

// sheetName is a title as a workbook takes it: 31 characters, and none of those that formulas need.
func sheetName(title string) string {
	r := []rune(strings.NewReplacer("[", "", "]", "", ":", "", "*", "", "?", "", "/", " ", "\\", " ", "'", "").Replace(title))
	return string(r[:min(len(r), 31)])
}

// sections writes the tables of sections that have no sheet of their own form.
func (b *book) sections(list []Section) {
	for _, s := range list {
		if s.Key == definition.SectionTime || s.Key == definition.SectionOutages || s.Key == definition.SectionAdjustments {
			continue
		}
		for _, block := range s.Blocks {
			if block.Table == nil {
				continue
			}
			var head []any
			var widths []float64
			noted := slices.ContainsFunc(block.Table.Rows, func(r Row) bool { return r.Note != "" })
			for n, c := range block.Table.Head {
				if block.Table.between(n) {
					head, widths = append(head, label("column.at_least", c.Title), label("column.at_most", c.Title)), append(widths, 14, 14)
				} else {
					head, widths = append(head, c.Title), append(widths, max(14, c.Wide))
				}
			}
			if noted {
				head, widths = append(head, label("column.note")), append(widths, 60)
			}
			b.sheet(sheetName(s.Title), widths, head...)
			for _, r := range block.Table.Rows {
				var cells []any
				for n, c := range r.Cells {
					switch of := c.value.(type) {
					case nil:
						cells = append(cells, c.Text)
					case limits:
						cells = append(cells, of.low, of.high)
						continue
					default:
						cells = append(cells, of)
					}
					if block.Table.between(n) {
						cells = append(cells, nil)
					}
				}
				if noted {
					cells = append(cells, r.Note)
				}
				b.row(cells...)
			}
		}
	}
}

// between says that a column has what figures lie between: two columns of a workbook.
func (t *Table) between(n int) bool {
	return slices.ContainsFunc(t.Rows, func(r Row) bool { _, is := r.Cells[n].value.(limits); return is })
}

func (b *book) words(c Content) {
	b.sheet(sheetWords, []float64{120})
	for _, s := range append(append([]string{}, c.Clauses...), c.Method...) {
		b.row(s)
	}
}
