package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/credit"
	"kestite/core/money"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/report"
	"kestite/server/store/gen/db"

	"github.com/danielgtaylor/huma/v2"
)

func (s *Server) creditRoutes(a *operations) {
	on(a, access.Own, http.MethodGet, "/credits", "credits", "The ledger of credits: what published reports owe, by the end of their periods", s.credits)
	on(a, access.Own, http.MethodGet, "/credits/export", "export-credits", "The ledger as CSV", s.exportCredits)
	on(a, access.Publish, http.MethodPost, "/credits/entries", "enter-credit", "Enter a claim, a payment or a waiver", s.enterCredit)
	on(a, access.Publish, http.MethodGet, "/credits/{agreement}/entries/{entry}/document", "claim-document", "A claim as a document: PDF, or a page", s.claimDocument)
	on(a, access.Publish, http.MethodDelete, "/credits/{agreement}/entries/{entry}", "take-credit-back", "Take an entry back that was wrong; it stays, and counts no more",
		func(ctx context.Context, in *struct {
			Agreement string `path:"agreement" maxLength:"120"`
			Entry     int64  `path:"entry"`
		}) (*none, error) {
			if err := s.over(ctx, access.Publish, in.Agreement); err != nil {
				return nil, err
			}
			return nil, s.Credits.TakeBack(ctx, in.Agreement, in.Entry, by(ctx))
		})
}

// CreditLine is the credit of an agreement and period. Due = owed - capped + carried, and
// open = due - paid - waived; amounts are decimals in the currency.
type CreditLine struct {
	Agreement Ref              `json:"agreement"`
	Customer  string           `json:"customer" doc:"Empty: a supplier owes it"`
	Supplier  string           `json:"supplier" doc:"The service whose supplier owes it; empty: we owe it"`
	Contract  *Ref             `json:"contract,omitempty"`
	Period    string           `json:"period"`
	Words     string           `json:"words"`
	Report    string           `json:"report" doc:"Id of the published report that says what is owed"`
	Direction credit.Direction `json:"direction" enum:"to-customer,from-supplier"`
	Currency  string           `json:"currency"`
	Fee       string           `json:"fee"`
	Percent   string           `json:"percent"`
	Owed      string           `json:"owed"`
	Capped    string           `json:"capped" doc:"What the limits of the contract take of it"`
	Why       string           `json:"why,omitempty" doc:"Which limit"`
	Carried   string           `json:"carried" doc:"0 or below: what was paid too much for earlier periods, as revisions of their reports say"`
	Due       string           `json:"due"`
	Claimed   string           `json:"claimed"`
	Paid      string           `json:"paid"`
	Waived    string           `json:"waived"`
	Settled   string           `json:"settled" doc:"Paid and waived"`
	Open      string           `json:"open" doc:"Below zero: it was paid too much, which the next period carries"`
	Until     string           `json:"until,omitempty" doc:"Last day to claim"`
	State     credit.State     `json:"state" enum:"nothing,due,lapsed,claimed,paid"`
	Entries   []CreditEntry    `json:"entries"`
	May       bool             `json:"may" doc:"Whether the person asking may enter what happened to it"`
}

// CreditEntry is something that happened to a credit.
type CreditEntry struct {
	ID        int64        `json:"id"`
	Kind      credit.Kind  `json:"kind" enum:"claim,payment,waiver"`
	Amount    string       `json:"amount"`
	On        string       `json:"on"`
	Reference string       `json:"reference"`
	Note      string       `json:"note"`
	By        string       `json:"by"`
	At        span.Instant `json:"at"`
	TakenBack bool         `json:"taken_back"`
}

// NewCreditEntry is what happened to a credit.
type NewCreditEntry struct {
	Agreement string      `json:"agreement" minLength:"1" maxLength:"120"`
	Period    string      `json:"period" minLength:"4" maxLength:"50"`
	Kind      credit.Kind `json:"kind" enum:"claim,payment,waiver"`
	Amount    string      `json:"amount" minLength:"1" maxLength:"20" doc:"Decimal in the currency of the fee, 1250.00"`
	On        string      `json:"on,omitempty" maxLength:"10" doc:"Day on which it happened, 2006-01-02; absent: today"`
	Reference string      `json:"reference,omitempty" maxLength:"200" doc:"Of a bill, a letter, a payment"`
	Note      string      `json:"note,omitempty" maxLength:"2000"`
}

func (s *Server) credits(ctx context.Context, _ *none) (*list[CreditLine], error) {
	lines, err := s.creditLines(ctx)
	return items(lines), err
}

