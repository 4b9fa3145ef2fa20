package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	rules "kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/publication"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/publish"
	"kestite/server/report"
	"kestite/server/seals"
	"kestite/server/store/gen/db"
)

// ReportView is a report in a list.
type ReportView struct {
	ID           string     `json:"id"`
	Agreement    string     `json:"agreement"`
	Name         string     `json:"name"`
	Customer     string     `json:"customer"`
	Period       string     `json:"period"`
	Words        string     `json:"words" doc:"The period as a sentence says it"`
	Number       int32      `json:"number"`
	State        string     `json:"state" enum:"draft,published"`
	MadeAt       time.Time  `json:"made_at"`
	MadeBy       string     `json:"made_by"`
	PublishedAt  *time.Time `json:"published_at,omitempty"`
	PublishedBy  *string    `json:"published_by,omitempty"`
	Digest       *string    `json:"digest,omitempty"`
	Serial       *int64     `json:"serial,omitempty" doc:"Number in the chain of its customer; absent of drafts"`
	Verdict      string     `json:"verdict"`
	Availability string     `json:"availability_percent"`
}

// ReportPage is a report with all it says.
type ReportPage struct {
	ReportView
	Remark       string                `json:"remark"`
	Seen         string                `json:"seen,omitempty" doc:"Of a draft: tells what it says from what it said before; publishing says which was read"`
	Sentence     string                `json:"sentence"`
	Organisation string                `json:"organisation"`
	ServiceName  string                `json:"service_name"`
	Target       string                `json:"target_percent"`
	Timezone     string                `json:"timezone"`
	From         span.Instant          `json:"from"`
	To           span.Instant          `json:"to"`
	Figures      Figures               `json:"figures"`
	Intervals    []IntervalView        `json:"intervals"`
	Outages      []report.Outage       `json:"outages"`
	Statement    report.Statement      `json:"statement" doc:"The statement of time, as the document prints it"`
	Seal         *SealView             `json:"seal,omitempty" doc:"How it is chained and signed; absent of drafts, and of what was published before there were seals"`
	Today        []string              `json:"today" doc:"Of a published report: how it differs from what the same account says today, as sentences; none where it does not"`
	Frozen       *definition.Signature `json:"frozen,omitempty" doc:"Who froze the account in its close; absent: nobody did"`
	FrozenWords  string                `json:"frozen_words,omitempty"`
	Standing     string                `json:"standing_words,omitempty" doc:"Who let its schedule publish it; absent: people published it"`
	CreditWords  string                `json:"credit_words,omitempty" doc:"What is owed for the period; absent: no fee was agreed"`
	Adjusted     []string              `json:"adjusted" doc:"The adjustments as sentences, as the document prints them"`
	Adjustments  []report.Adjusted     `json:"adjustments" doc:"Those that the account counts with"`
	Sections     []report.Section      `json:"sections" doc:"What its layout asks for, as the document prints it"`
	Layout       string                `json:"layout,omitempty" doc:"What its layout is called; absent: nobody chose one"`
	Clauses      []string              `json:"clauses"`
	Method       []string              `json:"method"`
	Approval     *ApprovalView         `json:"approval,omitempty" doc:"Of a draft whose customer's reports a second person approves"`
	Notes        []NoteView            `json:"notes" doc:"Comments, and objections, in the order in which they were made"`
	May          ReportMay             `json:"may"`
}

// ApprovalView is how far the approval of a draft is.
type ApprovalView struct {
	By      string     `json:"by,omitempty" doc:"Absent: nobody has approved it"`
	At      *time.Time `json:"at,omitempty"`
	Current bool       `json:"current" doc:"Whether it says what was approved"`
}

// NoteView is something that was said of a report.
type NoteView struct {
	ID         int64             `json:"id"`
	Kind       string            `json:"kind" enum:"comment,objection"`
	About      string            `json:"about,omitempty"`
	Text       string            `json:"text"`
	By         string            `json:"by"`
	Mine       bool              `json:"mine"`
	At         time.Time         `json:"at"`
	State      publication.State `json:"state,omitempty" enum:"open,stands,revised,withdrawn" doc:"Of an objection"`
	Answer     string            `json:"answer,omitempty"`
	AnsweredBy string            `json:"answered_by,omitempty"`
	AnsweredAt *time.Time        `json:"answered_at,omitempty"`
	Revision   string            `json:"revision,omitempty" doc:"Id of the report that was drafted because of it"`
}

