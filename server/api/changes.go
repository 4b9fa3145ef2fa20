package api

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/proposal"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/defining"
	"kestite/server/history"
)

// ChangeAsk asks for a change of definitions, or what it would do.
type ChangeAsk struct {
	Steps []StepAsk `json:"steps" minItems:"1" maxItems:"500" doc:"Each upon those before it; all are done, or none"`
	ChangeWay
}

// ChangeWay is how a change is asked for.
type ChangeWay struct {
	Reason  string `json:"reason,omitempty" maxLength:"500"`
	Preview bool   `json:"preview,omitempty" doc:"Say what it would do, and do nothing"`
	Key     string `json:"key,omitempty" maxLength:"100" doc:"Your own name of the change: asked for again with it within a week, it is made once"`
}

// StepAsk is one step of a change.
type StepAsk struct {
	Does     string          `json:"does" enum:"make,edit,retire,restore"`
	Kind     string          `json:"kind" enum:"location,service,check,agreement,window,network,credential,kit,pair-plan"`
	ID       string          `json:"id,omitempty" maxLength:"80" doc:"Of what is there; of something new its id, absent: made of its name"`
	Revision int             `json:"revision,omitempty" minimum:"0" doc:"Of an edit: the revision it was made on. Of a retirement the same, or absent"`
	Spec     json.RawMessage `json:"spec,omitempty" doc:"What it is to be, as under its kind's own path. A reference such as service may be $0, $1 …: what that step makes"`
	Corrects string          `json:"corrects,omitempty" maxLength:"50" doc:"Of an edit of an agreement: the period from which a correction counts"`
	Reason   string          `json:"reason,omitempty" maxLength:"500" doc:"In place of the change's"`
}

// ChangeView is what a change did, or would do.
type ChangeView struct {
	Done     bool          `json:"done" doc:"It was made, now or before"`
	Repeated bool          `json:"repeated" doc:"It was made before with the same key; ids are those of then"`
	IDs      []string      `json:"ids" doc:"Of the definition of each step"`
	Writes   []WriteView   `json:"writes" doc:"All that it writes, with what follows from its steps"`
	Before   proposal.Load `json:"before" doc:"What the checks it touches cost before"`
	After    proposal.Load `json:"after" doc:"What they cost then"`
	Accounts []AccountView `json:"accounts" doc:"Of a preview: the present period of the agreements that it makes or edits, by their new clauses"`
}

// WriteView is what a change writes of one definition.
type WriteView struct {
	Does     string        `json:"does" enum:"make,edit,retire,restore"`
	Kind     string        `json:"kind"`
	ID       string        `json:"id"`
	Name     string        `json:"name"`
	Revision int           `json:"revision" doc:"The revision that begins; 0: none"`
	Counts   *span.Instant `json:"counts_from,omitempty" doc:"Of an agreement: start of the first period that it accounts"`
	Follows  bool          `json:"follows" doc:"It follows from another step"`
	Fields   []string      `json:"fields" doc:"What of the spec differs from before"`
}

// deeds by their names.
var deeds = map[string]catalogue.Deed{
	"make": catalogue.Make, "edit": catalogue.Rewrite, "retire": catalogue.Retire, "restore": catalogue.Restore,
}

func deedName(d catalogue.Deed) string {
	for name, of := range deeds {
		if of == d {
			return name
		}
	}
	return ""
}

func (s *Server) changeRoutes(a *operations) {
	on(a, access.Operate, http.MethodPost, "/changes", "change",
		"Change definitions: any number of steps, all or none, or see what that would do", s.changeAll)
	on(a, access.Define, http.MethodPost, "/proposals/take", "take-proposal",
		"Make a service of what was proposed for its address, with its checks and what was promised: all or none, or see what that would do", s.take)
}

func (s *Server) changeAll(ctx context.Context, in *body[ChangeAsk]) (*body[ChangeView], error) {
	ask := in.Body
	for i, step := range ask.Steps {
		if err := who(ctx).Rights.Needs(access.ToChange(step.Kind)); err != nil {
			return nil, huma.Error403Forbidden(fmt.Sprintf("Step %d, on a %s: %v", i, step.Kind, err))
		}
		if step.Does == "edit" && step.Revision < 1 {
			return nil, invalid(fmt.Sprintf("steps[%d].revision", i), "is missing; say which revision the edit was made on")
		}
	}
	view, err := s.makeChange(ctx, ask.ChangeWay, ask, func(snap *catalogue.Snapshot) ([]catalogue.Step,
		error) {
		return stepsOf(snap, ask.Steps)
	})
	var at *catalogue.StepError
	if errors.As(err, &at) {
		var fault *definition.Fault
		if errors.As(err, &fault) {
			return nil, definition.Within(fmt.Sprintf("steps[%d]", at.Index), inSpec(err))
		}
	}
	return view, err
}

