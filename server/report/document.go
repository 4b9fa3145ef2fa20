package report

import (
	"fmt"
	"strings"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/web"
)

// Document is what a report prints, whatever its form.
type Document struct {
	Publisher, Title, About, State string
	Draft                          bool
	Verdict                        string
	Lead                           []string
	Opening                        *Figure // below the verdict; nil: none
	Sections                       []Section
	Parts                          []*Document // of a volume: reports, each with its own head
	Footer, Digest                 string
	Layout                         Laid
	Logos                          []Logo // the publisher's, the customer's; those that there are
	Made                           time.Time
}

// Section is a part of a document with a heading.
type Section struct {
	Key    string  `json:"key"`
	Title  string  `json:"title"`
	Blocks []Block `json:"blocks"`
}

// Block is one of its fields.
type Block struct {
	Text    []string `json:"text,omitempty" doc:"Paragraphs"`
	Soft    bool     `json:"soft,omitempty" doc:"They explain"`
	List    bool     `json:"list,omitempty" doc:"They are items"`
	Columns []Pairs  `json:"columns,omitempty"`
	Table   *Table   `json:"table,omitempty"`
	Figure  *Figure  `json:"figure,omitempty"`
}

// Pairs are names with their values, below one another.
type Pairs struct {
	Caption string `json:"caption"`
	Lines   []Line `json:"lines"`
}

// Table has a head and rows.
type Table struct {
	Head []Column `json:"head"`
	Rows []Row    `json:"rows"`
}

// Column of a table.
type Column struct {
	Title string  `json:"title"`
	Right bool    `json:"right,omitempty" doc:"Numbers, aligned to the right"`
	Wide  float64 `json:"wide" doc:"Its share of the width, beside those of the others"`
}

// Row of a table; what the note says stands below its cells.
type Row struct {
	Cells []Cell `json:"cells"`
	Note  string `json:"note,omitempty"`
}

// Cell is a text, and what a workbook has in its place.
type Cell struct {
	Text  string `json:"text"`
	value any
}

func words(text string) Cell { return Cell{Text: text} }

func number(n int64) Cell { return Cell{fmt.Sprint(n), n} }

// printedNumber is a number as its text, such as a percentage or an amount.
func printedNumber(text string) Cell { return Cell{text, figure(text)} }

// limits are two numbers that another one lies between.
type limits struct{ low, high figure }

func between(low, high string) Cell {
	if low == "" {
		return words("")
	}
	return Cell{low + " – " + high, limits{figure(low), figure(high)}}
}

// moment is an instant, in a zone.
func moment(i span.Instant, loc *time.Location) Cell {
	return Cell{stamp(i, loc, printed), i.Time().In(loc)}
}

// stamp prints an instant with its milliseconds where it has some, so that what lies between
// two of them is what is printed beside them. layout ends with seconds.
func stamp(i span.Instant, loc *time.Location, layout string) string {
	if int64(i)%span.Second != 0 {
		layout += ".000"
	}
	return i.Time().In(loc).Format(layout + " MST")
}

// length is so many ms, exactly: what is whole seconds needs no more.
func length(ms int64) Cell {
	if ms%span.Second == 0 {
		return Cell{span.Words(ms), ms}
	}
	return Cell{span.Exact(ms), ms}
}

// milliseconds are thousandths of them, with one decimal rounded half up.
func milliseconds(thousandths int64) string {
	tenths := (thousandths + 50) / 100
	return fmt.Sprintf("%d.%d", tenths/10, tenths%10)
}

// exactly is thousandths of milliseconds with three decimals.
func exactly(thousandths int64) string {
	return fmt.Sprintf("%d.%03d", thousandths/1000, thousandths%1000)
}

// Figure is a drawing. Its marks lie in a field of so many units, from the left and the top.
type Figure struct {
	Width   float64 `json:"width"`
	Height  float64 `json:"height"`
	Marks   []Mark  `json:"marks"`
	Words   string  `json:"words" doc:"What it shows, to who does not see it"`
	Caption string  `json:"caption"`
}

// Mark is a rectangle, or a text with its middle or its end at X and its foot at Y.
type Mark struct {
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
	Width  float64 `json:"width,omitempty"`
	Height float64 `json:"height,omitempty"`
	Ink    string  `json:"ink" doc:"Name of its colour: a class, text, secondary or divider"`
	Hollow bool    `json:"hollow,omitempty"`
	Dashed bool    `json:"dashed,omitempty"`
	Text   string  `json:"text,omitempty"`
	Anchor string  `json:"anchor,omitempty" enum:"start,middle,end"`
}