// ReportMay is what the person asking may do with a report.
type ReportMay struct {
	Publish bool `json:"publish"`
	Approve bool `json:"approve"`
	Comment bool `json:"comment"`
	Object  bool `json:"object"`
	Answer  bool `json:"answer"`
}

// SealView is how a published report can be checked.
type SealView struct {
	Number   int64  `json:"number" doc:"In the chain of its customer, without a gap"`
	Ledger   int64  `json:"ledger" doc:"In the ledger of all reports"`
	Code     string `json:"code" doc:"The chain's head with it, to be kept by whoever receives it"`
	Key      string `json:"key" doc:"Id of the key that signed it; empty: this server had none"`
	Evidence string `json:"evidence" enum:"measurements,stretches" doc:"What the archive can be recomputed from"`
}

func sealOf(r db.Report) (*SealView, error) {
	if r.Manifest == nil {
		return nil, nil
	}
	m, err := seal.Decode(r.Manifest)
	if err != nil {
		return nil, err
	}
	return &SealView{m.Number, *r.Ledger, m.Link(r.Manifest).Code(), m.Key, m.Evidence}, nil
}

// NewReport asks for a draft.
type NewReport struct {
	Agreement string `json:"agreement" minLength:"1"`
	Period    string `json:"period" minLength:"4" maxLength:"50" doc:"A finished period of the agreement by name, 2026-10"`
	Remark    string `json:"remark,omitempty" maxLength:"4000"`
}

func (s *Server) reportRoutes(a *operations) {
	on(a, access.Own, http.MethodGet, "/reports", "list-reports", "All reports, newest period first", s.reports)
	on(a, access.Publish, http.MethodPost, "/reports", "draft-report", "Draft the report of a finished period", s.draft)
	on(a, access.Own, http.MethodGet, "/reports/{id}", "report", "A report as a page", s.reportPage)
	on(a, access.Publish, http.MethodPut, "/reports/{id}", "remark-report", "Change a draft's remark", func(ctx context.Context, in *struct {
		ByID
		Body struct {
			Remark string `json:"remark" maxLength:"4000"`
			Was    string `json:"was,omitempty" maxLength:"4000" doc:"The remark that the change was made on; another one by now is a conflict"`
		}
	}) (*none, error) {
		if err := s.overReport(ctx, in.ID); err != nil {
			return nil, err
		}
		err := s.Desk.Remark(ctx, in.ID, in.Body.Remark, in.Body.Was, by(ctx))
		if errors.Is(err, publish.ErrUnread) {
			return nil, huma.Error409Conflict("Somebody else changed the remark meanwhile; look at it, and write yours again.")
		}
		if errors.Is(err, publish.ErrPublished) {
			return nil, huma.Error409Conflict("It is no draft any more: a published report is frozen. Draft the next revision instead.")
		}
		return nil, err
	})
	on(a, access.Publish, http.MethodPost, "/reports/{id}/publish", "publish-report", "Publish: from now on it is frozen", s.publish)
	on(a, access.Publish, http.MethodDelete, "/reports/{id}", "drop-draft", "Throw a draft away", func(ctx context.Context, in *ByID) (*none, error) {
		if err := s.overReport(ctx, in.ID); err != nil {
			return nil, err
		}
		err := s.Desk.Drop(ctx, in.ID, by(ctx))
		if errors.Is(err, publish.ErrPublished) {
			return nil, huma.Error409Conflict("Only a draft can be thrown away; a published report is frozen.")
		}
		return nil, err
	})
	s.reviewRoutes(a)
	s.linkRoutes(a)
	s.legalRoutes(a)
	s.archiveRoutes(a)
	on(a, access.Own, http.MethodGet, "/signing-keys", "signing-keys", "The public keys that reports are signed with, and when each was in use", s.signingKeys)
	on(a, access.Own, http.MethodGet, "/signing-keys/public.pem", "public-keys", "All public keys in one file (PEM), as kestite verify takes it", s.publicKeys)
	on(a, access.Own, http.MethodGet, "/reports/{id}/document", "report-document", "The report as PDF, JSON or CSV, the inputs it was made from, or the archive that kestite verify checks", s.document)
}

