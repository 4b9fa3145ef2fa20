package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

func (s *Server) trailRoutes(a *operations) {
	on(a, access.Audit, http.MethodGet, "/trail", "trail", "What was done, by whom, newest first", s.readTrail)
	on(a, access.Audit, http.MethodGet, "/trail/actions", "trail-actions", "What can be filtered by",
		func(ctx context.Context, _ *none) (*list[string], error) {
			actions, err := s.Store.TrailActions(ctx)
			return items(actions), err
		})
	on(a, access.Audit, http.MethodGet, "/trail/export", "export-trail",
		"All of it that the filter lets through, as CSV or JSON lines", s.exportTrail)
}

// did writes down what who asks did.
func (s *Server) did(ctx context.Context, action, subject string, detail any) error {
	return trail.Add(ctx, s.Store.Queries, trail.Entry{By: by(ctx), Action: action, Subject: subject, Detail: detail})
}

// TrailLine is one deed.
type TrailLine struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Person  string          `json:"person,omitempty" doc:"Id of the person; empty where it was nobody known"`
	Name    string          `json:"name" doc:"Who it is, by today's name; of somebody erased, the id alone tells"`
	Action  string          `json:"action"`
	Subject string          `json:"subject" doc:"What it was done to: a kind and an id"`
	Of      string          `json:"of,omitempty" doc:"The name today of what it was done to"`
	Source  string          `json:"source" doc:"Network address it was done from"`
	Before  json.RawMessage `json:"before,omitempty" doc:"What was there before, where something was changed"`
	Detail  json.RawMessage `json:"detail,omitempty" doc:"What is there since, or what was asked for"`
}

// TrailFilter says which lines are wanted.
type TrailFilter struct {
	Person  string    `query:"person" maxLength:"36" doc:"Id of the person who did it"`
	Action  string    `query:"action" maxLength:"60"`
	Subject string    `query:"subject" maxLength:"200" doc:"A kind and an id, or a kind alone"`
	From    time.Time `query:"from" doc:"RFC 3339; absent: from the beginning"`
	To      time.Time `query:"to" doc:"RFC 3339, exclusive; absent: to the end"`
}

func (f TrailFilter) params(below int64, most int32) db.TrailParams {
	p := db.TrailParams{Below: below, Person: f.Person, Action: f.Action, Subject: likeable(f.Subject), FromAt: f.From, ToAt: f.To,
		Most: most}
	if p.ToAt.IsZero() {
		p.ToAt = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return p
}

// likeable is a text in which nothing stands for something else in LIKE.
func likeable(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}

func (s *Server) readTrail(ctx context.Context, in *struct {
	TrailFilter
	Before int64 `query:"before" minimum:"0" doc:"Only what came before the line of this id; 0: from the newest on"`
	Limit  int32 `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*list[TrailLine], error) {
	below := in.Before
	if below == 0 {
		below = math.MaxInt64
	}
	lines, err := s.trailLines(ctx, in.params(below, in.Limit))
	return items(lines), err
}

func (s *Server) trailLines(ctx context.Context, p db.TrailParams) ([]TrailLine, error) {
	rows, err := s.Store.Trail(ctx, p)
	if err != nil {
		return nil, err
	}
	named, err := s.subjectNames(ctx, rows)
	if err != nil {
		return nil, err
	}
	out := make([]TrailLine, len(rows))
	for i, r := range rows {
		l := TrailLine{ID: r.ID, At: r.At, Name: r.Actor, Action: r.Action, Subject: r.Subject, Of: named[r.Subject],
			Source: r.Source, Before: r.Before, Detail: r.Detail}
		if r.PersonID != nil {
			if l.Person, l.Name = *r.PersonID, r.Name; l.Name == "" {
				l.Name = "erased person " + l.Person[:8]
			}
		}
		out[i] = l
	}
	return out, nil
}

// subjectNames are the names today of what lines are about, by subject.
func (s *Server) subjectNames(ctx context.Context, rows []db.TrailRow) (map[string]string, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	ids := map[string][]string{} // by kind, of what is no definition
	for _, r := range rows {
		kind, id, _ := strings.Cut(r.Subject, " ")
		if isUUID(id) {
			ids[kind] = append(ids[kind], id)
		} else if name := snap.Named(kind, id); name != id {
			out[r.Subject] = name
		}
	}
	people, err := s.Store.PeopleNames(ctx, ids["person"])
	if err != nil {
		return nil, err
	}
	for _, p := range people {
		out["person "+p.ID] = p.Name
	}
	agents, err := s.Store.AgentPlaces(ctx, ids["agent"])
	if err != nil {
		return nil, err
	}
	for _, a := range agents {
		out["agent "+a.ID] = "at " + snap.Named(catalogue.Location, a.Location)
	}
	reports, err := s.Store.ReportNames(ctx, ids["report"])
	for _, r := range reports {
		out["report "+r.ID] = fmt.Sprintf("%d of %s, %s", r.Number, snap.Named(catalogue.Agreement, r.Agreement),
			report.PeriodWords(r.Period))
	}
	return out, err
}

// exportTrail streams the trail: it may be longer than memory.
func (s *Server) exportTrail(ctx context.Context, in *struct {
	TrailFilter
	Format string `query:"format" enum:"csv,jsonl" default:"csv"`
}) (*huma.StreamResponse, error) {
	filter := map[string]any{"format": in.Format, "person": in.Person, "action": in.Action, "subject": in.Subject, "from": in.From,
		"to": in.To}
	if err := s.did(ctx, "export", "trail", filter); err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		name, kind := "trail.csv", "text/csv; charset=utf-8"
		if in.Format == "jsonl" {
			name, kind = "trail.jsonl", "application/jsonl"
		}
		hc.SetHeader("Content-Type", kind)
		hc.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
		if err := s.writeTrail(ctx, hc.BodyWriter(), in.TrailFilter, in.Format); err != nil && ctx.Err() == nil {
			s.Log.Error("the trail was exported in part only", "error", err)
			panic(http.ErrAbortHandler) // the reader sees that the end is missing
		}
	}}, nil
}

func (s *Server) writeTrail(ctx context.Context, w io.Writer, f TrailFilter, format string) error {
	const page = 1000
	table := csv.NewWriter(w)
	if format == "csv" {
		table.Write([]string{"id", "at", "person", "name", "action", "subject", "name of subject", "source", "before", "detail"})
	}
	for below := int64(math.MaxInt64); ; {
		lines, err := s.trailLines(ctx, f.params(below, page))
		if err != nil {
			return err
		}
		for _, l := range lines {
			below = l.ID
			if format == "jsonl" {
				err = json.NewEncoder(w).Encode(l)
			} else {
				err = table.Write(spreadsheet(strconv.FormatInt(l.ID, 10), l.At.UTC().Format(time.RFC3339Nano), l.Person, l.Name,
					l.Action, l.Subject, l.Of, l.Source, string(l.Before), string(l.Detail)))
			}
			if err != nil {
				return err
			}
		}
		if table.Flush(); table.Error() != nil {
			return table.Error()
		}
		if len(lines) < page {
			return nil
		}
	}
}

// spreadsheet keeps fields from being taken for formulas by a program that opens them.
func spreadsheet(fields ...string) []string {
	for i, f := range fields {
		if f != "" && strings.ContainsRune("=+-@\t\r", rune(f[0])) {
			fields[i] = "'" + f
		}
	}
	return fields
}