// fieldWidth is the width of every figure, in its units.
const fieldWidth = 1000.0

// Logo is a picture as it is printed.
type Logo struct {
	Of            string // publisher or customer
	PNG           []byte
	Width, Height int // pixels
}

// Document lays a report out. made is when it was published; digest identifies content and
// inputs. Without a digest it is a draft, made then. logos are those that the layout names.
func (c Content) Document(made time.Time, digest string, logos []Logo) (*Document, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	at := made.In(loc).Format("2 January 2006, 15:04 MST")
	d := &Document{Publisher: c.Organisation, Title: c.Name, About: label("report.about", c.ServiceName, PeriodWords(c.Period)), Draft: digest == "", Verdict: VerdictSentence(c),
		Lead: leadWords(c, loc), Layout: c.laid(), Logos: logos, Made: made}
	if c.Customer != "" {
		d.About = label("report.about.for", c.ServiceName, PeriodWords(c.Period), c.Customer)
	}
	if d.Layout.Publisher != "" {
		d.Publisher = d.Layout.Publisher
	}
	state := label("report.footer.draft")
	d.State, d.Digest = label("report.number.draft", c.Number, at), label("report.digest.draft")
	if !d.Draft {
		state = "SHA-256 " + digest[:min(16, len(digest))]
		d.State, d.Digest = label("report.number", c.Number, at), label("report.digest", digest)
	}
	d.Footer = label("report.footer", c.Name, PeriodWords(c.Period), c.Number, state)
	if d.Layout.graphs() {
		d.Opening = strip(c, loc)
	}
	d.Sections = c.Sections(loc)
	return d, nil
}

// Sections are the parts of a report that its layout asks for, in order.
func (c Content) Sections(loc *time.Location) []Section {
	out := []Section{}
	for _, key := range c.laid().Sections {
		blocks := c.section(key, loc)
		if len(blocks) > 0 {
			out = append(out, Section{key, label("section." + key), blocks})
		}
	}
	return out
}

// section is what one part of a report says; none where there is nothing to say.
func (c Content) section(key string, loc *time.Location) []Block {
	switch key {
	case definition.SectionTime:
		return c.timeBlocks()
	case definition.SectionOutages:
		return c.outageBlocks(loc)
	case definition.SectionMaintenance:
		return c.workBlocks(loc)
	case definition.SectionAdjustments:
		if list := AdjustmentWords(c, loc); len(list) > 0 {
			return []Block{{Text: list, List: true}}
		}
	case definition.SectionObjectives:
		return c.objectiveBlocks()
	case definition.SectionResponse:
		return c.responseBlocks()
	case definition.SectionTrend:
		return c.trendBlocks()
	case definition.SectionIncidents:
		return c.incidentBlocks(loc)
	case definition.SectionCredits:
		return c.creditBlocks()
	case definition.SectionClaims:
		return c.claimBlocks()
	case definition.SectionRemark:
		if c.Remark != "" {
			return []Block{{Text: []string{c.Remark}}}
		}
	case definition.SectionPromise:
		return []Block{{Text: c.Clauses, List: true}}
	case definition.SectionMethod:
		return []Block{{Text: c.Method, List: true}}
	}
	return nil
}

// none says that there is nothing of a section.
func none(text string) []Block { return []Block{{Text: []string{text}}} }

func (c Content) timeBlocks() []Block {
	s := StatementOf(c)
	return []Block{{Columns: []Pairs{{label("time.classes"), s.Time}, {label("time.figures"), s.Figures}}}, {Text: s.Notes, Soft: true}}
}

func (c Content) outageBlocks(loc *time.Location) []Block {
	if len(c.Outages) == 0 {
		return none(label("report.none"))
	}
	t := &Table{Head: []Column{{label("column.number"), false, 8}, {label("column.from", c.Timezone), false, 36}, {label("column.to"), false, 36}, {label("column.duration"), true, 20}}}
	for n, o := range c.Outages {
		note := o.Cause
		if o.Incident != 0 {
			note = join(label("outages.incident", o.Incident), note)
		}
		t.Rows = append(t.Rows, Row{[]Cell{number(int64(n + 1)), moment(o.From, loc), moment(o.To, loc), length(o.MS)}, note})
	}
	return []Block{{Table: t}}
}