// creditLines are those that the person asking may see, without periods in which nothing
// was owed and nothing happened.
func (s *Server) creditLines(ctx context.Context) ([]CreditLine, error) {
	snap, lines, err := s.Credits.Ledger(ctx)
	if err != nil {
		return nil, err
	}
	out := []CreditLine{}
	for _, l := range lines {
		if l.Owed == 0 && len(l.Entries) == 0 && l.Carried == 0 || !reported(ctx, snap, l.Agreement, l.Period) {
			continue
		}
		c := l.Says.Currency
		say := func(minor int64) string { return money.Write(minor, c) }
		v := CreditLine{Agreement: Ref{l.Agreement, l.Agreement}, Period: l.Period, Words: report.PeriodWords(l.Period), Report: l.Report, Direction: l.Says.Direction,
			Currency: c, Fee: say(l.Fee), Percent: l.Says.Percent, Owed: say(l.Owed), Capped: say(l.Capped), Why: l.Why, Carried: say(l.Carried), Due: say(l.Due),
			Claimed: say(l.Claimed), Paid: say(l.Paid), Waived: say(l.Waived), Settled: say(l.Paid + l.Waived), Open: say(l.Open), Until: l.Until, State: l.State, Entries: []CreditEntry{}}
		if e := snap.Agreements[l.Agreement]; e != nil {
			spec := e.Current().Spec
			v.Agreement.Name, v.Customer = spec.Name, snap.Whom(spec)
			v.May = who(ctx).Rights.Over(snap, access.Publish, spec.Service) == nil
			if l.Says.Direction == credit.FromSupplier {
				v.Supplier = snap.Named("service", spec.Service)
			}
		}
		if l.Contract != "" {
			v.Contract = &Ref{l.Contract, snap.Named("contract", l.Contract)}
		}
		for _, e := range l.Entries {
			v.Entries = append(v.Entries, CreditEntry{e.ID, e.Kind, say(e.Minor), e.On, e.Reference, e.Note, e.By, e.At, e.TakenBack})
		}
		out = append(out, v)
	}
	return out, nil
}

func (s *Server) exportCredits(ctx context.Context, _ *none) (*file, error) {
	lines, err := s.creditLines(ctx)
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	if err := csv.NewWriter(&buf).WriteAll(creditTable(lines)); err != nil {
		return nil, err
	}
	return &file{ContentType: "text/csv; charset=utf-8", Disposition: `attachment; filename="credits.csv"`, Body: buf.Bytes()}, s.did(ctx, "export", "credits", nil)
}

// creditTable is a ledger as a spreadsheet takes it.
func creditTable(lines []CreditLine) [][]string {
	rows := [][]string{{"direction", "customer", "supplier", "contract", "agreement", "period", "currency", "fee", "percent", "owed", "capped", "carried", "due",
		"claimed", "paid", "waived", "open", "claim_until", "state"}}
	for _, l := range lines {
		contract := ""
		if l.Contract != nil {
			contract = l.Contract.Name
		}
		names := spreadsheet(string(l.Direction), l.Customer, l.Supplier, contract, l.Agreement.Name)
		rows = append(rows, append(names, l.Period, l.Currency, l.Fee, l.Percent, l.Owed, l.Capped, l.Carried, l.Due, l.Claimed, l.Paid, l.Waived, l.Open, l.Until, string(l.State)))
	}
	return rows
}

func (s *Server) enterCredit(ctx context.Context, in *body[NewCreditEntry]) (*body[made], error) {
	b := in.Body
	if err := s.over(ctx, access.Publish, b.Agreement); err != nil {
		return nil, err
	}
	_, err := s.Credits.Add(ctx, credit.Entry{Agreement: b.Agreement, Period: b.Period, Kind: b.Kind, On: b.On, Reference: b.Reference, Note: b.Note}, b.Amount, by(ctx))
	return &body[made]{made{b.Agreement}}, err
}

// claimDocument prints a claim from the report that was in force when it was entered: neither
// changes any more.
func (s *Server) claimDocument(ctx context.Context, in *struct {
	Agreement string `path:"agreement" maxLength:"120"`
	Entry     int64  `path:"entry" minimum:"1"`
	Format    string `query:"format" enum:"pdf,html" default:"pdf"`
}) (*file, error) {
	if err := s.over(ctx, access.Publish, in.Agreement); err != nil {
		return nil, err
	}
	lines, err := s.creditLines(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		for _, e := range l.Entries {
			if l.Agreement.ID == in.Agreement && e.ID == in.Entry && e.Kind == credit.Claim {
				return s.claim(ctx, l, e, in.Format)
			}
		}
	}
	return nil, catalogue.ErrNotFound
}

func (s *Server) claim(ctx context.Context, l CreditLine, e CreditEntry, format string) (*file, error) {
	if e.TakenBack {
		return nil, huma.Error409Conflict("This claim was taken back.")
	}
	r, err := s.Store.PublishedAtTime(ctx, db.PublishedAtTimeParams{Agreement: l.Agreement.ID, Period: l.Period, At: e.At.Time()})
	if err != nil {
		return nil, err
	}
	var c report.Content
	if err := json.Unmarshal(r.Content, &c); err != nil {
		return nil, err
	}
	of := report.Claimed{To: cmp.Or(l.Supplier, c.Organisation), Amount: l.Currency + " " + e.Amount, On: e.On, By: e.By, Reference: e.Reference, Note: e.Note}
	if l.Contract != nil {
		of.Contract = l.Contract.Name
	}
	if r.Serial != nil && r.Manifest != nil {
		m, err := seal.Decode(r.Manifest)
		if err != nil {
			return nil, err
		}
		of.Number, of.Code = *r.Serial, m.Link(r.Manifest).Code()
	}
	d, err := report.Claim(c, of, e.At.Time())
	if err != nil {
		return nil, err
	}
	out := &file{ContentType: "application/pdf", Disposition: fmt.Sprintf(`attachment; filename="claim-%s-%d.%s"`, l.Agreement.ID, e.ID, format)}
	if format == "html" {
		out.ContentType, out.Policy = "text/html; charset=utf-8", "default-src 'none'; style-src 'unsafe-inline'; sandbox"
		out.Body, err = d.HTML()
	} else {
		out.Body, err = d.PDF()
	}
	if err != nil {
		return nil, err
	}
	return out, s.did(ctx, "export", "credit "+l.Agreement.ID, map[string]any{"claim": e.ID, "format": format})
}
