package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/server/api"
	"kestite/server/report"
	"kestite/server/servertest"
)

// A volume has the published reports of a customer, a contract or all for a period, says
// which are not published, and stays as it was made; only those see it who see its reports.
func TestVolumes(t *testing.T) {
	f, id, month, _, _ := closeOf(t)
	contract := f.manager.Create("/contracts", map[string]any{"name": "Board and gates", "customer": "passenger-division"})
	layout := f.manager.Create("/layouts", map[string]any{"name": "Short", "sections": []string{"time", "incidents"}, "show": "tables"})
	second := f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) {
		s["name"], s["from"], s["contract"], s["fee"], s["target_percent"] = "Sailing board", "2026-01-01", contract, map[string]any{"amount": "1000.00", "currency": "NOK"}, "99"
	}))
	f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) { s["name"], s["customer"], s["from"] = "Our own target", "", "2026-01-01" }))
	f.manager.Create("/customers", map[string]any{"name": "Freight desk"})
	make := func(kind, of string) servertest.Answer {
		return f.manager.Do(http.MethodPost, "/volumes", map[string]any{"kind": kind, "of": of, "span": month})
	}
	refused(t, "a volume of nothing", make("all", ""), 422, "publish its reports first")
	publish(t, f.manager, id, month)
	publish(t, f.manager, second, month)
	refused(t, "of no customer", make("customer", "no-such"), 404, "")
	refused(t, "of a contract without a name", make("contract", ""), 404, "")
	refused(t, "of no period", f.manager.Do(http.MethodPost, "/volumes", map[string]any{"kind": "all", "span": "soon"}), 422, "")
	refused(t, "by a viewer", servertest.With(t, f.srv, f.url, "v", access.Rights{Role: access.Viewer}).Do(http.MethodPost, "/volumes", map[string]any{"kind": "all", "span": month}), 403, "publish")

	of := map[string]string{}
	for kind, subject := range map[string]string{"all": "", "customer": "passenger-division", "contract": contract} {
		var out struct{ ID string }
		if err := json.Unmarshal(make(kind, subject).Body, &out); err != nil || out.ID == "" {
			t.Fatalf("%s: %v", kind, err)
		}
		of[kind] = out.ID
	}
	take := func(c *servertest.Client, id, format string) servertest.Answer {
		return c.Do(http.MethodGet, "/volumes/"+id+"/document?format="+format, nil)
	}
	for kind, want := range map[string][]string{"all": {"Of 2 targets", "Ticket sales", "Sailing board", "Not published", "Our own target"}, "customer": {"Of 2 targets", "Ticket sales", "Sailing board"}, "contract": {"Sailing board", "Board and gates"}} {
		text := servertest.PDFText(t, take(f.manager, of[kind], "pdf").Body)
		for _, w := range want {
			if !strings.Contains(text, w) {
				t.Errorf("%s does not say %q: %s", kind, w, text)
			}
		}
		if kind != "all" && strings.Contains(text, "Our own target") {
			t.Errorf("%s tells of an internal target", kind)
		}
	}
	// What it says is what was published, figure by figure.
	var v report.Volume
	if err := json.Unmarshal(take(f.manager, of["customer"], "json").Body, &v); err != nil || len(v.Parts) != 2 {
		t.Fatalf("%d parts, %v", len(v.Parts), err)
	}
	for _, p := range v.Parts {
		var page api.ReportPage
		f.manager.Must(http.MethodGet, "/reports/"+p.Report, nil, &page)
		var published, bound any
		if json.Unmarshal(f.manager.Do(http.MethodGet, "/reports/"+p.Report+"/document?format=json", nil).Body, &published) != nil {
			t.Fatal("a report's JSON")
		}
		text, _ := json.Marshal(p.Content)
		json.Unmarshal(text, &bound)
		a, _ := json.Marshal(published)
		b, _ := json.Marshal(bound)
		if string(a) != string(b) || p.Code != page.Seal.Code || p.Number != page.Seal.Number {
			t.Errorf("a part of the volume is not what was published: %s, %s", a, b)
		}
	}
	page := string(take(f.manager, of["all"], "html").Body)
	if !strings.HasPrefix(page, "<!doctype html>") || strings.Contains(page, "http") || strings.Contains(page, "<script") || strings.Count(page, "<article>") != 2 {
		t.Errorf("%s", page)
	}

	// Customers see what is theirs.
	mine := servertest.With(t, f.srv, f.url, "tove", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	theirs := servertest.With(t, f.srv, f.url, "nils", access.Rights{Role: access.Customer, Customer: "freight-desk"})
	for kind, seen := range map[string]bool{"all": false, "customer": true, "contract": true} {
		if a := take(mine, of[kind], "pdf"); (a.Status == 200) != seen {
			t.Errorf("a customer takes the volume of %s: %d", kind, a.Status)
		}
		if a := take(theirs, of[kind], "pdf"); a.Status != 404 {
			t.Errorf("another customer takes the volume of %s: %d", kind, a.Status)
		}
	}
	var list struct{ Items []api.VolumeView }
	mine.Must(http.MethodGet, "/volumes", nil, &list)
	if len(list.Items) != 2 {
		t.Errorf("a customer sees %+v", list.Items)
	}
	refused(t, "a stranger", take(servertest.Anonymous(t, f.url), of["all"], "pdf"), 401, "")

	// Another layout shows no section that a report had not looked up.
	var short struct{ ID string }
	f.manager.Must(http.MethodPost, "/volumes", map[string]any{"kind": "contract", "of": contract, "span": month, "layout": layout}, &short)
	if text := servertest.PDFText(t, take(f.manager, short.ID, "pdf").Body); strings.Contains(text, "What was promised") || !strings.Contains(text, "The period's time") {
		t.Errorf("%s", text)
	}
	if a := f.srv.API.Store.Pool; a != nil {
		if _, err := a.Exec(t.Context(), "UPDATE volume SET digest = 'x'"); err == nil {
			t.Error("a volume was changed")
		}
	}
}