// join puts two texts after one another; one that is empty is left out.
func join(a, b string) string {
	switch {
	case a == "":
		return b
	case b == "":
		return a
	}
	return a + ": " + b
}

func (c Content) workBlocks(loc *time.Location) []Block {
	if len(c.Work) == 0 {
		return none(label("report.none"))
	}
	t := &Table{Head: []Column{{label("column.work"), false, 27}, {label("column.from", c.Timezone), false, 27}, {label("column.duration"), true, 14}, {label("column.service_hours"), true, 16}, {label("column.granted"), true, 16}}}
	for _, w := range c.Work {
		why := ""
		for _, r := range w.Refused {
			if r.Why == account.NotEmergency || r.Why == account.LateNotice || r.Why == account.NotWithin || r.Why == account.CapUsed {
				why = join(why, label("refused."+r.Why)+", "+span.Exact(r.MS))
			}
		}
		name := w.Name
		if w.Type == definition.Emergency || w.Type == definition.Planned {
			name += " (" + label("maintenance."+w.Type) + ")"
		}
		t.Rows = append(t.Rows, Row{[]Cell{words(name), moment(w.From, loc), length(int64(w.To - w.From)), length(w.ServiceMS), length(w.GrantedMS)}, why})
	}
	return []Block{{Table: t}, {Text: []string{label("maintenance.note")}, Soft: true}}
}

