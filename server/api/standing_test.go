package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"testing"

	"kestite/core/access"
	"kestite/core/standing"
	"kestite/server/api"
	"kestite/server/servertest"
)

// However many agreements there are, an answer has a part of them, and says how all stand.
func TestStandingComesInParts(t *testing.T) {
	f := setUp(t)
	const services = 45
	for _, name := range []string{"Harbour office", "Freight desk"} {
		f.manager.Create("/customers", map[string]any{"name": name})
	}
	var steps []any
	for i := range services {
		steps = append(steps,
			step("make", "service", map[string]any{"id": fmt.Sprintf("pier-%02d", i), "spec": map[string]any{"name": fmt.Sprintf("Pier %02d", i), "kind": "supporting"}}),
			step("make", "check", map[string]any{"spec": servertest.Check(fmt.Sprintf("$%d", 3*i), []string{"tolvik"}, nil)}),
			step("make", "agreement", map[string]any{"id": fmt.Sprintf("for-pier-%02d", i), "spec": agreement(fmt.Sprintf("$%d", 3*i), func(m map[string]any) {
				m["name"], m["customer"] = fmt.Sprintf("Pier agreement %02d", i), []string{"harbour-office", "freight-desk"}[i%2]
			})}))
	}
	f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": steps}, nil)
	var all []string
	for i := range services {
		all = append(all, fmt.Sprintf("pier-%02d", i))
	}
	if err := f.srv.Judge.Services(t.Context(), all); err != nil { // none of them is measured
		t.Fatal(err)
	}
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	ask := func(query string) (out api.Standing) {
		t.Helper()
		viewer.Must(http.MethodGet, "/standing?"+query, nil, &out)
		return out
	}
	whole := ask("")
	var order []string
	for _, a := range whole.Accounts {
		order = append(order, a.Agreement)
	}
	if len(order) != services || whole.Agreements != services || whole.Found != services {
		t.Fatalf("%d rows of %d, %d found", len(order), whole.Agreements, whole.Found)
	}
	want := standing.Counts{Agreements: services} // nothing of them was measured, so none is on track
	if whole.Summary.Running != want || whole.Summary.Over.Agreements+whole.Summary.Faulty > 0 {
		t.Errorf("all stand as %+v", whole.Summary)
	}
	if len(whole.Needs) != 40 || whole.Needs[0].Kind != "unmeasured" || len(whole.Needs)+whole.NeedsLeft < services {
		t.Errorf("%d needs and %d more, the first of which is %+v", len(whole.Needs), whole.NeedsLeft, whole.Needs[0])
	}
	var parts []string
	for from := 0; ; from += 20 {
		part := ask(fmt.Sprintf("from=%d&count=20", from))
		if len(part.Accounts) == 0 {
			break
		}
		if part.Summary.Running != want || part.Agreements != services {
			t.Errorf("the part from %d says that all stand as %+v", from, part.Summary)
		}
		for _, a := range part.Accounts {
			parts = append(parts, a.Agreement)
		}
	}
	if !slices.Equal(parts, order) {
		t.Errorf("in parts they are %v\nand at once %v", parts, order)
	}
	if found := ask("find=FREIGHT+pier+4"); found.Found != 2 || len(found.Accounts) != 2 || found.Agreements != services ||
		found.Accounts[0].Agreement != "for-pier-41" || found.Summary.Running != want {
		t.Errorf("looked for: %d found, %+v", found.Found, found.Accounts)
	}
	if none := ask("find=nowhere"); none.Found != 0 || len(none.Accounts) != 0 {
		t.Errorf("%d found of what there is none", none.Found)
	}
	for _, query := range []string{"count=101", "from=-1", "from=x", "find=" + fmt.Sprintf("%081d", 0)} {
		if a := viewer.Do(http.MethodGet, "/standing?"+query, nil); a.Status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %s", query, a)
		}
	}
	if a := servertest.Anonymous(t, f.url).Do(http.MethodGet, "/accounts", nil); a.Status != http.StatusUnauthorized {
		t.Errorf("a stranger: %s", a)
	}
	var some api.Accounts
	viewer.Must(http.MethodGet, "/accounts?ids=for-pier-07&ids=no-such&ids=for-pier-03&ids=for-pier-07", nil, &some)
	if len(some.Accounts) != 2 || some.Accounts[0].Agreement != "for-pier-03" || some.Span.Name != whole.Span.Name {
		t.Errorf("some: %+v", some)
	}
	if a, b := some.Accounts[0], whole.Accounts[slices.Index(order, "for-pier-03")]; a.Strip != b.Strip || a.Word != "not measured" ||
		a.Word != b.Word {
		t.Errorf("some say %q %q, all %q %q", a.Word, a.Strip, b.Word, b.Strip)
	}
	some = api.Accounts{}
	viewer.Must(http.MethodGet, "/accounts", nil, &some)
	if some.Accounts == nil || len(some.Accounts) != 0 || some.Span.Name != whole.Span.Name {
		t.Errorf("none: %+v", some)
	}
	var strips api.Strips
	viewer.Must(http.MethodGet, "/services/strips?ids=pier-01&ids=no-such", nil, &strips)
	if s := strips.Strips["pier-01"]; len(strips.Strips) != 1 || s.Strip == "" || s.TotalMS["unmeasured"] == 0 || len(s.TotalMS) != 1 {
		t.Errorf("strips: %+v", strips)
	}
}
