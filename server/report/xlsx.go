package report

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
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

// book writes a workbook row by row; the first error stays.
type book struct {
	f      *excelize.File
	err    error
	head   int // style of a heading
	number int // of milliseconds
	part   int // of a percentage
	moment int // of a time
}

// XLSX makes the document as a workbook: numbers are numbers, times are in the agreement's
// zone, and the percentages are formulas over the milliseconds, which a spreadsheet
// recalculates. digest is empty for a draft.
func XLSX(c Content, made time.Time, digest string) ([]byte, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	return workbook(func(b *book) {
		b.report(c, made.In(loc), digest)
		b.time(c)
		b.outages(c, loc)
		b.intervals(c, loc)
		b.adjustments(c, loc)
		b.sections(c.Sections(loc))
		b.words(c)
	})
}

// workbook is one with what fill writes.
func workbook(fill func(*book)) (out []byte, err error) {
	b := &book{f: excelize.NewFile()}
	defer func() {
		if failed := b.f.Close(); err == nil {
			err = failed
		}
	}()
	b.styles()
	fill(b)
	if b.err != nil {
		return nil, fmt.Errorf("write the workbook: %w", b.err)
	}
	var buf bytes.Buffer
	if err := b.f.Write(&buf); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

func (b *book) styles() {
	style := func(of excelize.Style) int {
		id, err := b.f.NewStyle(&of)
		b.keep(err)
		return id
	}
	percent, moment := "0.0000", "yyyy-mm-dd hh:mm:ss.000"
	b.head = style(excelize.Style{Font: &excelize.Font{Bold: true}})
	b.number = style(excelize.Style{NumFmt: 3}) // #,##0
	b.part = style(excelize.Style{CustomNumFmt: &percent})
	b.moment = style(excelize.Style{CustomNumFmt: &moment})
}

func (b *book) keep(err error) {
	if b.err == nil {
		b.err = err
	}
}

// sheet begins a sheet with the widths of its columns and its head.
func (b *book) sheet(name string, widths []float64, head ...any) {
	_, err := b.f.NewSheet(name)
	b.keep(err)
	for i, w := range widths {
		column, err := excelize.ColumnNumberToName(i + 1)
		b.keep(err)
		b.keep(b.f.SetColWidth(name, column, column, w))
	}
	if len(head) > 0 {
		b.row(name, 1, head...)
		b.keep(b.f.SetRowStyle(name, 1, 1, b.head))
		b.keep(b.f.SetPanes(name, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}))
	}
}

// row writes a row; texts are texts, whatever they begin with.
func (b *book) row(sheet string, n int, cells ...any) {
	for i, v := range cells {
		at, err := excelize.CoordinatesToCellName(i+1, n)
		b.keep(err)
		switch v := v.(type) {
		case string:
			b.keep(b.f.SetCellStr(sheet, at, seen(v)))
		case formula:
			b.keep(b.f.SetCellFormula(sheet, at, string(v)))
			b.keep(b.f.SetCellStyle(sheet, at, at, b.part))
		case time.Time:
			b.keep(b.f.SetCellValue(sheet, at, wallOf(v)))
			b.keep(b.f.SetCellStyle(sheet, at, at, b.moment))
		case int64:
			b.keep(b.f.SetCellValue(sheet, at, v))
			b.keep(b.f.SetCellStyle(sheet, at, at, b.number))
		default:
			b.keep(b.f.SetCellValue(sheet, at, v))
		}
	}
}

// formula is computed by who opens the workbook.
type formula string