func (c Content) objectiveBlocks() []Block {
	a := c.Account
	t := &Table{Head: []Column{{label("column.promise"), false, 56}, {label("column.value"), true, 26}, {label("column.met"), true, 18}}}
	add := func(promise, value string, m *bool) {
		t.Rows = append(t.Rows, Row{Cells: []Cell{words(promise), words(value), words(metWord(m))}})
	}
	if l, p := a.Latency, c.LatencyPromise; l != nil && p != nil {
		add(label("objective.latency", p.TargetPercent, p.Name, milliseconds(p.LimitUS)+" ms"), label("objective.latency.value", or(l.Percent), l.Measurements), l.Met)
	}
	if o := a.Objectives; o != nil {
		if v := o.OutagesAtMost; v != nil {
			add(label("objective.outages", v.Limit), fmt.Sprint(v.Value), v.Met)
		}
		if v := o.LongestOutage; v != nil {
			add(label("objective.longest", span.Words(v.Limit*span.Second)), lengthOf(v), v.Met)
		}
		if v := o.MTTR; v != nil {
			add(label("objective.mttr", span.Words(v.Limit*span.Second)), lengthOf(v), v.Met)
		}
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return []Block{{Table: t}}
}

// lengthOf is how long outages were, or none where there is nothing to take a mean of.
func lengthOf(v *account.LengthMet) string {
	if v.ValueMS == nil {
		return or(nil)
	}
	return span.WordsUp(*v.ValueMS)
}

func (c Content) responseBlocks() []Block {
	if len(c.Responses) == 0 {
		return none(label("response.none"))
	}
	l := c.laid()
	var out []Block
	if l.graphs() {
		out = append(out, Block{Figure: c.responseFigure()})
	}
	if l.tables() {
		t := &Table{Head: []Column{{label("column.check"), false, 30}, {label("column.location"), false, 24}, {label("column.answers"), true, 12}}}
		for _, s := range l.Statistics {
			t.Head = append(t.Head, Column{label("statistic." + s), true, 34 / float64(len(l.Statistics))})
		}
		for _, r := range c.Responses {
			cells := []Cell{words(r.Name), words(r.Place), number(r.Count)}
			for _, s := range l.Statistics {
				of := map[string]int64{"p50": r.P50, "p90": r.P90, "p95": r.P95, "p99": r.P99, "longest": r.Longest}[s]
				cells = append(cells, Cell{milliseconds(of), figure(exactly(of))})
			}
			t.Rows = append(t.Rows, Row{Cells: cells, Note: r.doubt()})
		}
		out = append(out, Block{Table: t})
	} else {
		var doubts []string
		for _, r := range c.Responses {
			if d := r.doubt(); d != "" {
				doubts = append(doubts, label("response.doubt", r.Name, r.Place, d))
			}
		}
		if len(doubts) > 0 {
			out = append(out, Block{Text: doubts, List: true})
		}
	}
	return append(out, Block{Text: []string{label("response.note")}, Soft: true})
}

// fewAnswers are so few that their 99th percentile is the longest of them.
const fewAnswers = 100

// doubt says what the percentiles do not rest on; empty: nothing.
func (t Timed) doubt() string {
	var out []string
	if t.Count < fewAnswers {
		out = append(out, label("response.few", t.Count))
	}
	if t.Thinned != nil {
		out = append(out, label("response.thinned", t.Thinned.Kept, t.Thinned.Made))
	}
	return strings.Join(out, " ")
}

func (c Content) trendBlocks() []Block {
	if len(c.Trend) == 0 {
		return nil
	}
	l := c.laid()
	var out []Block
	if f := c.trendFigure(); l.graphs() && f != nil {
		out = append(out, Block{Figure: f})
	}
	if l.tables() {
		t := &Table{Head: []Column{{label("column.period"), false, 20}, {label("column.source"), false, 11}, {label("column.target"), true, 11}, {label("column.availability"), true, 13}, {label("column.bounds"), true, 22}, {label("column.downtime"), true, 20}, {label("column.verdict"), true, 13}}}
		for _, p := range c.Trend {
			from := label("trend.today")
			if p.Report > 0 {
				from = label("trend.report", p.Report)
			}
			t.Rows = append(t.Rows, Row{Cells: []Cell{words(PeriodWords(p.Period)), words(from), printedNumber(p.Target), printedNumber(orDash(p.Availability)), between(p.Low, p.High), length(p.DowntimeMS), words(verdictWord(p.Verdict))}})
		}
		out = append(out, Block{Table: t}, Block{Text: []string{label("trend.note")}, Soft: true})
	}
	return out
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// verdictWord is what people call a verdict.
func verdictWord(v account.Verdict) string {
	switch v {
	case account.Met, account.Missed, account.Insufficient, account.NotApplicable:
		return label("verdict.word." + string(v))
	}
	return string(v)
}

func (c Content) incidentBlocks(loc *time.Location) []Block {
	if len(c.Incidents) == 0 {
		return none(label("report.none"))
	}
	t := &Table{Head: []Column{{label("column.incident"), false, 14}, {label("column.from", c.Timezone), false, 34}, {label("column.to"), false, 34}, {label("column.duration"), true, 18}}}
	for _, i := range c.Incidents {
		end, long := words(label("incidents.going")), words("")
		if i.To != nil {
			end, long = moment(*i.To, loc), Cell{span.WordsUp(int64(*i.To - i.From)), int64(*i.To - i.From)}
		}
		t.Rows = append(t.Rows, Row{[]Cell{number(i.ID), moment(i.From, loc), end, long}, i.Cause})
	}
	return []Block{{Table: t}}
}

// ledger is a table of lines of the ledger of credits.
func ledger(list []Settled, first string, of func(Settled) string) *Table {
	t := &Table{Head: []Column{{first, false, 34}, {label("column.owed"), true, 11}, {label("column.capped"), true, 11}, {label("column.due"), true, 11}, {label("column.claimed"), true, 11}, {label("column.paid"), true, 11}, {label("column.open"), true, 11}}}
	for _, l := range list {
		t.Rows = append(t.Rows, Row{[]Cell{words(of(l) + ", " + l.Currency), printedNumber(l.Owed), printedNumber(l.Capped), printedNumber(l.Due), printedNumber(l.Claimed), printedNumber(l.Paid), printedNumber(l.Open)}, l.Why})
	}
	return t
}

func (c Content) creditBlocks() []Block {
	if c.Credit == nil && len(c.Ledger) == 0 {
		return nil
	}
	var out []Block
	if w := CreditWords(c); w != "" {
		out = append(out, Block{Text: []string{w}})
	}
	if len(c.Ledger) == 0 {
		return append(out, Block{Text: []string{label("credits.none")}, Soft: true})
	}
	return append(out, Block{Table: ledger(c.Ledger, label("column.period"), func(l Settled) string { return PeriodWords(l.Period) })}, Block{Text: []string{label("credits.note")}, Soft: true})
}

func (c Content) claimBlocks() []Block {
	if len(c.Claims) == 0 {
		return none(label("claims.none"))
	}
	return []Block{{Table: ledger(c.Claims, label("column.agreement"), func(l Settled) string { return l.Name + ", " + PeriodWords(l.Period) })}, {Text: []string{label("credits.note")}, Soft: true}}
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
