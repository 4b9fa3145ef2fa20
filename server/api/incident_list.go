package api

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/store/gen/db"
)

// IncidentPage is a part of the incidents.
type IncidentPage struct {
	Items []IncidentView `json:"items"`
	Next  string         `json:"next,omitempty" doc:"Give it as before for those that come after these; absent: there are no more"`
	Open  int64          `json:"open" doc:"How many are open at all, without those that follow one"`
}

// IncidentFilter narrows the incidents.
type IncidentFilter struct {
	Open     string `query:"open" enum:"true,false," doc:"Only those that are open, or that are not"`
	Reviewed string `query:"reviewed" enum:"true,false,"`
	All      bool   `query:"all" doc:"Those that follow one too, each by itself"`
	About    string `query:"about" enum:"service,check,location,agreement,"`
	Service  string `query:"service" maxLength:"120" doc:"Id of a service: its own, and those of its checks"`
	Severity string `query:"severity" enum:"critical,major,minor,"`
	Assignee string `query:"assignee" maxLength:"60" doc:"Id of a person"`
	Class    string `query:"class" maxLength:"20" doc:"What the review says that it was"`
	Find     string `query:"find" maxLength:"200" doc:"Words that all occur in its names, notes or review"`
	From     string `query:"from" maxLength:"40" doc:"Only those that were not over then, as 2006-01-15T08:00:00Z"`
	To       string `query:"to" maxLength:"40" doc:"Only those that began before then"`
}

// params are what a filter asks the store for.
func (f IncidentFilter) params(snap *catalogue.Snapshot) (db.IncidentListParams, error) {
	out := db.IncidentListParams{Open: whether(f.Open), Reviewed: whether(f.Reviewed), About: given(f.About), Severity: given(f.Severity),
		Assignee: given(f.Assignee), Class: given(f.Class)}
	if !f.All {
		yes := true
		out.Root = &yes
	}
	if f.Service != "" {
		if snap.Services[f.Service] == nil {
			return out, definition.Faultf("query.service", "%q names no service", f.Service)
		}
		out.Subjects = append([]string{f.Service}, snap.ChecksOf[f.Service]...)
	}
	if words := strings.Fields(strings.Map(wordly, f.Find)); len(words) > 0 {
		for n := range words {
			words[n] += ":*"
		}
		find := strings.Join(words, " & ")
		out.Words = &find
	} else if strings.TrimSpace(f.Find) != "" {
		none := "" // it has no word that could be found
		out.Words = &none
	}
	for text, at := range map[*string]**time.Time{&f.From: &out.FromAt, &f.To: &out.ToAt} {
		if *text == "" {
			continue
		}
		i, err := span.ParseInstant(*text)
		if err != nil {
			return out, definition.Faultf("query.from", "%v", err)
		}
		t := i.Time()
		*at = &t
	}
	return out, nil
}

// wordly leaves of what is looked for what a word is made of: the rest would be operators.
func wordly(r rune) rune {
	if r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f && r != 0xfffd {
		return r
	}
	return ' '
}

func whether(text string) *bool {
	if text == "" {
		return nil
	}
	is := text == "true"
	return &is
}

func given(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// before reads where a page begins: the instant and the number of the last one before it.
func before(text string, p *db.IncidentListParams) error {
	if text == "" {
		return nil
	}
	at, id, _ := strings.Cut(text, ".")
	ms, err := strconv.ParseInt(at, 10, 64)
	number, err2 := strconv.ParseInt(id, 10, 64)
	if err != nil || err2 != nil || ms < 0 || ms > int64(4e14) {
		return definition.Faultf("query.before", "is not what a page gave as next; leave it away to begin anew")
	}
	t := span.Instant(ms).Time()
	p.BeforeAt, p.BeforeID = &t, &number
	return nil
}

func (s *Server) incidentList(ctx context.Context, in *struct {
	IncidentFilter
	Before string `query:"before" maxLength:"60" doc:"What a page gave as next"`
	Most   int32  `query:"most" minimum:"1" maximum:"200" default:"50"`
}) (*body[IncidentPage], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := in.params(snap)
	if err != nil {
		return nil, err
	}
	if err := before(in.Before, &p); err != nil {
		return nil, err
	}
	p.Most = in.Most + 1
	rows, err := s.Store.IncidentList(ctx, p)
	if err != nil {
		return nil, err
	}
	var out IncidentPage
	if len(rows) > int(in.Most) {
		rows = rows[:in.Most]
		last := rows[len(rows)-1]
		out.Next = fmt.Sprintf("%d.%d", last.BeganAt.UnixMilli(), last.ID)
	}
	if out.Items, err = s.incidentViews(ctx, snap, rows); err != nil {
		return nil, err
	}
	out.Open, err = s.Store.CountOpenIncidents(ctx)
	return &body[IncidentPage]{out}, err
}

func (s *Server) exportIncidents(ctx context.Context, in *IncidentFilter) (*huma.StreamResponse, error) {
	in.All = true
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := in.params(snap)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="incidents.csv"`)
		table := csv.NewWriter(hc.BodyWriter())
		table.Write([]string{"number", "about", "subject", "name", "severity", "phase", "worst", "began_at", "known_at", "ended_at", "lasted_ms", "times",
			"unfounded", "cause", "acknowledged_by", "assignee", "resolved_by", "class", "reviewed_cause", "action"})
		for p.Most = 200; ; {
			rows, err := s.Store.IncidentList(ctx, p)
			var views []IncidentView
			if err == nil {
				views, err = s.incidentViews(ctx, snap, rows)
			}
			if err != nil {
				if ctx.Err() == nil {
					s.Log.Error("the incidents were exported in part only", "error", err)
				}
				panic(http.ErrAbortHandler) // the reader sees that the end is missing
			}
			for _, v := range views {
				table.Write(v.line())
			}
			if table.Flush(); len(rows) < int(p.Most) || table.Error() != nil {
				return
			}
			last := rows[len(rows)-1]
			p.BeforeAt, p.BeforeID = &last.BeganAt, &last.ID
		}
	}}, nil
}

// line is an incident as a row of a spreadsheet.
func (v IncidentView) line() []string {
	out := []string{fmt.Sprint(v.ID), v.About, v.Subject, v.Name, v.Severity, string(v.Phase), v.Worst, v.BeganAt.String(), v.KnownAt.String(), "",
		fmt.Sprint(v.LastedMS), fmt.Sprint(v.Times), fmt.Sprint(v.Unfounded), "", "", v.AssigneeName, v.ResolvedBy, "", "", ""}
	if v.EndedAt != nil {
		out[9] = v.EndedAt.String()
	}
	if v.Cause != 0 {
		out[13] = fmt.Sprint(v.Cause)
	}
	if v.Acknowledged != nil {
		out[14] = v.Acknowledged.By
	}
	if v.Review != nil {
		out[17], out[18], out[19] = v.Review.Class, v.Review.Cause, v.Review.Action
	}
	return spreadsheet(out...)
}
