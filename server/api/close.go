package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/catalogue"
	rules "kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/closing"
)

func (s *Server) closeRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/closes", "closes", "How far the close of each agreement is, in the periods of a band that are over", s.closes)
	on(a, access.See, http.MethodGet, "/closes/{id}", "close", "The close of one period: what is to be answered, what was, and the account", s.closeOf)
	on(a, access.Operate, http.MethodPut, "/closes/{id}/answers", "answer-close", "Answer questions of a close", s.answerClose)
	on(a, access.Operate, http.MethodDelete, "/closes/{id}/answers", "take-answer-back", "Take an answer back", s.takeAnswerBack)
	on(a, access.Publish, http.MethodPost, "/closes/{id}/freeze", "freeze", "Freeze the account with what it was made from", s.freeze)
	on(a, access.Publish, http.MethodPost, "/closes/{id}/unfreeze", "unfreeze", "Let the account follow its measurements again", s.unfreeze)
	s.closeTogetherRoutes(a)
	on(a, access.Operate, http.MethodPost, "/adjustments", "propose-adjustment", "Propose an adjustment; a second person has to approve it", s.proposeAdjustment)
	on(a, access.Operate, http.MethodPost, "/adjustments/preview", "would-adjust", "The figures before and after an adjustment", s.wouldAdjust)
	on(a, access.See, http.MethodPost, "/adjustments/{id}/decision", "decide-adjustment", "Approve, refuse or withdraw an adjustment", s.decideAdjustment)
}

// CloseLine is the close of one period in a list.
type CloseLine struct {
	Agreement    Ref                `json:"agreement"`
	Customer     string             `json:"customer"`
	Service      Ref                `json:"service"`
	Period       OwnPeriod          `json:"period"`
	Fault        string             `json:"fault,omitempty" doc:"Why there is no account"`
	Verdict      account.Verdict    `json:"verdict,omitempty"`
	Availability *string            `json:"availability_percent"`
	Open         map[rules.Kind]int `json:"open" doc:"Open questions by kind"`
	Owner        string             `json:"owner,omitempty" doc:"Who sees to it; absent: nobody"`
	Left         int                `json:"left" doc:"All that are open"`
	All          int                `json:"all" doc:"All questions, answered ones too"`
	FrozenBy     string             `json:"frozen_by,omitempty"`
	FrozenAt     *time.Time         `json:"frozen_at,omitempty"`
	Report       string             `json:"report,omitempty" doc:"Id of the latest published report"`
}

// Closes are the closes of a band.
type Closes struct {
	Span  SpanView    `json:"span"`
	Lines []CloseLine `json:"lines"`
}

func (s *Server) closes(ctx context.Context, in *struct {
	Span string `query:"span" maxLength:"60" doc:"The band: a period by name; absent: the month before this"`
}) (*body[Closes], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.band(in.Span, snap.Timezone)
	if err == nil && in.Span == "" {
		band = band.Next(-1)
	}
	if err != nil {
		return nil, err
	}
	lines, err := s.Close.List(ctx, snap, band, catalogue.Live(snap.Agreements))
	if err != nil {
		return nil, err
	}
	out := Closes{Span: s.spanView(band), Lines: []CloseLine{}}
	for _, l := range lines {
		spec := snap.Agreements[l.Agreement].Current().Spec
		v := CloseLine{Agreement: Ref{l.Agreement, spec.Name}, Customer: snap.Whom(spec), Service: Ref{spec.Service, snap.Named(catalogue.Service, spec.Service)},
			Period: ownPeriod(l.Row.Period), Verdict: l.Verdict(), Open: l.Open, Left: l.Left, All: l.All, FrozenBy: l.FrozenBy, FrozenAt: l.FrozenAt, Owner: l.Owner}
		if l.Fault != nil {
			v.Fault = l.Fault.Error()
		}
		if l.Account != nil {
			v.Availability = l.Account.AvailabilityPercent
		}
		if l.Published != nil {
			v.Report = l.Published.ID
		}
		out.Lines = append(out.Lines, v)
	}
	slices.SortStableFunc(out.Lines, func(a, b CloseLine) int { return strings.Compare(a.Agreement.Name, b.Agreement.Name) })
	return &body[Closes]{out}, nil
}

