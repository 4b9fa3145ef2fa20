package api_test

import (
	"net/http"
	"regexp"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/server/api"
	"kestite/server/servertest"
)

// A published report is sent to those whom its customer names, once, with a link and the
// chain's code; the link opens what was published and nothing else until it is revoked.
func TestReportsAreSentAndOpenedByLink(t *testing.T) {
	f, id, month, _, _ := closeOf(t)
	contact := f.manager.Create("/contact-methods", map[string]any{"name": "Division's office", "kind": "mail", "address": "office@division.example"})
	f.manager.Must(http.MethodPut, "/customers/passenger-division", f.manager.Edit("/customers/passenger-division", map[string]any{"name": "Passenger division",
		"tell": []any{map[string]any{"contact": contact}}}), nil)
	refused(t, "retiring whom a customer is told by", f.manager.Do(http.MethodDelete, "/contact-methods/"+contact+"", nil), 422, "is sent its reports by it")
	report := publish(t, f.manager, id, month)

	var sent struct {
		Items []struct{ Subject, Text, Address string }
	}
	f.manager.Must(http.MethodGet, "/deliveries", nil, &sent)
	if len(sent.Items) != 1 || !strings.HasPrefix(sent.Items[0].Subject, "Report 1: Ticket sales, ") {
		t.Fatalf("sent: %+v", sent.Items)
	}
	var page api.ReportPage
	f.manager.Must(http.MethodGet, "/reports/"+report, nil, &page)
	var text string
	if err := f.srv.API.Store.Pool.QueryRow(t.Context(), "SELECT text FROM delivery WHERE text LIKE '%kesr_%'").Scan(&text); err != nil {
		t.Fatal(err)
	}
	token := regexp.MustCompile(`kesr_[A-Za-z0-9_-]+`).FindString(text)
	if strings.Contains(sent.Items[0].Text, token) {
		t.Error("who looks at deliveries is shown the link of another")
	}
	if token == "" || !strings.Contains(sent.Items[0].Text, page.Seal.Code) {
		t.Fatalf("the message has no link, or not the code %s: %s", page.Seal.Code, sent.Items[0].Text)
	}

	stranger := servertest.Anonymous(t, f.url)
	open := func(token string) servertest.Answer {
		return stranger.Do(http.MethodPost, "/shared", map[string]any{"token": token})
	}
	take := func(token, format string) servertest.Answer {
		return stranger.Do(http.MethodPost, "/shared/document", map[string]any{"token": token, "format": format})
	}
	if a := open(token); a.Status != 200 || !strings.Contains(string(a.Body), page.Seal.Code) {
		t.Fatalf("%s", a)
	}
	for format, begins := range map[string]string{"pdf": "%PDF", "html": "<!doctype html>", "xlsx": "PK", "evidence": "PK", "csv": "agreement,", "json": "{"} {
		a := take(token, format)
		if a.Status != 200 || !strings.HasPrefix(string(a.Body), begins) {
			t.Errorf("%s by link: %d", format, a.Status)
		}
		own := f.manager.Do(http.MethodGet, "/reports/"+report+"/document?format="+format, nil)
		if string(own.Body) != string(a.Body) {
			t.Errorf("%s by link is another than the one of the publisher", format)
		}
	}
	if a := take(token, "inputs"); a.Status != 422 {
		t.Errorf("inputs by link: %s", a)
	}
	for name, bad := range map[string]string{"another": "kesr_AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "of an acknowledgement": "kesl_x", "cut": token[:20], "with a NUL": token + "\x00"} {
		if a := open(bad); a.Status != 410 && a.Status != 422 && a.Status != 400 {
			t.Errorf("a token %s: %s", name, a)
		}
	}

	// Its reader objects by it, and reads the answer there; somebody else's links do not show it.
	object := func(token, text string) servertest.Answer {
		return stranger.Do(http.MethodPost, "/shared/objections", map[string]any{"token": token, "about": "Down", "text": text})
	}
	refused(t, "an objection by a guess", object("kesr_guess", "x"), 410, "not good any more")
	refused(t, "an objection without words", object(token, " \t"), 422, "say what is wrong")
	refused(t, "an objection with a NUL", object(token, "a\x00"), 422, "")
	if a := object(token, "It was down on the 9th."); a.Status != 204 {
		t.Fatal(a)
	}
	f.manager.Must(http.MethodGet, "/reports/"+report, nil, &page)
	if len(page.Notes) != 1 || page.Notes[0].By != "Passenger division, by a link" || page.Notes[0].State != "open" {
		t.Fatalf("%+v", page.Notes)
	}
	f.manager.Must(http.MethodPost, "/reports/"+report+"/objections/"+itoa(page.Notes[0].ID)+"/end", map[string]any{"state": "stands", "answer": "Every probe was answered."}, nil)
	var opened api.SharedReport
	stranger.Must(http.MethodPost, "/shared", map[string]any{"token": token}, &opened)
	if len(opened.Objections) != 1 || opened.Objections[0].State != "stands" || opened.Objections[0].Answer != "Every probe was answered." || len(opened.Lines) < 15 {
		t.Errorf("%+v", opened)
	}

	// Who publishes sees who opened it; a viewer makes and sees no links.
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	refused(t, "a viewer's link", viewer.Do(http.MethodPost, "/reports/"+report+"/links", map[string]any{"whom": "me", "days": 1}), 403, "publish")
	links := func() (out struct{ Items []api.ReportLinkView }) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/reports/"+report+"/links", nil, &out)
		return out
	}
	l := links().Items
	if len(l) != 1 || l[0].Whom != "Passenger division" || len(l[0].Uses) != 10 || l[0].Uses[9].Form != "page" || l[0].Uses[0].Source == "" {
		t.Fatalf("%+v", l)
	}
	// One that nobody has opened yet is listed too.
	var made api.MadeLink
	f.manager.Must(http.MethodPost, "/reports/"+report+"/links", map[string]any{"whom": "The auditor", "days": 1}, &made)
	second := strings.TrimPrefix(made.Path, "/shared#")
	if all := links().Items; len(all) != 2 || all[1].Whom != "The auditor" || len(all[1].Uses) != 0 {
		t.Errorf("%+v", all)
	}
	f.manager.Must(http.MethodDelete, "/reports/"+report+"/links/"+itoa(l[0].ID), nil, nil)
	refused(t, "what was revoked", open(token), 410, "not good any more")
	refused(t, "a document of what was revoked", take(token, "pdf"), 410, "not good any more")
	refused(t, "revoking twice", f.manager.Do(http.MethodDelete, "/reports/"+report+"/links/"+itoa(l[0].ID), nil), 404, "")
	if a := open(second); a.Status != 200 {
		t.Errorf("the other link: %s", a)
	}

	// A draft has no links, and guessing ends soon.
	var drafted struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": month}, &drafted)
	refused(t, "a link to a draft", f.manager.Do(http.MethodPost, "/reports/"+drafted.ID+"/links", map[string]any{"whom": "x", "days": 1}), 422, "publish it first")
	stopped := false
	for range 80 {
		stopped = stopped || open("kesr_guess").Status == http.StatusTooManyRequests
	}
	if !stopped {
		t.Error("80 guesses in a row, and none was refused")
	}
}

