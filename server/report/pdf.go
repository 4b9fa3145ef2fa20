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
	"kestite/core/definition"
	"kestite/web"
)

//go:embed fonts/*.ttf
var fonts embed.FS

// Page geometry in mm.
const (
	margin     = 20.0
	lineHeight = 5.2
	footHeight = 24.0
)

// page is a PDF under construction.
type page struct {
	*fpdf.Fpdf
	width, height, text float64 // of the paper, and of what is printed on it
	accent              web.Colour
}

// PDF draws the report. made is when it was published; digest identifies content and
// inputs. Without a digest it is a draft, made then, and says so on every page.
func PDF(c Content, made time.Time, digest string, logos []Logo) ([]byte, error) {
	d, err := c.Document(made, digest, logos)
	if err != nil {
		return nil, err
	}
	return d.PDF()
}

// PDF draws the document.
func (d *Document) PDF() ([]byte, error) {
	orientation := "P"
	if d.Layout.Landscape {
		orientation = "L"
	}
	p := &page{Fpdf: fpdf.New(orientation, "mm", d.Layout.paper(), ""), accent: rule}
	p.width, p.height = p.GetPageSize()
	p.text = p.width - 2*margin
	if r, g, b, is := definition.ParseColour(d.Layout.Accent); is {
		p.accent = web.Colour{R: r, G: g, B: b}
	}
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
	p.SetCellMargin(0)
	p.SetAutoPageBreak(true, footHeight-2)
	p.SetTitle(seen(d.Title+", "+d.About), true)
	p.SetAuthor(seen(d.Publisher), true)
	p.SetLang(Language)
	p.SetCreationDate(d.Made)
	p.SetModificationDate(d.Made)
	if d.Draft {
		p.SetHeaderFunc(func() {
			p.SetY(10)
			p.font("B", 9, classInk[account.Down])
			p.CellFormat(p.text, 4, label("report.draft"), "", 0, "R", false, 0, "")
			p.SetY(margin)
		})
	}
	p.SetFooterFunc(func() {
		p.SetY(-15)
		p.font("", 8, grey)
		p.CellFormat(p.text-20, 4, d.Footer, "", 0, "L", false, 0, "")
		p.CellFormat(20, 4, label("report.page", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AddPage()
	p.logos(d.Logos)
	p.font("", 9, grey)
	p.line(d.Publisher)
	p.Ln(2)
	p.head(d, 22)
	level := 0
	if len(d.Parts) > 0 {
		level = 1
		p.Bookmark(seen(d.Title), 0, 0)
	}
	p.sections(d.Sections, level)
	for _, part := range d.Parts {
		p.AddPage()
		p.Bookmark(seen(part.Title), 0, 0)
		p.head(part, 17)
		p.sections(part.Sections, level)
	}
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

// seen is a text of nothing but what can be seen.
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

func (p *page) line(text string) { p.CellFormat(p.text, lineHeight, text, "", 1, "L", false, 0, "") }

// room begins another page where less than so many millimetres are left of this one.
func (p *page) room(height float64) bool {
	if p.GetY()+height <= p.height-footHeight {
		return false
	}
	p.AddPage()
	return true
}

// sections print one after the other; their bookmarks have a level.
func (p *page) sections(list []Section, level int) {
	for _, s := range list {
		p.heading(s.Title, level)
		for _, b := range s.Blocks {
			p.block(b)
		}
	}
}

func (p *page) heading(text string, level int) {
	const most = 34 - footHeight // a heading is not left alone at the foot of a page
	p.room(most)
	p.Ln(5)
	p.font("B", 10.5, black)
	p.Bookmark(seen(text), level, -1)
	p.line(text)
	p.SetDrawColor(p.accent.R, p.accent.G, p.accent.B)
	p.SetLineWidth(0.25)
	p.Line(margin, p.GetY(), p.width-margin, p.GetY())
	p.Ln(1.5)
}

// head is what a document or a part of one is, and its verdict; its title is so many points high.
func (p *page) head(d *Document, size float64) {
	p.SetFont("serif", "", size)
	p.SetTextColor(black.R, black.G, black.B)
	p.MultiCell(p.text, 10, d.Title, "", "L", false)
	p.font("", 11, grey)
	p.MultiCell(p.text, lineHeight, d.About, "", "L", false)
	p.font("", 9, grey)
	p.line(d.State)
	p.Ln(6)
	p.SetFont("serif", "", 15)
	p.SetTextColor(black.R, black.G, black.B)
	p.MultiCell(p.text, 7, d.Verdict, "", "L", false)
	p.font("", 10, grey)
	for _, words := range d.Lead {
		p.MultiCell(p.text, lineHeight, words, "", "L", false)
	}
	if d.Opening != nil {
		p.Ln(6)
		p.figure(*d.Opening)
	}
}

// logos stand in the head, the publisher's to the left and the customer's to the right.
func (p *page) logos(list []Logo) {
	const high, wide = 14.0, 60.0
	if len(list) == 0 {
		return
	}
	top := p.GetY()
	for _, l := range list {
		scale := min(high/float64(l.Height), wide/float64(l.Width))
		w, h := float64(l.Width)*scale, float64(l.Height)*scale
		x := margin
		if l.Of == "customer" {
			x = p.width - margin - w
		}
		p.RegisterImageOptionsReader(l.Of, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(l.PNG))
		p.ImageOptions(l.Of, x, top, w, h, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
	}
	p.SetY(top + high + 5)
}

func (p *page) block(b Block) {
	size, ink := 9.5, black
	if b.Soft {
		size, ink = 8.5, grey
	}
	for _, text := range b.Text {
		p.font("", size, ink)
		p.MultiCell(p.text, lineHeight, text, "", "L", false)
	}
	if len(b.Columns) > 0 {
		p.columns(b.Columns)
	}
	if b.Figure != nil {
		p.Ln(1.5)
		p.figure(*b.Figure)
	}
	if b.Table != nil {
		p.table(*b.Table)
	}
}

func (p *page) columns(list []Pairs) {
	const gap = 12.0
	column := (p.text - gap*float64(len(list)-1)) / float64(len(list))
	most := 0
	for _, c := range list {
		most = max(most, len(c.Lines))
	}
	for i := range most {
		p.room(lineHeight)
		y := p.GetY()
		for n, c := range list {
			if i < len(c.Lines) {
				p.pair(margin+float64(n)*(column+gap), y, column, c.Lines[i])
			}
		}
		p.SetY(y + lineHeight)
	}
	p.Ln(1.5)
}

func (p *page) pair(x, y, width float64, l Line) {
	size := 9.5
	p.font("", size, grey)
	// A long pair is set smaller, and never one part over the other.
	if wide := p.GetStringWidth(seen(l.Name)) + p.GetStringWidth(seen(l.Text)) + 4; wide > width {
		size *= width / wide
	}
	p.font("", size, grey)
	name := p.GetStringWidth(seen(l.Name)) + 2
	p.SetXY(x, y)
	p.CellFormat(name, lineHeight, l.Name, "", 0, "L", false, 0, "")
	p.font("", size, black)
	p.CellFormat(width-name, lineHeight, l.Text, "", 0, "R", false, 0, "")
}

// table prints rows; a row and its head are not torn, and a cell that is too long is broken
// into lines.
func (p *page) table(t Table) {
	const gap = 2.0
	all := 0.0
	for _, c := range t.Head {
		all += c.Wide
	}
	widths := make([]float64, len(t.Head))
	for i, c := range t.Head {
		widths[i] = c.Wide / all * p.text
	}
	row := func(texts []string, style string, size float64, ink web.Colour) {
		p.font(style, size, ink)
		lines := make([][]string, len(texts))
		most := 1
		for i, text := range texts {
			lines[i] = p.SplitText(seen(text), widths[i]-gap)
			most = max(most, len(lines[i]))
		}
		y := p.GetY()
		for n := range most {
			for i, x := 0, margin; i < len(texts); x, i = x+widths[i], i+1 {
				if n >= len(lines[i]) {
					continue
				}
				align, wide := "L", widths[i]
				if t.Head[i].Right {
					align = "R"
				} else {
					wide -= gap
				}
				p.SetXY(x, y+float64(n)*lineHeight)
				p.CellFormat(wide, lineHeight, lines[i][n], "", 0, align, false, 0, "")
			}
		}
		p.SetXY(margin, y+float64(most)*lineHeight)
	}
	high := func(r Row) float64 {
		p.font("", 9.5, black)
		most := 1
		for i, c := range r.Cells {
			most = max(most, len(p.SplitText(seen(c.Text), widths[i]-gap)))
		}
		if r.Note != "" {
			most++
		}
		return float64(most) * lineHeight
	}
	titles := make([]string, len(t.Head))
	for i, c := range t.Head {
		titles[i] = c.Title
	}
	header := func() { row(titles, "B", 9, grey) }
	if len(t.Rows) > 0 {
		p.room(lineHeight + high(t.Rows[0]))
	}
	header()
	for _, r := range t.Rows {
		if p.room(high(r)) {
			header()
		}
		texts := make([]string, len(r.Cells))
		for i, c := range r.Cells {
			texts[i] = c.Text
		}
		row(texts, "", 9.5, black)
		if r.Note != "" {
			p.SetX(margin + widths[0]*0.3)
			p.font("", 9, grey)
			p.MultiCell(p.text-widths[0]*0.3, lineHeight-0.5, r.Note, "", "L", false)
		}
	}
	p.Ln(1)
}

// figure draws marks as wide as the page.
func (p *page) figure(f Figure) {
	scale := p.text / f.Width
	p.room(f.Height*scale + 6)
	top := p.GetY()
	for _, m := range f.Marks {
		ink := web.Colours[m.Ink]
		x, y := margin+m.X*scale, top+m.Y*scale
		if m.Text != "" {
			p.font("", 7.5, ink)
			text := seen(m.Text)
			switch wide := p.GetStringWidth(text); m.Anchor {
			case "middle":
				x -= wide / 2
			case "end":
				x -= wide
			}
			p.Text(x, y, text)
			continue
		}
		p.SetFillColor(ink.R, ink.G, ink.B)
		p.SetDrawColor(ink.R, ink.G, ink.B)
		p.SetLineWidth(0.2)
		if m.Dashed {
			p.SetDashPattern([]float64{0.6, 0.6}, 0)
		}
		style := "F"
		if m.Hollow {
			style = "D"
		}
		p.Rect(x, y, max(m.Width*scale, 0.2), max(m.Height*scale, 0.1), style)
		if m.Dashed {
			p.SetDashPattern(nil, 0)
		}
	}
	p.SetY(top + f.Height*scale + 1)
	p.font("", 8, grey)
	p.MultiCell(p.text, 4, f.Caption, "", "L", false)
	p.Ln(1.5)
}