// ClosePage is the close of one period.
type ClosePage struct {
	Agreement   Ref            `json:"agreement"`
	Customer    string         `json:"customer"`
	Service     Ref            `json:"service"`
	Period      OwnPeriod      `json:"period"`
	Timezone    string         `json:"timezone"`
	Target      string         `json:"target_percent"`
	Figures     Figures        `json:"figures"`
	Intervals   []IntervalView `json:"intervals"`
	Questions   []QuestionView `json:"questions"`
	Left        int            `json:"left"`
	Adjustments []AdjustmentIn `json:"adjustments"`
	Seen        string         `json:"seen" doc:"Tells what is shown from what is once something has changed; freezing says which was seen"`
	Frozen      *FrozenView    `json:"frozen,omitempty"`
	Unfrozen    []UnfrozenView `json:"unfrozen" doc:"Earlier freezes, the latest first"`
	Report      string         `json:"report,omitempty" doc:"Id of the latest published report"`
	Owner       *CloseOwner    `json:"owner,omitempty" doc:"Who sees to it; absent: nobody"`
	MayAnswer   bool           `json:"may_answer"`
	MayFreeze   bool           `json:"may_freeze"`
}

// QuestionView is one thing to look at before a period is frozen.
type QuestionView struct {
	Kind       rules.Kind    `json:"kind" enum:"adjustment,coverage,unmeasured,outage,work,edited,incident,late,clock,objection,claim"`
	Key        string        `json:"key"`
	From       *span.Instant `json:"from,omitempty"`
	To         *span.Instant `json:"to,omitempty" doc:"Absent with from: it is not over"`
	MS         int64         `json:"ms"`
	Count      int           `json:"count"`
	Subject    *Ref          `json:"subject,omitempty"`
	Of         string        `json:"of,omitempty" doc:"What subject is"`
	Why        string        `json:"why"`
	Answerable bool          `json:"answerable"`
	Files      []CloseFile   `json:"files" doc:"What people attached"`
	Answer     *AnswerView   `json:"answer,omitempty"`
}