// makeChange makes a change, or says what it would do. asked is what tells it from
// others with the same key.
func (s *Server) makeChange(ctx context.Context, way ChangeWay, asked any, steps defining.Steps) (*body[ChangeView], error) {
	ch := s.change(ctx, way.Reason)
	if way.Preview {
		plan, err := s.Definitions.Preview(ctx, ch, steps)
		if err != nil {
			return nil, err
		}
		view := viewOf(plan)
		if view.Accounts, err = s.accountsAfter(ctx, plan); err != nil {
			return nil, err
		}
		return &body[ChangeView]{view}, nil
	}
	if ch.Key = way.Key; ch.Key != "" {
		text, err := json.Marshal(asked)
		if err != nil {
			return nil, err
		}
		digest := sha256.Sum256(text)
		ch.Digest = digest[:]
	}
	plan, repeated, err := s.Definitions.ApplyFrom(ctx, ch, steps)
	if errors.Is(err, defining.ErrOtherChange) {
		return nil, invalid("key", err.Error())
	}
	if err != nil {
		return nil, err
	}
	if repeated != nil {
		return &body[ChangeView]{ChangeView{Done: true, Repeated: true, IDs: repeated, Writes: []WriteView{},
			Accounts: []AccountView{}}}, nil
	}
	view := viewOf(plan)
	view.Done = true
	return &body[ChangeView]{view}, nil
}

// stepsOf reads the steps of a change, with what they say of one another.
func stepsOf(snap *catalogue.Snapshot, asks []StepAsk) ([]catalogue.Step, error) {
	out := make([]catalogue.Step, len(asks))
	ids := make([]string, len(asks))
	taken := map[string]bool{}
	for i, a := range asks {
		step := catalogue.Step{Does: deeds[a.Does], Kind: a.Kind, ID: a.ID, Expected: a.Revision, Corrects: a.Corrects, Reason: a.Reason}
		fail := func(err error) ([]catalogue.Step, error) { return nil, &catalogue.StepError{Index: i, Err: err} }
		if len(a.Spec) > 0 {
			text, err := resolved(a.Spec, ids[:i])
			if err != nil {
				return fail(err)
			}
			if step.Spec, err = catalogue.Read(a.Kind, text); err != nil {
				return fail(err)
			}
		}
		if step.Does == catalogue.Make && step.ID == "" && step.Spec != nil {
			step.ID = snap.FreshID(a.Kind, step.Spec.Called(), taken)
		}
		taken[a.Kind+" "+step.ID] = true
		out[i], ids[i] = step, step.ID
	}
	return out, nil
}

// referring are the fields that name other definitions, beside lists of them.
var referring = []string{"service", "services", "check", "location", "locations", "credential", "excuse", "a", "b", "owner", "customer",
	"contract", "holiday_lists"}

var placeholder = regexp.MustCompile(`^\$(\d{1,3})$`)

// resolved puts the ids of the steps before into the fields of a spec that name
// them as $0, $1 …
func resolved(spec json.RawMessage, ids []string) (json.RawMessage, error) {
	var v any
	if err := json.Unmarshal(spec, &v); err != nil {
		return nil, definition.Faultf("spec", "it cannot be read: %v", err)
	}
	changed := false
	var walk func(field string, v any) (any, error)
	walk = func(field string, v any) (any, error) {
		var err error
		switch v := v.(type) {
		case map[string]any:
			for name, of := range v {
				if v[name], err = walk(name, of); err != nil {
					return nil, err
				}
			}
		case []any:
			for i, of := range v {
				if v[i], err = walk(field, of); err != nil {
					return nil, err
				}
			}
		case string:
			at := placeholder.FindStringSubmatch(v)
			if at == nil || !slices.Contains(referring, field) {
				return v, nil
			}
			n, _ := strconv.Atoi(at[1]) // digits, by the pattern
			if n >= len(ids) {
				return nil, definition.Faultf(field, "%s names no step before this one", v)
			}
			changed = true
			return ids[n], nil
		}
		return v, nil
	}
	if v, err := walk("", v); err != nil || changed {
		if err != nil {
			return nil, err
		}
		return json.Marshal(v)
	}
	return spec, nil
}

// viewOf is a plan as people see it.
func viewOf(p *catalogue.Plan) ChangeView {
	out := ChangeView{IDs: p.IDs, Writes: make([]WriteView, 0, len(p.Writes)), Accounts: []AccountView{}}
	for _, w := range p.Writes {
		view := WriteView{
			Does: deedName(w.Does), Kind: w.Kind, ID: w.ID, Name: p.After.Named(w.Kind, w.ID), Revision: w.Opens, Counts: w.Counts,
			Follows: w.Follows, Fields: differing(w.Before, w.Spec),
		}
		out.Writes = append(out.Writes, view)
		if c, is := w.Before.(definition.CheckSpec); is {
			out.Before = out.Before.Plus(proposal.LoadOf(c))
		}
		if c, is := w.Spec.(definition.CheckSpec); is {
			out.After = out.After.Plus(proposal.LoadOf(c))
		}
	}
	return out
}

