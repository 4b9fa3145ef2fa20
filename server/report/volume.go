package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/money"
	"kestite/core/span"
)

// VolumeFormat is the name of a volume's JSON form.
const VolumeFormat = "kestite-volume/1"

// Volume is published reports of one period side by side: it says nothing that they do not.
type Volume struct {
	Format       string   `json:"format"`
	Organisation string   `json:"organisation"`
	Kind         string   `json:"kind"` // contract, customer or all
	Name         string   `json:"name"` // of the contract, the customer or the organisation
	Period       string   `json:"period"`
	Timezone     string   `json:"timezone"`
	Layout       Laid     `json:"layout"`
	Parts        []Part   `json:"parts"`
	Missing      []string `json:"missing,omitempty"` // agreements whose report is not published
}

// Part is a published report in a volume.
type Part struct {
	Report  string  `json:"report"`           // id
	Number  int64   `json:"number,omitempty"` // in its customer's chain; 0: published before there were chains
	Code    string  `json:"code,omitempty"`
	Content Content `json:"content"`
}

// Document lays a volume out: the verdicts on its first page, then report after report.
func (v Volume) Document(made time.Time, digest string, logos []Logo) (*Document, error) {
	loc, err := calendar.Zone(v.Timezone)
	if err != nil {
		return nil, err
	}
	d := &Document{Publisher: v.Organisation, Title: v.Name, About: label("volume.about", len(v.Parts), PeriodWords(v.Period)), State: label("volume.made", made.In(loc).Format("2 January 2006, 15:04 MST")),
		Verdict: v.sentence(), Layout: v.Layout, Logos: logos, Made: made, Digest: label("volume.digest", digest),
		Footer: label("volume.footer", v.Name, PeriodWords(v.Period), "SHA-256 "+digest[:min(16, len(digest))])}
	if v.Layout.Publisher != "" {
		d.Publisher = v.Layout.Publisher
	}
	d.Lead = append(d.Lead, label("volume.lead"))
	d.Sections = v.sections()
	for _, p := range v.Parts {
		c := p.Content
		// What a report did not look up it cannot say: its own layout bounds the volume's.
		own := c.laid()
		both := v.Layout
		both.Sections = slices.DeleteFunc(slices.Clone(v.Layout.Sections), func(s string) bool { return !slices.Contains(own.Sections, s) })
		c.Layout = &both
		zone, err := calendar.Zone(c.Timezone)
		if err != nil {
			return nil, fmt.Errorf("the report of %s: %w", c.Name, err)
		}
		part := &Document{Title: c.Name, About: label("report.about", c.ServiceName, PeriodWords(c.Period)), State: p.words(), Verdict: VerdictSentence(c), Lead: leadWords(c, zone),
			Sections: c.Sections(zone)}
		if both.graphs() {
			part.Opening = strip(c, zone)
		}
		d.Parts = append(d.Parts, part)
	}
	return d, nil
}

// words say which report a part is.
func (p Part) words() string {
	if p.Number == 0 {
		return label("volume.part", p.Content.Number)
	}
	return label("volume.part.code", p.Content.Number, p.Number, p.Code)
}

// sentence says how many targets were met.
func (v Volume) sentence() string {
	if len(v.Parts) == 1 {
		return VerdictSentence(v.Parts[0].Content)
	}
	count := map[account.Verdict]int{}
	for _, p := range v.Parts {
		count[p.Content.Account.Verdict]++
	}
	var out []string
	for _, verdict := range []account.Verdict{account.Met, account.Missed, account.Insufficient, account.NotApplicable} {
		if n := count[verdict]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, verdictWord(verdict)))
		}
	}
	return label("volume.verdict", len(v.Parts), strings.Join(out, ", "))
}

// sections are those of the first page: the verdicts, what is owed together, and what is not
// there.
func (v Volume) sections() []Section {
	t := &Table{Head: []Column{{label("column.agreement"), false, 22}, {label("column.period"), false, 18}, {label("column.target"), true, 11}, {label("column.availability"), true, 13}, {label("column.bounds"), true, 21}, {label("column.downtime"), true, 16}, {label("column.verdict"), true, 12}}}
	owed := map[string]int64{}
	for _, p := range v.Parts {
		a := p.Content.Account
		bounds := words("")
		if a.AvailabilityLowPercent != nil {
			bounds = between(*a.AvailabilityLowPercent, or(a.AvailabilityHighPercent))
		}
		note := p.words()
		if c := p.Content.Credit; c != nil {
			if minor, err := money.Parse(c.Amount, c.Currency); err == nil {
				owed[string(c.Direction)+" "+c.Currency] += minor
			}
			note += ". " + CreditWords(p.Content)
		}
		t.Rows = append(t.Rows, Row{[]Cell{words(p.Content.Name), words(PeriodWords(p.Content.Period)), printedNumber(p.Content.Target), printedNumber(or(a.AvailabilityPercent)), bounds, {span.WordsUp(a.DowntimeMS), a.DowntimeMS}, words(verdictWord(a.Verdict))}, note})
	}
	out := []Section{{"verdicts", label("volume.verdicts"), []Block{{Table: t}}}}
	var sums []string
	for _, key := range slices.Sorted(maps.Keys(owed)) {
		direction, currency, _ := strings.Cut(key, " ")
		if owed[key] == 0 {
			continue
		}
		if direction == "from-supplier" {
			sums = append(sums, label("volume.owed.supplier", money.Write(owed[key], currency), currency))
		} else {
			sums = append(sums, label("volume.owed.customer", money.Write(owed[key], currency), currency))
		}
	}
	if len(sums) > 0 {
		out[0].Blocks = append(out[0].Blocks, Block{Text: sums})
	}
	if len(v.Missing) > 0 {
		out = append(out, Section{"missing", label("volume.missing"), []Block{{Text: v.Missing, List: true}}})
	}
	return out
}

// XLSX is the workbook of a volume: the verdicts, and all outages.
func (v Volume) XLSX(d *Document) ([]byte, error) {
	loc, err := calendar.Zone(v.Timezone)
	if err != nil {
		return nil, err
	}
	return workbook(v.Name, v.Organisation, d.Made, func(b *book) {
		b.sheet(sheetReport, []float64{30, 80})
		for _, r := range [][]any{{d.Publisher, d.Title}, {d.State, d.About}, {d.Verdict, d.Digest}} {
			b.row(r...)
		}
		b.sections(d.Sections)
		b.sheet(sheetOutages, []float64{40, 24, 24, 16, 60}, label("column.agreement"), label("column.from", v.Timezone), label("column.to"), "ms",
			label("column.note"))
		for _, p := range v.Parts {
			for _, o := range p.Content.Outages {
				b.row(p.Content.Name, o.From.Time().In(loc), o.To.Time().In(loc), o.MS, o.Cause)
			}
		}
	})
}
