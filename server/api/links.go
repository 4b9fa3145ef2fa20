package api

import (
	"context"
	"errors"
	"net/http"
	"regexp"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/publication"
	"kestite/server/publish"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// linkTokens are those of links to reports in a text: they are for who receives it alone.
var linkTokens = regexp.MustCompile(`kesr_[A-Za-z0-9_-]+`)

// ReportLinkView is a link by which a report can be read without an account.
type ReportLinkView struct {
	ID        int64         `json:"id"`
	Whom      string        `json:"whom"`
	MadeBy    string        `json:"made_by"`
	MadeAt    time.Time     `json:"made_at"`
	Until     time.Time     `json:"until"`
	RevokedBy string        `json:"revoked_by,omitempty"`
	RevokedAt *time.Time    `json:"revoked_at,omitempty"`
	Uses      []LinkUseView `json:"uses" doc:"The latest first"`
}

// LinkUseView is one time that a link was opened.
type LinkUseView struct {
	At     time.Time `json:"at"`
	Form   string    `json:"form" doc:"What was taken; page: it was looked at"`
	Source string    `json:"source" doc:"Address that it was asked from"`
}

// NewReportLink asks for a link.
type NewReportLink struct {
	Whom string `json:"whom" minLength:"1" maxLength:"200" doc:"Whom it is for"`
	Days int    `json:"days" minimum:"1" maximum:"3650" default:"90"`
}

// MadeLink is a link, shown once.
type MadeLink struct {
	Path string `json:"path" doc:"With the token, which is shown once and kept nowhere"`
}

// SharedReport is what a link opens.
type SharedReport struct {
	Organisation string    `json:"organisation"`
	Name         string    `json:"name"`
	Customer     string    `json:"customer"`
	Words        string    `json:"words"`
	Sentence     string    `json:"sentence"`
	PublishedAt  time.Time `json:"published_at"`
	Seal         *SealView `json:"seal,omitempty"`
	Superseded   bool      `json:"superseded" doc:"Whether a later report of the period was published"`
	Forms        []string  `json:"forms" doc:"What can be taken"`

	Lines      []string          `json:"lines" doc:"Those of the statement, to which an objection can be"`
	Objections []SharedObjection `json:"objections" doc:"Those that were made by links for the same reader"`
}

// SharedObjection is an objection that somebody made by a link.
type SharedObjection struct {
	About  string            `json:"about,omitempty"`
	Text   string            `json:"text"`
	At     time.Time         `json:"at"`
	State  publication.State `json:"state" enum:"open,stands,revised,withdrawn"`
	Answer string            `json:"answer,omitempty"`
}

// LinkObjection objects to a report by a link.
type LinkObjection struct {
	LinkToken
	NewNote
}

// reader is who reads by a link, as what they say is kept.
func reader(ctx context.Context, whom string) trail.By {
	return trail.By{Name: whom + ", by a link", Source: caller(ctx).Source}
}

// SharedForm asks for a form of a report by a link.
type SharedForm struct {
	LinkToken
	Format string `json:"format" enum:"pdf,html,xlsx,csv,json,evidence"`
}

func (s *Server) linkRoutes(a *operations) {
	on(a, access.Publish, http.MethodGet, "/reports/{id}/links", "report-links", "Links by which a report can be read without an account, and who opened them when", s.reportLinks)
	on(a, access.Publish, http.MethodPost, "/reports/{id}/links", "make-report-link", "Make a link by which a published report can be read", s.makeReportLink)
	on(a, access.Publish, http.MethodDelete, "/reports/{id}/links/{note}", "revoke-report-link", "End a link", func(ctx context.Context, in *ByNote) (*none, error) {
		r, err := s.ownReport(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return nil, s.Desk.Revoke(ctx, r, in.Note, by(ctx), s.Now())
	})
	on(a, public, http.MethodPost, "/shared", "shared-report", "What a link to a report opens", s.shared)
	s.standingLinkRoutes(a)
	on(a, public, http.MethodPost, "/shared/objections", "object-by-link", "Object to a line of a report by a link to it", func(ctx context.Context, in *body[LinkObjection]) (*none, error) {
		r, whom, err := s.byLink(ctx, in.Body.Token, "objection")
		if err != nil {
			return nil, err
		}
		_, err = s.Desk.Object(ctx, r, in.Body.About, in.Body.Text, reader(ctx, whom), s.Now())
		return nil, err
	})
	on(a, public, http.MethodPost, "/shared/document", "shared-document", "A report by a link, as it was published", s.sharedDocument)
}

// ownReport is a report whose agreement the person asking publishes for.
func (s *Server) ownReport(ctx context.Context, id string) (db.Report, error) {
	r, err := s.report(ctx, id)
	if err != nil {
		return r, err
	}
	return r, s.over(ctx, access.Publish, r.Agreement)
}

func (s *Server) reportLinks(ctx context.Context, in *ByID) (*list[ReportLinkView], error) {
	r, err := s.ownReport(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.ReportLinks(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	return s.linkViews(ctx, rows)
}

// linkViews are links with when they were opened.
func (s *Server) linkViews(ctx context.Context, rows []db.ReportLinksRow) (*list[ReportLinkView], error) {
	ids := make([]int64, len(rows))
	for i, l := range rows {
		ids[i] = l.ID
	}
	uses, err := s.Store.ReportLinkUses(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []ReportLinkView
	for _, l := range rows {
		v := ReportLinkView{l.ID, l.Whom, l.MadeBy, l.MadeAt, l.Until, l.RevokedBy, l.RevokedAt, []LinkUseView{}}
		for _, u := range uses {
			if u.Link == l.ID {
				v.Uses = append(v.Uses, LinkUseView{u.HappenedAt, u.Form, u.Source})
			}
		}
		out = append(out, v)
	}
	return items(out), nil
}

func (s *Server) makeReportLink(ctx context.Context, in *struct {
	ByID
	Body NewReportLink
}) (*body[MadeLink], error) {
	r, err := s.ownReport(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	token, err := s.Desk.Link(ctx, r, in.Body.Whom, in.Body.Days, by(ctx), s.Now())
	return &body[MadeLink]{MadeLink{"/shared#" + token}}, err
}

// Links are opened so often at once, and so often a second after that, from one address.
const (
	mostOpened    = 60
	openedASecond = 1
)

// spendLink lets an address open so many links.
func (s *Server) spendLink(ctx context.Context) error {
	allowed, err := s.Store.Spend(ctx, db.SpendParams{Who: "links from " + caller(ctx).Source, Units: 1, Most: mostOpened, PerSecond: openedASecond, Now: s.Now()})
	if err == nil && !allowed {
		return huma.Error429TooManyRequests("Too many links were opened from here. Wait a minute.")
	}
	return err
}

// linkProblem says that a link is not good.
func linkProblem(err error) error {
	if errors.Is(err, publish.ErrLink) {
		return huma.Error410Gone("This link is not good any more: it was revoked, or its time has passed. Ask whoever sent it for another.")
	}
	return err
}

// byLink is the report that a token opens.
func (s *Server) byLink(ctx context.Context, token, form string) (r db.Report, whom string, err error) {
	if err := s.spendLink(ctx); err != nil {
		return r, "", err
	}
	r, whom, err = s.Desk.ByLink(ctx, token, form, caller(ctx).Source, s.Now())
	return r, whom, linkProblem(err)
}

func (s *Server) shared(ctx context.Context, in *body[LinkToken]) (*body[SharedReport], error) {
	r, whom, err := s.byLink(ctx, in.Body.Token, "page")
	if err != nil {
		return nil, err
	}
	c, _, err := s.Desk.Content(ctx, r, s.Now())
	if err != nil {
		return nil, err
	}
	latest, err := s.Store.LatestReport(ctx, db.LatestReportParams{Agreement: r.Agreement, Period: r.Period})
	if err != nil {
		return nil, err
	}
	out := SharedReport{Organisation: c.Organisation, Name: c.Name, Customer: c.Customer, Words: report.PeriodWords(c.Period), Sentence: report.VerdictSentence(c),
		PublishedAt: *r.PublishedAt, Superseded: latest > r.Number, Forms: []string{"pdf", "csv", "json"}}
	if out.Seal, err = sealOf(r); err != nil {
		return nil, err
	}
	out.Lines, out.Objections = []string{}, []SharedObjection{}
	statement := report.StatementOf(c)
	for _, l := range append(append([]report.Line{}, statement.Time...), statement.Figures...) {
		out.Lines = append(out.Lines, l.Name)
	}
	notes, err := s.Store.ReportNotes(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	for _, n := range notes {
		if n.Kind == "objection" && n.ByID == reader(ctx, whom).Kept() {
			out.Objections = append(out.Objections, SharedObjection{n.About, n.Text, n.MadeAt, publication.State(n.State), n.Answer})
		}
	}
	if out.Seal != nil {
		out.Forms = []string{"pdf", "html", "xlsx", "csv", "json", "evidence"}
	}
	return &body[SharedReport]{out}, nil
}

func (s *Server) sharedDocument(ctx context.Context, in *body[SharedForm]) (*file, error) {
	r, _, err := s.byLink(ctx, in.Body.Token, in.Body.Format)
	if err != nil {
		return nil, err
	}
	return s.formOf(ctx, r, in.Body.Format)
}
