package report

import (
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
)

// Claimed is what a claim says beside the report that it follows from.
type Claimed struct {
	To        string // who owes
	Contract  string // empty: the agreement stands by itself
	Amount    string // with its currency
	On        string // day, 2006-01-02
	By        string
	Reference string
	Note      string
	Number    int64 // of the report in its chain; 0: it is in none
	Code      string
}

// Claim is the document by which a credit is claimed: it follows from a published report
// and from the entry in the ledger, and says nothing else. made is when the claim was entered.
func Claim(c Content, of Claimed, made time.Time) (*Document, error) {
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	d := &Document{Publisher: c.Organisation, Title: label("claim.title", of.To), About: label("claim.about", c.Name, PeriodWords(c.Period)), State: label("claim.state", of.On, of.By),
		Verdict: label("claim.verdict", of.Amount), Layout: LaidAs(definition.LayoutSpec{}), Made: made, Footer: label("volume.footer", of.To, PeriodWords(c.Period), of.On), Digest: label("claim.foot")}
	if of.Contract != "" {
		d.Lead = append(d.Lead, label("claim.contract", of.Contract))
	}
	if of.Reference != "" {
		d.Lead = append(d.Lead, label("claim.reference", of.Reference))
	}
	d.Lead = append(d.Lead, VerdictSentence(c), CreditWords(c), label("claim.report", Part{Number: of.Number, Code: of.Code, Content: c}.words()))
	if of.Note != "" {
		d.Lead = append(d.Lead, of.Note)
	}
	d.Opening = strip(c, loc)
	c.Layout = &Laid{Show: definition.ShowBoth, Sections: []string{definition.SectionTime, definition.SectionOutages, definition.SectionPromise, definition.SectionMethod}}
	d.Sections = c.Sections(loc)
	return d, nil
}