// A customer's Standing by link is what the customer sees who signs in: whoever opens it.
func TestStandingByLink(t *testing.T) {
	f, _, _, _, _ := closeOf(t)
	f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) { s["name"], s["customer"] = "Our own target", "" }))
	f.manager.Create("/customers", map[string]any{"name": "Freight desk"})
	path := "/customers/passenger-division/links"
	var made, other api.MadeLink
	f.manager.Must(http.MethodPost, path, map[string]any{"whom": "Liv Holm", "days": 30}, &made)
	f.manager.Must(http.MethodPost, "/customers/freight-desk/links", map[string]any{"whom": "Nils", "days": 30}, &other)
	token := strings.TrimPrefix(made.Path, "/shared/standing#")
	stranger := servertest.Anonymous(t, f.url)
	open := func(c *servertest.Client, token string) servertest.Answer {
		return c.Do(http.MethodPost, "/shared/standing", map[string]any{"token": token})
	}
	customer := servertest.With(t, f.srv, f.url, "tove", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	var own api.Standing
	customer.Must(http.MethodGet, "/standing", nil, &own)
	for who, c := range map[string]*servertest.Client{"a stranger": stranger, "a manager": f.manager} {
		var got api.SharedStanding
		c.Must(http.MethodPost, "/shared/standing", map[string]any{"token": token}, &got)
		if len(own.Accounts) != 1 || len(got.Standing.Accounts) != 1 || got.Standing.Accounts[0].Name != own.Accounts[0].Name || got.Standing.Agreements != 1 || len(got.Standing.Needs) > 0 || got.Standing.Checks != 0 || got.Customer != "Passenger division" {
			t.Errorf("%s sees %+v", who, got)
		}
	}
	var empty api.SharedStanding
	stranger.Must(http.MethodPost, "/shared/standing", map[string]any{"token": strings.TrimPrefix(other.Path, "/shared/standing#")}, &empty)
	if len(empty.Standing.Accounts) != 0 || empty.Customer != "Freight desk" {
		t.Errorf("another customer sees %+v", empty)
	}
	refused(t, "as a link to a report", stranger.Do(http.MethodPost, "/shared", map[string]any{"token": token}), 410, "")
	for what, bad := range map[string]string{"a guess": "kess_AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "a cut one": token[:20], "one of a report": "kesr_x"} {
		refused(t, what, open(stranger, bad), 410, "")
	}
	refused(t, "a viewer's link", servertest.With(t, f.srv, f.url, "v", access.Rights{Role: access.Viewer}).Do(http.MethodPost, path, map[string]any{"whom": "me", "days": 1}), 403, "publish")
	refused(t, "a link of nobody", f.manager.Do(http.MethodPost, "/customers/no-such/links", map[string]any{"whom": "me", "days": 1}), 404, "")
	var links struct{ Items []api.ReportLinkView }
	f.manager.Must(http.MethodGet, path, nil, &links)
	if len(links.Items) != 1 || len(links.Items[0].Uses) != 2 || links.Items[0].Uses[0].Form != "standing" {
		t.Fatalf("%+v", links.Items)
	}
	refused(t, "revoking under another customer", f.manager.Do(http.MethodDelete, "/customers/freight-desk/links/"+itoa(links.Items[0].ID), nil), 404, "")
	f.manager.Must(http.MethodDelete, path+"/"+itoa(links.Items[0].ID), nil, nil)
	refused(t, "what was revoked", open(stranger, token), 410, "not good any more")
}