// differing are the fields in which two specs differ, in order; none where there
// is only one of them.
func differing(before, since catalogue.Spec) []string {
	out := []string{}
	if before == nil || since == nil {
		return out
	}
	fields := func(spec catalogue.Spec) map[string]json.RawMessage {
		text, err := json.Marshal(spec)
		m := map[string]json.RawMessage{}
		if err != nil || json.Unmarshal(text, &m) != nil {
			return nil
		}
		return m
	}
	a, b := fields(before), fields(since)
	for name := range b {
		if string(a[name]) != string(b[name]) {
			out = append(out, name)
		}
	}
	for name := range a {
		if _, still := b[name]; !still {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// accountsAfter are the accounts of the present period of the agreements that a
// change makes or edits, by what they say then.
func (s *Server) accountsAfter(ctx context.Context, p *catalogue.Plan) ([]AccountView, error) {
	out := []AccountView{}
	for _, w := range p.Writes {
		spec, is := w.Spec.(definition.AgreementSpec)
		if !is || len(out) == mostPreviewed {
			continue
		}
		now := span.Of(s.Now())
		period, err := p.After.PeriodAt(w.ID, now)
		if err != nil {
			return nil, err
		}
		open, err := s.Books.Open(ctx, p.After, period, now, nil, []string{w.ID})
		var a *account.Account
		if err == nil {
			var clauses definition.Agreement
			if clauses, err = p.After.Promise(w.ID, spec); err == nil {
				clauses.From, clauses.Until = open.Bundle.Agreements[0].From, open.Bundle.Agreements[0].Until
				a, err = open.Evidence.Account(clauses)
			}
		}
		if history.Incomputable(err) {
			out = append(out, accountView(ctx, p.After, accounting.Row{Agreement: w.ID, Fault: err}))
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, accountView(ctx, p.After, accounting.RowOf(p.After, a, period)))
	}
	return out, nil
}

// mostPreviewed is how many accounts a preview makes.
const mostPreviewed = 20

// Take asks for a service of what was proposed for its address.
type Take struct {
	Service   string           `json:"service,omitempty" doc:"One that is there already, by id; absent: a new one"`
	Name      string           `json:"name,omitempty" maxLength:"80" doc:"Of a new one"`
	Kind      string           `json:"kind,omitempty" enum:"business,supporting,supplier" default:"business"`
	Owner     string           `json:"owner,omitempty" maxLength:"120" doc:"Id of a team"`
	Taken     []proposal.Taken `json:"taken" minItems:"1" maxItems:"20"`
	IntervalS int64            `json:"interval_s" minimum:"5" maximum:"86400"`
	Locations []string         `json:"locations" minItems:"1" maxItems:"50"`
	Promised  *Promise         `json:"promised,omitempty" doc:"Absent: nothing"`
	ChangeWay
}

// Promise is what was promised of a new service.
type Promise struct {
	TargetPercent definition.Percent `json:"target_percent"`
	Customer      string             `json:"customer,omitempty" maxLength:"120" doc:"Id of a customer; empty: an internal target"`
}

func (s *Server) take(ctx context.Context, in *body[Take]) (*body[ChangeView], error) {
	ask := in.Body
	view, err := s.makeChange(ctx, ask.ChangeWay, ask, func(snap *catalogue.Snapshot) ([]catalogue.Step,
		error) {
		return s.taking(snap, ask)
	})
	var at *catalogue.StepError
	if errors.As(err, &at) {
		return nil, takenFault(ask, at)
	}
	return view, err
}

// taking are the steps that make a service of what was proposed.
func (s *Server) taking(snap *catalogue.Snapshot, ask Take) ([]catalogue.Step, error) {
	w := proposal.Wanted{
		Service: ask.Service, Taken: ask.Taken, IntervalS: ask.IntervalS, Locations: ask.Locations,
		Spec: definition.ServiceSpec{Name: ask.Name, Kind: ask.Kind, Owner: ask.Owner, Combine: definition.Worst},
	}
	if w.Spec.Kind == "" {
		w.Spec.Kind = definition.Business
	}
	name := ask.Name
	if ask.Service != "" {
		e := snap.Services[ask.Service]
		if e == nil || e.Retired {
			return nil, definition.Faultf("service", "%q names no service", ask.Service)
		}
		w.Defaults, name = e.Current().Spec.Defaults, e.Current().Spec.Name
	}
	if p := ask.Promised; p != nil {
		w.Agreement = &definition.AgreementSpec{
			Name: name, Customer: p.Customer, Timezone: snap.Timezone, TargetPercent: p.TargetPercent,
			DegradedWeightPercent: "0", MinCoveragePercent: "0", Unmeasured: definition.UnmeasuredExclude,
		}
	}
	return w.Steps(snap.FreshID(catalogue.Service, ask.Name, nil)), nil
}

// takenFault says of a fault in a step where in the request it came from.
func takenFault(ask Take, at *catalogue.StepError) error {
	n := at.Index
	if ask.Service == "" {
		if n == 0 {
			return at.Err // the service's own fields
		}
		n--
	}
	if n < len(ask.Taken) {
		return definition.Within(fmt.Sprintf("taken[%d]", n), at.Err)
	}
	return definition.Within("promised", at.Err)
}