// wallOf is what a clock on the wall shows, as a time without a zone: spreadsheets have none.
func wallOf(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

func (b *book) report(c Content, made time.Time, digest string) {
	b.keep(b.f.SetSheetName("Sheet1", sheetReport))
	b.sheet(sheetReport, []float64{30, 60})
	state := "published"
	if digest == "" {
		state = "draft, not published"
	}
	rows := [][]any{
		{"Organisation", c.Organisation}, {"Agreement", c.Name}, {"Customer", c.Customer}, {"Service", c.ServiceName}, {"Period", PeriodWords(c.Period)}, {"Zone", c.Timezone},
		{"From", c.Account.From.Time().In(made.Location())}, {"To", c.Account.To.Time().In(made.Location())}, {"Report", c.Number}, {"State", state}, {"Made", made},
		{"Target, %", c.Target}, {"Verdict", string(c.Account.Verdict)}, {"In words", VerdictSentence(c)}, {"Remark", c.Remark}, {"Credit", CreditWords(c)}, {"SHA-256", digest},
	}
	for i, r := range rows {
		b.row(sheetReport, i+1, r...)
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
	for i, r := range rows {
		b.row(sheetTime, i+2, r...)
	}
	b.row(sheetTime, 13, "Sum of the classes", formula("SUM(B5:B12)"), "equals the agreed time")
	b.row(sheetTime, 14, "Base", formula(base), "what is left to be available in")
	b.row(sheetTime, 15, "Downtime", formula("ROUNDUP(("+down+")/"+parts+",0)"), downtimeNote(c)+" Rounded up.")
	available, all := "(B14*"+parts+"-("+down+"))", "(B14*"+parts+")"
	thousandths := "INT(" + available + "*1000/" + all + ")"
	b.row(sheetTime, 16, "Availability, %", formula("IF(B14=0,\"–\",("+thousandths+"*1000+INT(("+available+"*1000-"+thousandths+"*"+all+")*1000/"+all+"))/10000)"),
		"truncated to four decimals, by whole numbers alone")
	b.row(sheetTime, 17, "Availability as published, %", or(c.Account.AvailabilityPercent), fmt.Sprintf("sampling bounds %s %% to %s %%", or(c.Account.AvailabilityLowPercent), or(c.Account.AvailabilityHighPercent)))
	b.row(sheetTime, 18, "Allowance", c.Account.AllowanceMS)
	b.row(sheetTime, 19, "Allowance left", c.Account.AllowanceMS-c.Account.DowntimeMS) // as printed above
	b.row(sheetTime, 20, "Coverage, %", c.Account.CoveragePercent)
	b.row(sheetTime, 21, "Credit, %", c.Account.CreditPercent)
}

func (b *book) outages(c Content, loc *time.Location) {
	b.sheet(sheetOutages, []float64{8, 24, 24, 16, 60}, "No.", "From", "To", "ms", "Cause")
	for i, o := range c.Outages {
		b.row(sheetOutages, i+2, i+1, o.From.Time().In(loc), o.To.Time().In(loc), o.MS, o.Cause)
	}
}

func (b *book) intervals(c Content, loc *time.Location) {
	b.sheet(sheetPeriods, []float64{24, 24, 14, 18}, "From", "To", "Class", "ms")
	for i, v := range c.Account.Intervals {
		b.row(sheetPeriods, i+2, v.From.Time().In(loc), v.To.Time().In(loc), v.Class.String(), int64(v.To-v.From))
	}
}

func (b *book) adjustments(c Content, loc *time.Location) {
	if len(c.Adjustments) == 0 {
		return
	}
	b.sheet(sheetAdjusted, []float64{24, 24, 16, 14, 16, 60, 20, 24, 24}, "From", "To", "ms in service hours", "Counts as", "Cause", "Reason", "Reference", "Proposed by", "Approved by")
	for i, a := range c.Adjustments {
		b.row(sheetAdjusted, i+2, a.From.Time().In(loc), a.To.Time().In(loc), a.MS, a.Class, a.Cause, a.Reason, a.Reference, a.ProposedBy, a.ApprovedBy)
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
			for _, c := range block.Table.Head {
				head, widths = append(head, c.Title), append(widths, max(14, c.Wide))
			}
			if noted {
				head, widths = append(head, label("column.note")), append(widths, 60)
			}
			b.sheet(sheetName(s.Title), widths, head...)
			for i, r := range block.Table.Rows {
				var cells []any
				for _, c := range r.Cells {
					if c.value != nil {
						cells = append(cells, c.value)
					} else {
						cells = append(cells, c.Text)
					}
				}
				if noted {
					cells = append(cells, r.Note)
				}
				b.row(sheetName(s.Title), i+2, cells...)
			}
		}
	}
}

func (b *book) words(c Content) {
	b.sheet(sheetWords, []float64{120})
	for i, s := range append(append([]string{}, c.Clauses...), c.Method...) {
		b.row(sheetWords, i+1, s)
	}
}