func (s *Server) reports(ctx context.Context, _ *none) (*list[ReportView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.ReportList(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(rows, func(a, b db.ReportListRow) int { return cmp.Compare(endOf(b.Period), endOf(a.Period)) })
	var out []ReportView
	for _, r := range rows {
		if r.State == "draft" && !seesDrafts(ctx) || !reported(ctx, snap, r.Agreement, r.Period) {
			continue
		}
		v := ReportView{
			ID: r.ID, Agreement: r.Agreement, Name: r.Agreement, Period: r.Period, Words: report.PeriodWords(r.Period),
			Number: r.Number, State: r.State, MadeAt: r.MadeAt, MadeBy: r.MadeBy,
			PublishedAt: r.PublishedAt, PublishedBy: orNil(r.PublishedBy), Digest: r.Digest, Serial: r.Serial, Verdict: r.Verdict,
			Availability: r.AvailabilityPercent,
		}
		if e := snap.Agreements[r.Agreement]; e != nil {
			v.Name, v.Customer = e.Current().Spec.Name, snap.Whom(e.Current().Spec)
		}
		out = append(out, v)
	}
	return items(out), err
}

func orNil(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// endOf is when a period ends, by its name; wherever that may be.
func endOf(period string) span.Instant {
	p, err := calendar.ParsePeriod(period, time.UTC)
	if err != nil {
		return 0
	}
	return p.Span().To
}

func (s *Server) draft(ctx context.Context, in *body[NewReport]) (*body[made], error) {
	if err := s.over(ctx, access.Publish, in.Body.Agreement); err != nil && !errors.Is(err, catalogue.ErrNotFound) {
		return nil, err
	}
	id, err := s.Desk.Draft(ctx, in.Body.Agreement, in.Body.Period, in.Body.Remark, by(ctx), s.Now())
	var fault *definition.Fault
	if errors.As(err, &fault) {
		return nil, invalid(fault.Path, fault.Message)
	}
	return &body[made]{made{id}}, err
}

func (s *Server) reportPage(ctx context.Context, in *ByID) (*body[ReportPage], error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	c, _, err := s.Desk.Content(ctx, r, s.Now())
	if err != nil {
		return nil, err
	}
	loc, err := calendar.Zone(c.Timezone)
	if err != nil {
		return nil, err
	}
	period, err := calendar.ParsePeriod(c.Period, loc)
	if err != nil {
		return nil, err
	}
	people, err := s.Store.ReportPeople(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	when := period.Span()
	out := ReportPage{
		ReportView: ReportView{
			ID: r.ID, Agreement: r.Agreement, Name: c.Name, Customer: c.Customer, Period: r.Period,
			Words: report.PeriodWords(r.Period), Number: r.Number, State: r.State,
			MadeAt: r.MadeAt, MadeBy: people.MadeBy, PublishedAt: r.PublishedAt, PublishedBy: orNil(people.PublishedBy),
			Digest: r.Digest, Verdict: string(c.Account.Verdict),
		},
		Remark: c.Remark, Sentence: report.VerdictSentence(c), Organisation: c.Organisation, ServiceName: c.ServiceName,
		Target: c.Target, Timezone: c.Timezone, From: when.From, To: when.To,
		Figures: figures(&c.Account), Intervals: intervals(&c.Account), Outages: c.Outages, Statement: report.StatementOf(c), Clauses: c.Clauses, Method: c.Method,
		Frozen: c.Frozen, FrozenWords: report.FrozenWords(c, loc), CreditWords: report.CreditWords(c), Standing: report.StandingWords(c, loc), Adjusted: append([]string{}, report.AdjustmentWords(c, loc)...), Adjustments: append([]report.Adjusted{}, c.Adjustments...),
	}
	if c.Account.AvailabilityPercent != nil {
		out.Availability = *c.Account.AvailabilityPercent
	}
	if c.Layout != nil {
		out.Layout = c.Layout.Name
	}
	out.Sections = c.Sections(loc)
	if out.Seal, err = sealOf(r); err != nil {
		return nil, err
	}
	out.Today = s.differsToday(ctx, r, c)
	if r.State == "draft" {
		if out.Seen, err = report.Seen(c); err != nil {
			return nil, err
		}
	}
	if err := s.reviewed(ctx, r, people.ApprovedBy, &out); err != nil {
		return nil, err
	}
	return &body[ReportPage]{out}, s.didRead(ctx, r)
}

// differsToday says how a published report differs from the account of today; nothing where
// that cannot be made, and to customers, who are told by a revision.
func (s *Server) differsToday(ctx context.Context, r db.Report, c report.Content) []string {
	out := []string{}
	if r.State != "published" || !sees(ctx) {
		return out
	}
	a, _, err := s.Books.Account(ctx, r.Agreement, r.Period, s.Now())
	if err != nil {
		return append(out, "The account cannot be made today: "+err.Error())
	}
	out = append(out, rules.Differ(&c.Account, a).Words...)
	if len(out) == 0 {
		return out
	}
	late, err := s.cameSince(ctx, a, *r.PublishedAt)
	if err != nil {
		return append(out, "Whether measurements came since cannot be read: "+err.Error())
	}
	return append(out, late...)
}

// cameSince says from where measurements of the service of an account, and of what that
// needs, came after an instant.
func (s *Server) cameSince(ctx context.Context, a *account.Account, since time.Time) ([]string, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	within := span.Span{From: a.From, To: a.To}
	var checks []string
	for _, service := range snap.Needed(within, a.Service) {
		checks = append(checks, snap.ChecksOf[service]...)
	}
	rows, err := s.Store.CameSince(ctx, db.CameSinceParams{Checks: checks, FromAt: a.From.Time(), UntilAt: a.To.Time(), Since: since})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range rows {
		what := fmt.Sprintf("%d measurements", r.Count)
		if r.Count == 1 {
			what = "One measurement"
		}
		out = append(out, fmt.Sprintf("%s from %s came after it was published.", what, snap.Named(catalogue.Location, r.Location)))
	}
	return out, nil
}

// report is a report that the person asking may see: a draft is there for those
// alone who may make one.
func (s *Server) report(ctx context.Context, id string) (db.Report, error) {
	if len(id) != len("00000000-0000-0000-0000-000000000000") {
		return db.Report{}, catalogue.ErrNotFound
	}
	r, err := s.Store.Report(ctx, id)
	if err != nil {
		return r, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return r, err
	}
	if r.State == "draft" && !seesDrafts(ctx) || !reported(ctx, snap, r.Agreement, r.Period) {
		return db.Report{}, catalogue.ErrNotFound
	}
	return r, nil
}

func seesDrafts(ctx context.Context) bool { return who(ctx).Rights.May(access.SeeDrafts) }

// didRead writes down, once an hour, that somebody read a report that somebody
// else made: screens ask again and again for what they show.
func (s *Server) didRead(ctx context.Context, r db.Report) error {
	reader := who(ctx)
	if reader.ID == r.MadeBy || r.PublishedBy != nil && reader.ID == *r.PublishedBy {
		return nil
	}
	first, err := s.Store.Spend(ctx, db.SpendParams{
		Who: "read report " + r.ID + " by " + reader.ID, Units: 1, Most: 1, PerSecond: 1.0 / 3600, Now: s.Now(),
	})
	if err != nil || !first {
		return err
	}
	return s.did(ctx, "read", "report "+r.ID, map[string]string{"state": r.State})
}

// Publishing says what was read of a draft.
type Publishing struct {
	Seen string `json:"seen" minLength:"1" maxLength:"64" doc:"Of the page that its publisher has read; where the draft says something else by now, it is not published"`
}

func (s *Server) publish(ctx context.Context, in *struct {
	ByID
	Body Publishing
}) (*none, error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.over(ctx, access.Publish, r.Agreement); err != nil {
		return nil, err
	}
	err = s.Desk.Publish(ctx, r.ID, in.Body.Seen, by(ctx), s.Now())
	if errors.Is(err, publish.ErrUnread) {
		return nil, huma.Error409Conflict("It says something else by now than what you read: its remark, its clauses, or what was measured late. Read it again, then publish.")
	}
	if errors.Is(err, publish.ErrPublished) || errors.Is(err, publish.ErrChanged) || errors.Is(err, seals.ErrClosed) {
		return nil, huma.Error409Conflict("It cannot be: " + err.Error() + ".")
	}
	return nil, err
}

// SigningKey is a public key.
type SigningKey struct {
	ID        string     `json:"id"`
	PublicKey string     `json:"public_key" doc:"Ed25519, PEM (RFC 8410)"`
	MadeAt    time.Time  `json:"made_at"`
	RetiredAt *time.Time `json:"retired_at,omitempty" doc:"What it signed until then stays good"`
}

func (s *Server) signingKeys(ctx context.Context, _ *none) (*list[SigningKey], error) {
	keys, err := s.Desk.Keys.List(ctx)
	if err != nil {
		return nil, err
	}
	var out []SigningKey
	for _, k := range keys {
		text, err := seal.PEM(k.Public)
		if err != nil {
			return nil, err
		}
		out = append(out, SigningKey{k.ID, text, k.MadeAt, k.Retired})
	}
	return items(out), nil
}

func (s *Server) publicKeys(ctx context.Context, _ *none) (*file, error) {
	keys, err := s.Desk.Keys.List(ctx)
	if err != nil {
		return nil, err
	}
	out := &file{ContentType: "application/x-pem-file", Disposition: `attachment; filename="kestite-public-keys.pem"`}
	for _, k := range keys {
		text, err := seal.PEM(k.Public)
		if err != nil {
			return nil, err
		}
		out.Body = append(out.Body, text...)
	}
	return out, nil
}

type file struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Policy      string `header:"Content-Security-Policy"`
	Body        []byte
}

// rendered is a file of a published report as it was published, and of a draft as it would
// be now: nothing published is rendered again.
func (s *Server) rendered(ctx context.Context, r db.Report, name string, draft func() ([]byte, error)) ([]byte, error) {
	if r.State == "draft" {
		return draft()
	}
	body, err := s.Desk.Keys.File(ctx, r.ID, name)
	if errors.Is(err, catalogue.ErrNotFound) {
		return nil, huma.Error409Conflict("It was published without this form, and nothing published is rendered again; take the PDF or the JSON.")
	}
	return body, err
}

func (s *Server) document(ctx context.Context, in *struct {
	ByID
	Format string `query:"format" enum:"pdf,html,xlsx,json,csv,inputs,evidence" default:"pdf"`
}) (*file, error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out, err := s.formOf(ctx, r, in.Format)
	if err != nil {
		return nil, err
	}
	return out, s.did(ctx, "export", "report "+r.ID, map[string]string{"format": in.Format, "state": r.State})
}

// formOf is a report in one of its forms, as a file.
func (s *Server) formOf(ctx context.Context, r db.Report, format string) (*file, error) {
	c, from, err := s.Desk.Content(ctx, r, s.Now())
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%s-%s-report-%d", r.Agreement, strings.NewReplacer("/", "_", ":", "").Replace(r.Period), r.Number)
	out := &file{}
	var logos []report.Logo
	if r.State == "draft" {
		if logos, err = c.Logos(ctx, s.Store.Queries); err != nil {
			return nil, err
		}
	}
	switch format {
	case "pdf":
		out.ContentType, name = "application/pdf", name+".pdf"
		if out.Body = r.Document; r.State == "draft" {
			out.Body, err = report.PDF(c, s.Now(), "", logos)
		}
	case "html":
		out.ContentType, name = "text/html; charset=utf-8", name+".html"
		out.Policy = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox"
		out.Body, err = s.rendered(ctx, r, report.HTMLName, func() ([]byte, error) { return report.HTML(c, s.Now(), "", logos) })
	case "xlsx":
		out.ContentType, name = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", name+".xlsx"
		out.Body, err = s.rendered(ctx, r, report.XLSXName, func() ([]byte, error) { return report.XLSX(c, s.Now(), "") })
	case "json":
		out.ContentType, name = "application/json", name+".json"
		switch signed, missing := s.Desk.Keys.File(ctx, r.ID, seal.ReportName); {
		case r.State == "draft":
			out.Body, err = json.MarshalIndent(c, "", " ")
		case errors.Is(missing, catalogue.ErrNotFound): // from before there were seals
			out.Body = r.Content
		default:
			out.Body, err = signed, missing
		}
	case "csv":
		out.ContentType, name = "text/csv; charset=utf-8", name+".csv"
		out.Body, err = s.rendered(ctx, r, report.CSVName, c.CSV)
	case "evidence":
		if r.Manifest == nil {
			return nil, huma.Error409Conflict("Only a published report has an archive, and one that was published before there were seals has none.")
		}
		a, err := s.Desk.Keys.Archive(ctx, r)
		if err != nil {
			return nil, err
		}
		var buf bytes.Buffer
		out.ContentType, name = "application/zip", name+".zip"
		if err := a.Write(&buf); err != nil {
			return nil, err
		}
		out.Body = buf.Bytes()
	case "inputs":
		out.ContentType, name = "application/gzip", name+"-inputs.json.gz"
		if out.Body = r.Inputs; r.State == "draft" {
			out.Body, err = from.Inputs()
		}
	}
	if err != nil {
		return nil, err
	}
	out.Disposition = `attachment; filename="` + name + `"`
	return out, nil
}
