package report

import (
	"bytes"
	"embed"
	"fmt"
	"strings"
	"time"
	"unicode"

	"codeberg.org/go-pdf/fpdf"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/web"
)

//go:embed fonts/*.ttf
var fonts embed.FS

// Page geometry in mm (A4 portrait).
const (
	pageWidth  = 210.0
	margin     = 20.0
	textWidth  = pageWidth - 2*margin
	lineHeight = 5.2
)

// page is a PDF under construction.
type page struct {
	*fpdf.Fpdf
	loc *time.Location
}

// The document has the colours of the screens, in the light.
var (
	black    = web.Colours["text"]
	grey     = web.Colours["secondary"]
	rule     = web.Colours["divider"]
	classInk = map[account.Class]web.Colour{
		account.Up: web.Colours["up"], account.Degraded: web.Colours["degraded"], account.Down: web.Colours["down"],
		account.Maintenance: web.Colours["maintenance"], account.Upstream: web.Colours["upstream"], account.Excused: web.Colours["excused"],
		account.Tolerated: web.Colours["tolerated"], account.Unmeasured: web.Colours["unmeasured"],
	}
)

// PDF draws the report. made is when it was published; digest identifies content and
// inputs. Without a digest it is a draft, made then, and says so on every page.
func PDF(c Content, made time.Time, digest string) ([]byte, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	p := &page{fpdf.New("P", "mm", "A4", ""), loc}
	for style, file := range map[string]string{"": "SourceSans3_400Regular.ttf", "B": "SourceSans3_600SemiBold.ttf"} {
		data, err := fonts.ReadFile("fonts/" + file)
		if err != nil {
			return nil, err
		}
		p.AddUTF8FontFromBytes("sans", style, data)
	}
	serif, err := fonts.ReadFile("fonts/SourceSerif4_600SemiBold.ttf")
	if err != nil {
		return nil, err
	}
	p.AddUTF8FontFromBytes("serif", "", serif)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, 22)
	p.SetTitle(seen(fmt.Sprintf("%s, %s", c.Name, PeriodWords(c.Period))), true)
	p.SetAuthor(seen(c.Organisation), true)
	p.SetLang("en")
	p.SetCreationDate(made)
	p.SetModificationDate(made)
	state := "SHA-256 " + digest[:min(16, len(digest))]
	if digest == "" {
		state = "draft, not published"
		p.SetHeaderFunc(func() {
			p.SetY(10)
			p.font("B", 9, classInk[account.Down])
			p.CellFormat(textWidth, 4, "Draft. Not published: its figures may still change.", "", 0, "R", false, 0, "")
			p.SetY(margin)
		})
	}
	p.SetFooterFunc(func() {
		p.SetY(-15)
		p.font("", 8, grey)
		p.CellFormat(textWidth-20, 4, fmt.Sprintf("%s · %s · report %d · %s", c.Name, PeriodWords(c.Period), c.Number, state), "",
			0, "L", false, 0, "")
		p.CellFormat(20, 4, fmt.Sprintf("page %d", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AddPage()
	p.head(c, made, digest == "")
	p.verdict(c)
	p.strip(c)
	p.figures(c)
	p.outages(c)
	p.adjustments(c)
	p.words(c)
	var buf bytes.Buffer
	if err := p.Output(&buf); err != nil {
		return nil, fmt.Errorf("write the PDF: %w", err)
	}
	return buf.Bytes(), nil
}

func (p *page) font(style string, size float64, c web.Colour) {
	p.SetFont("sans", style, size)
	p.SetTextColor(c.R, c.G, c.B)
}

// seen is a text as it is printed: what steers, cannot be seen or turns others
// round becomes U+FFFD; lines stay.
func seen(text string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && (unicode.IsControl(r) || definition.Unseen(r)) {
			return unicode.ReplacementChar
		}
		return r
	}, text)
}

// CellFormat prints a line, of nothing but what can be seen.
func (p *page) CellFormat(w, h float64, text, border string, ln int, align string, fill bool, link int, linkText string) {
	p.Fpdf.CellFormat(w, h, seen(text), border, ln, align, fill, link, linkText)
}

// MultiCell prints lines, of nothing but what can be seen.
func (p *page) MultiCell(w, h float64, text, border, align string, fill bool) {
	p.Fpdf.MultiCell(w, h, seen(text), border, align, fill)
}

func (p *page) line(text string) { p.CellFormat(textWidth, lineHeight, text, "", 1, "L", false, 0, "") }

func (p *page) heading(text string) {
	const room = 34 // a heading is not left alone at the foot of a page
	if p.GetY() > 297-room {
		p.AddPage()
	}
	p.Ln(5)
	p.font("B", 10.5, black)
	p.Bookmark(text, 0, -1)
	p.line(text)
	p.SetDrawColor(rule.R, rule.G, rule.B)
	p.Line(margin, p.GetY(), pageWidth-margin, p.GetY())
	p.Ln(1.5)
}

func (p *page) head(c Content, made time.Time, draft bool) {
	p.font("", 9, grey)
	p.line(c.Organisation)
	p.Ln(2)
	p.SetFont("serif", "", 22)
	p.SetTextColor(black.R, black.G, black.B)
	p.CellFormat(textWidth, 10, c.Name, "", 1, "L", false, 0, "")
	p.font("", 11, grey)
	for_ := ""
	if c.Customer != "" {
		for_ = " for " + c.Customer
	}
	p.line(fmt.Sprintf("Availability of %s in %s%s", c.ServiceName, PeriodWords(c.Period), for_))
	p.font("", 9, grey)
	state := "published"
	if draft {
		state = "a draft of"
	}
	p.line(fmt.Sprintf("Report %d, %s %s", c.Number, state, made.In(p.loc).Format("2 January 2006, 15:04 MST")))
}

func (p *page) verdict(c Content) {
	p.Ln(6)
	p.SetFont("serif", "", 15)
	p.SetTextColor(black.R, black.G, black.B)
	p.MultiCell(textWidth, 7, VerdictSentence(c), "", "L", false)
	p.font("", 10, grey)
	for _, words := range leadWords(c, p.loc) {
		p.MultiCell(textWidth, lineHeight, words, "", "L", false)
	}
}

// leadWords are the sentences below the verdict.
func leadWords(c Content, loc *time.Location) []string {
	a := c.Account
	out := []string{fmt.Sprintf("Allowance for the period %s, used %s, left %s. Sampling bounds %s %% to %s %%. Measured %s %% of the time it should be.",
		span.Words(a.AllowanceMS), span.WordsUp(a.DowntimeMS), span.Words(a.AllowanceLeftMS), or(a.AvailabilityLowPercent), or(a.AvailabilityHighPercent), a.CoveragePercent)}
	for _, words := range []string{CreditWords(c), FrozenWords(c, loc)} {
		if words != "" {
			out = append(out, words)
		}
	}
	return out
}

// VerdictSentence says the outcome in one sentence.
func VerdictSentence(c Content) string {
	switch c.Account.Verdict {
	case account.Met:
		return fmt.Sprintf("The target of %s %% was met: %s %% available.", c.Target, or(c.Account.AvailabilityPercent))
	case account.Missed:
		return fmt.Sprintf("The target of %s %% was missed: %s %% available.", c.Target, or(c.Account.AvailabilityPercent))
	case account.Insufficient:
		return fmt.Sprintf("Too little was measured to say whether the target of %s %% was met: coverage %s %%.", c.Target, c.Account.CoveragePercent)
	}
	return "There was no agreed time in this period."
}

func or(s *string) string {
	if s == nil {
		return "–"
	}
	return *s
}

// strip draws the period: the height says the class.
func (p *page) strip(c Content) {
	const high, band, half = 14.0, 4.0, 8.0
	p.Ln(6)
	ground := p.GetY() + high
	a := c.Account
	scale := textWidth / float64(a.To-a.From)
	x := func(i span.Instant) float64 { return margin + float64(i-a.From)*scale }
	for _, i := range a.Intervals {
		k, known := classInk[i.Class]
		if !known {
			continue
		}
		left := x(i.From)
		width := max(x(i.To)-left, 0.25)
		p.SetFillColor(k.R, k.G, k.B)
		p.SetDrawColor(k.R, k.G, k.B)
		p.SetLineWidth(0.2)
		switch i.Class {
		case account.Up:
			p.Rect(left, ground-band, width, band, "F")
		case account.Degraded:
			p.Rect(left, ground-half, width, half, "F")
		case account.Down:
			p.Rect(left, ground-high, width, high, "F")
		case account.Unmeasured:
			p.SetDashPattern([]float64{0.6, 0.6}, 0)
			p.Rect(left, ground-band, width, band, "D")
			p.SetDashPattern(nil, 0)
		default:
			p.Rect(left, ground-high, width, high, "D")
		}
	}
	p.SetDrawColor(black.R, black.G, black.B)
	p.SetLineWidth(0.25)
	p.Line(margin, ground, margin+textWidth, ground)
	p.SetY(ground + 1)
	p.font("", 7.5, grey)
	for _, t := range ticks(span.Span{From: a.From, To: a.To}, p.loc) {
		p.Line(x(t.From), ground, x(t.From), ground+0.8)
		p.SetX(x(t.From))
		p.CellFormat(x(t.To)-x(t.From), 3.5, t.text, "", 0, "C", false, 0, "")
	}
	p.Ln(5)
	p.font("", 8, grey)
	p.line("Low band: up. Half height: degraded. Full height: down. Outlined: maintenance, upstream, excused or tolerated. Dashed: not measured.")
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

func (p *page) figures(c Content) {
	p.heading("The period's time")
	s := StatementOf(c)
	const column, gap = (textWidth - 12) / 2, 12.0
	for i := range max(len(s.Time), len(s.Figures)) {
		p.room(lineHeight)
		y := p.GetY()
		for n, list := range [][]Line{s.Time, s.Figures} {
			if i < len(list) {
				p.pair(margin+float64(n)*(column+gap), y, column, list[i])
			}
		}
		p.SetY(y + lineHeight)
	}
	p.Ln(1.5)
	p.font("", 8.5, grey)
	for _, note := range s.Notes {
		p.MultiCell(textWidth, lineHeight-0.5, note, "", "L", false)
	}
}

func (p *page) pair(x, y, width float64, l Line) {
	size := 9.5
	p.font("", size, grey)
	// A long pair is set smaller, and never one part over the other.
	if wide := p.GetStringWidth(l.Name) + p.GetStringWidth(l.Text) + 4; wide > width {
		size *= width / wide
	}
	p.font("", size, grey)
	name := p.GetStringWidth(l.Name) + 2
	p.SetXY(x, y)
	p.CellFormat(name, lineHeight, l.Name, "", 0, "L", false, 0, "")
	p.font("", size, black)
	p.CellFormat(width-name, lineHeight, l.Text, "", 0, "R", false, 0, "")
}

// room begins another page where less than so many millimetres are left of this one.
func (p *page) room(height float64) {
	const foot = 297 - 24
	if p.GetY()+height > foot {
		p.AddPage()
	}
}

func (p *page) outages(c Content) {
	p.heading("Outages")
	if len(c.Outages) == 0 {
		p.font("", 9.5, black)
		p.line("None.")
		return
	}
	widths := []float64{12, 62, 62, textWidth - 136}
	header := func() {
		p.font("B", 9, grey)
		for i, h := range []string{"No.", "From (" + c.Timezone + ")", "To", "Duration"} {
			p.CellFormat(widths[i], lineHeight, h, "", 0, align(i), false, 0, "")
		}
		p.Ln(lineHeight)
	}
	header()
	for n, o := range c.Outages {
		const foot = 297 - 24
		if p.GetY()+lineHeight > foot {
			p.AddPage()
			header()
		}
		p.font("", 9.5, black)
		for i, cell := range []string{fmt.Sprint(n + 1), p.at(o.From), p.at(o.To), span.WordsUp(o.MS)} {
			p.CellFormat(widths[i], lineHeight, cell, "", 0, align(i), false, 0, "")
		}
		p.Ln(lineHeight)
		if o.Cause != "" {
			p.SetX(margin + widths[0])
			p.font("", 9, grey)
			p.MultiCell(textWidth-widths[0], lineHeight-0.5, o.Cause, "", "L", false)
		}
	}
}

func (p *page) adjustments(c Content) {
	lines := AdjustmentWords(c, p.loc)
	if len(lines) == 0 {
		return
	}
	p.heading("Adjustments")
	p.font("", 9.5, black)
	for _, l := range lines {
		p.MultiCell(textWidth, lineHeight, l, "", "L", false)
	}
}

func align(column int) string {
	if column == 3 {
		return "R"
	}
	return "L"
}

// printed is how documents write an instant.
const printed = "Mon 2 Jan 2006 15:04:05 MST"

func (p *page) at(i span.Instant) string {
	return i.Time().In(p.loc).Format(printed)
}

func (p *page) words(c Content) {
	if c.Remark != "" {
		p.heading("Remark")
		p.font("", 9.5, black)
		p.MultiCell(textWidth, lineHeight, c.Remark, "", "L", false)
	}
	p.heading("What was promised")
	p.font("", 9.5, black)
	for _, s := range c.Clauses {
		p.MultiCell(textWidth, lineHeight, s, "", "L", false)
	}
	p.heading("How it was measured")
	p.font("", 9.5, black)
	for _, s := range c.Method {
		p.MultiCell(textWidth, lineHeight, s, "", "L", false)
	}
}