// CloseFile is a file that was attached to a question.
type CloseFile struct {
	ID    int64     `json:"id"`
	Name  string    `json:"name"`
	Type  string    `json:"type"`
	Bytes int32     `json:"bytes"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// CloseOwner is who sees to it that a period is closed.
type CloseOwner struct {
	ID   string    `json:"id"`
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	Mine bool      `json:"mine"`
}

// AnswerView is what was said to a question.
type AnswerView struct {
	Cause string     `json:"cause,omitempty"`
	Text  string     `json:"text"`
	By    string     `json:"by,omitempty" doc:"Absent: what is known besides answers it"`
	At    *time.Time `json:"at,omitempty"`
}

// AdjustmentIn is an adjustment of the period.
type AdjustmentIn struct {
	ID string `json:"id"`
	definition.AdjustmentSpec
	Mine bool `json:"mine" doc:"You proposed it"`
	May  bool `json:"may" doc:"You may approve or refuse it"`
}

// FrozenView is a frozen account.
type FrozenView struct {
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Figures Figures   `json:"figures"`
	Differs []string  `json:"differs" doc:"How the account differs today, as sentences; none where it does not"`
	Turned  bool      `json:"turned" doc:"The verdict would be another today"`
}

// UnfrozenView is a freeze that was taken back.
type UnfrozenView struct {
	By         string    `json:"by"`
	At         time.Time `json:"at"`
	UnfrozenBy string    `json:"unfrozen_by"`
	UnfrozenAt time.Time `json:"unfrozen_at"`
	Reason     string    `json:"reason"`
}

// ClosePath names the close of one period.
type ClosePath struct {
	ByID
	Period string `query:"period" required:"true" minLength:"4" maxLength:"50" doc:"A finished period of the agreement by name, 2026-10"`
}

func (p ClosePath) of() closing.Period { return closing.Period{Agreement: p.ID, Name: p.Period} }

func (s *Server) closeOf(ctx context.Context, in *ClosePath) (*body[ClosePage], error) {
	c, err := s.Close.Look(ctx, in.of())
	if err != nil {
		return nil, err
	}
	spec := c.Snap.Accounting(in.ID, c.Account.From).Spec
	out := ClosePage{Agreement: Ref{in.ID, spec.Name}, Customer: c.Snap.Whom(spec), Service: Ref{c.Account.Service, c.Snap.Named(catalogue.Service, c.Account.Service)},
		Period: ownPeriod(c.Period.Calendar), Timezone: spec.Timezone, Target: string(spec.TargetPercent), Figures: figures(c.Account), Intervals: intervals(c.Account),
		Questions: []QuestionView{}, Adjustments: []AdjustmentIn{}, Unfrozen: []UnfrozenView{}}
	for _, q := range c.Questions {
		v := questionView(c.Snap, q)
		v.Files = []CloseFile{}
		for _, f := range c.Files {
			if f.Key == q.Key {
				v.Files = append(v.Files, CloseFile{f.ID, f.Name, f.Type, f.Bytes, f.MadeBy, f.MadeAt})
			}
		}
		out.Questions = append(out.Questions, v)
	}
	_, out.Left = rules.Left(c.Questions)
	me := who(ctx)
	mayApprove := me.Rights.Over(c.Snap, access.Approve, spec.Service) == nil
	for id, a := range c.Adjustments {
		open := a.State == definition.Proposed
		mine := a.Proposer.ID == me.ID
		out.Adjustments = append(out.Adjustments, AdjustmentIn{id, a, mine, open && mayApprove && !mine})
	}
	slices.SortFunc(out.Adjustments, func(a, b AdjustmentIn) int { return int(a.From - b.From) })
	if out.Seen, err = c.Seen(); err != nil {
		return nil, err
	}
	if d := c.Differs(); d != nil {
		out.Frozen = &FrozenView{c.Frozen.By, c.Frozen.At, figures(&c.Frozen.Content.Account), append([]string{}, d.Words...), d.Turned}
	}
	for _, u := range c.Unfrozen {
		out.Unfrozen = append(out.Unfrozen, UnfrozenView{u.Name, u.FrozenAt, u.UnfrozenName, *u.UnfrozenAt, u.Reason})
	}
	if c.Published != nil {
		out.Report = c.Published.ID
	}
	if o := c.Owner; o != nil {
		out.Owner = &CloseOwner{o.Person, o.Name, o.At, o.Person == me.ID}
	}
	out.MayAnswer = c.Frozen == nil && me.Rights.Over(c.Snap, access.Operate, spec.Service) == nil
	out.MayFreeze = me.Rights.Over(c.Snap, access.Publish, spec.Service) == nil
	return &body[ClosePage]{out}, nil
}

func questionView(snap *catalogue.Snapshot, q rules.Question) QuestionView {
	v := QuestionView{Kind: q.Kind, Key: q.Key, MS: q.MS, Count: q.Count, Of: q.Of, Why: q.Why, Answerable: q.Answerable()}
	if q.Span != (span.Span{}) {
		v.From = &q.Span.From
		if q.Span.To != span.End {
			v.To = &q.Span.To
		}
	}
	if q.Subject != "" {
		name := snap.Named(q.Of, q.Subject)
		switch q.Of {
		case "incident":
			name = "incident " + q.Subject
		case "report":
			name = "the report"
		}
		v.Subject = &Ref{q.Subject, name}
	}
	if a := q.Answer; a != nil {
		v.Answer = &AnswerView{Cause: a.Cause, Text: a.Text}
		if a.By != nil {
			at := a.By.At.Time()
			v.Answer.By, v.Answer.At = a.By.Name, &at
		}
	}
	return v
}

// CloseAnswer answers questions.
type CloseAnswer struct {
	Keys  []string   `json:"keys" minItems:"1" maxItems:"1000" doc:"Of the questions that it answers"`
	Cause string     `json:"cause,omitempty" maxLength:"40" doc:"One of the causes of adjustments, or nothing"`
	Text  string     `json:"text" maxLength:"2000"`
	Seen  *time.Time `json:"seen,omitempty" doc:"When the answer was given that this changes; absent: there was none"`
}

func (s *Server) answerClose(ctx context.Context, in *struct {
	ClosePath
	Body CloseAnswer
}) (*none, error) {
	if err := s.over(ctx, access.Operate, in.ID); err != nil {
		return nil, err
	}
	return nil, closeProblem(s.Close.Answer(ctx, in.of(), closing.Saying(in.Body), by(ctx)))
}

func (s *Server) takeAnswerBack(ctx context.Context, in *struct {
	ClosePath
	Key  string    `query:"key" required:"true" maxLength:"300"`
	Seen time.Time `query:"seen" required:"true" doc:"When the answer was given"`
}) (*none, error) {
	if err := s.over(ctx, access.Operate, in.ID); err != nil {
		return nil, err
	}
	return nil, closeProblem(s.Close.TakeBack(ctx, in.of(), in.Key, in.Seen, by(ctx)))
}

// Freezing says what was seen.
type Freezing struct {
	Seen string `json:"seen" minLength:"1" maxLength:"64"`
}

func (s *Server) freeze(ctx context.Context, in *struct {
	ClosePath
	Body Freezing
}) (*none, error) {
	if err := s.over(ctx, access.Publish, in.ID); err != nil {
		return nil, err
	}
	return nil, closeProblem(s.Close.Freeze(ctx, in.of(), in.Body.Seen, by(ctx)))
}

// Unfreezing says why.
type Unfreezing struct {
	Reason string `json:"reason" maxLength:"500"`
}

func (s *Server) unfreeze(ctx context.Context, in *struct {
	ClosePath
	Body Unfreezing
}) (*none, error) {
	if err := s.over(ctx, access.Publish, in.ID); err != nil {
		return nil, err
	}
	return nil, closeProblem(s.Close.Unfreeze(ctx, in.of(), in.Body.Reason, by(ctx)))
}

// NewAdjustment proposes an adjustment.
type NewAdjustment struct {
	Agreement string       `json:"agreement" minLength:"1" maxLength:"120"`
	Period    string       `json:"period" minLength:"4" maxLength:"50"`
	From      span.Instant `json:"from"`
	To        span.Instant `json:"to"`
	Class     string       `json:"class" enum:"excused,up,degraded,down,unmeasured"`
	Cause     string       `json:"cause,omitempty" enum:"force-majeure,customer,third-party,measurement,other" default:"other"`
	Reason    string       `json:"reason,omitempty" maxLength:"2000"`
	Reference string       `json:"reference,omitempty" maxLength:"200"`
}

func (n NewAdjustment) spec() definition.AdjustmentSpec {
	return definition.AdjustmentSpec{Agreement: n.Agreement, Period: n.Period, From: n.From, To: n.To, Class: n.Class, Cause: n.Cause, Reason: n.Reason, Reference: n.Reference}
}

func (s *Server) proposeAdjustment(ctx context.Context, in *body[NewAdjustment]) (*body[made], error) {
	if err := s.over(ctx, access.Operate, in.Body.Agreement); err != nil {
		return nil, err
	}
	id, err := s.Close.Propose(ctx, in.Body.spec(), by(ctx))
	return &body[made]{made{id}}, closeProblem(err)
}

// WouldAdjust are the figures before and after an adjustment.
type WouldAdjust struct {
	Before  Figures  `json:"before"`
	After   Figures  `json:"after"`
	Differs []string `json:"differs" doc:"What it would change, as sentences; none where it would change nothing"`
}

func (s *Server) wouldAdjust(ctx context.Context, in *body[NewAdjustment]) (*body[WouldAdjust], error) {
	if err := s.over(ctx, access.Operate, in.Body.Agreement); err != nil {
		return nil, err
	}
	if in.Body.To <= in.Body.From {
		return nil, definition.Faultf("to", "is not after its beginning; give it a later end")
	}
	before, after, err := s.Close.Would(ctx, in.Body.spec())
	if err != nil {
		return nil, closeProblem(err)
	}
	return &body[WouldAdjust]{WouldAdjust{figures(before), figures(after), append([]string{}, rules.Change(before, after).Words...)}}, nil
}

func (s *Server) decideAdjustment(ctx context.Context, in *struct {
	ByID
	Body WorkDecision
}) (*none, error) {
	state := map[string]string{"approve": definition.Approved, "refuse": definition.Refused, "withdraw": definition.Withdrawn}[in.Body.Does]
	err := s.Close.Decide(ctx, in.ID, state, in.Body.Note, by(ctx), who(ctx).Rights)
	var fault *definition.Fault
	if errors.As(err, &fault) && fault.Path == "state" {
		return nil, huma.Error409Conflict("It cannot be: " + fault.Message + ".")
	}
	return nil, closeProblem(err)
}

// closeProblem says what keeps a close from what was asked of it.
func closeProblem(err error) error {
	var open *closing.OpenError
	switch {
	case errors.As(err, &open), errors.Is(err, closing.ErrFrozen), errors.Is(err, closing.ErrNotFrozen), errors.Is(err, closing.ErrMoved):
		return huma.Error409Conflict(fmt.Sprintf("It cannot be: %s.", err))
	}
	return err
}
