package e2e

import (
	"fmt"
	"net/http"
	"slices"
	"testing"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/servertest"
)

// Groups are by name with those in none last, or in an order; what is in several stands
// in each, and cutting a list keeps its first rows.
func TestGroups(t *testing.T) {
	type section struct {
		Name  string
		Items []string
	}
	items := []string{"a:x,y", "b:", "c:y,y", "d:z"}
	var got struct{ By, Ordered, Whole, Cut []section }
	evaluated(t, "src/parts/groups.ts", `(() => {
		const of = (i) => i.split(':')[1].split(',')
		const by = m.sections(input, of)
		return { by, ordered: m.sections(input, of, ['z', 'y']), whole: m.sections(input), cut: m.first(by, 3) }
	})()`, items, &got)
	for name, c := range map[string]struct{ got, want []section }{
		"by name": {got.By, []section{{"x", []string{"a:x,y"}}, {"y", []string{"a:x,y", "c:y,y"}}, {"z", []string{"d:z"}}, {"",
			[]string{"b:"}}}},
		"in order": {got.Ordered, []section{{"z", []string{"d:z"}}, {"y", []string{"a:x,y", "c:y,y"}}, {"x", []string{"a:x,y"}}, {"",
			[]string{"b:"}}}},
		"whole": {got.Whole, []section{{"", items}}},
		"cut":   {got.Cut, []section{{"x", []string{"a:x,y"}}, {"y", []string{"a:x,y", "c:y,y"}}}},
	} {
		if !slices.EqualFunc(c.got, c.want, func(a, b section) bool { return a.Name == b.Name && slices.Equal(a.Items, b.Items) }) {
			t.Errorf("%s: %v, not %v", name, c.got, c.want)
		}
	}
}

// A list is in the order of a column, up or down; what is alike stays as it was.
func TestSorted(t *testing.T) {
	var got [][]string
	evaluated(t, "src/parts/compared.ts", `[m.compared(input, (x) => x, false), m.compared(input, (x) => x.length, true),
		m.compared(input, (x) => 'same', true)]`, []string{"Gate 10", "gate 9", "Air", "Ärö", "Zed"}, &got)
	want := [][]string{{"Air", "Ärö", "gate 9", "Gate 10", "Zed"}, {"Gate 10", "gate 9", "Air", "Ärö", "Zed"},
		{"Gate 10", "gate 9", "Air", "Ärö", "Zed"}}
	if !slices.EqualFunc(got, want, slices.Equal[[]string]) {
		t.Errorf("sorted they are %q, not %q", got, want)
	}
}

// Three thousand services, made by the API in the test: lists open with a hundred of
// them, more on demand; they filter, sort and group, pickers and the finder search, and
// every row that is shown has its strip.
func TestThreeThousandServices(t *testing.T) {
	s := newStage(t, true)
	const many, atOnce = 3000, 100
	admin := servertest.Anonymous(t, s.srv.URL)
	admin.Must(http.MethodPost, "/session", map[string]any{"email": "admin@skerry.example", "password": demo.Password}, nil)
	for from := 0; from < many; from += atOnce {
		var steps []map[string]any
		for n := from; n < from+atOnce; n++ {
			steps = append(steps,
				map[string]any{"does": "make", "kind": "service", "spec": map[string]any{"name": fmt.Sprintf("Buoy %04d", n), "kind": "supporting",
					"combine": "worst",
					"owner":   []string{"harbour-it", "crewing"}[n%2], "tags": []string{fmt.Sprintf("fairway %d", n%7)}}},
				map[string]any{"does": "make", "kind": "check", "spec": servertest.Check(fmt.Sprintf("$%d", 2*(n-from)), []string{"tolvik"},
					func(m map[string]any) {
						m["name"], m["target"], m["interval_s"], m["stale_after_s"] = "Lamp", fmt.Sprintf("https://buoy-%04d.skerry.example/", n), 3600, 10900
					})})
		}
		admin.Must(http.MethodPost, "/changes", map[string]any{"steps": steps}, nil)
	}
	rows := func(what string) int {
		t.Helper()
		n, err := browser.Eval[int](s.Browser, "document.querySelectorAll('"+what+"').length")
		s.do(err)
		return n
	}
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password))
	s.do(s.Go(s.srv.URL + "/services"))
	s.do(s.Until("a hundred with strips",
		"document.querySelectorAll('[data-service]').length === 100 && document.querySelectorAll('[data-service] svg rect').length >= 100"))
	s.do(s.ClickOn("button", "100 more"))
	s.do(s.Until("two hundred", "document.querySelectorAll('[data-service]').length === 200"))
	s.do(s.Go(s.srv.URL + "/services?by=owner"))
	s.do(s.Until("groups with all that are in them", "document.querySelector('[data-group=Crewing]')?.innerText.includes('1501')"))
	s.do(s.Go(s.srv.URL + "/services?by=tag&find=buoy"))
	s.do(s.Until("groups by tag", "document.querySelector(\"[data-group='fairway 0']\")?.innerText.includes('429')"))
	s.do(s.Go(s.srv.URL + "/services?find=buoy"))
	s.do(s.ClickOn("[role=group] span", "name"))
	s.do(s.Until("the last one first",
		"document.querySelector('[data-service] .name')?.innerText === 'Buoy 2999' && location.search.includes('sort=-name')"))
	s.do(s.Go(s.srv.URL + "/checks?find=buoy&sort=-target"))
	s.do(s.Until("checks by target, down", "document.querySelector('[data-check]')?.innerText.includes('buoy-2999')"))
	s.do(s.Go(s.srv.URL + "/services?find=2999"))
	s.do(s.Until("the one that was looked for", "document.querySelectorAll('[data-service]').length === 1"))
	s.do(s.Go(s.srv.URL + "/checks?by=kind"))
	s.do(s.Until("checks by kind", "document.querySelector('[data-group]') && document.querySelectorAll('[data-check]').length === 100"))
	s.do(s.Type("/"))
	s.do(s.Until("the finder", "document.querySelector('[role=dialog] input')"))
	s.do(s.Type("buoy-2998"))
	s.do(s.Until("a check by its target", "document.querySelector('[role=option]')?.innerText.includes('buoy-2998')"))
	s.do(s.Go(s.srv.URL + "/agreements/new"))
	s.do(s.Fill("Service", "Buoy 2997"))
	s.do(s.Until("one of all", "document.querySelectorAll('[role=option]').length === 1"))
	s.do(s.ClickOn("[role=option]", "Buoy 2997"))
	s.shows("Service", "Buoy 2997")
	s.do(s.Go(s.srv.URL + "/agreements?by=customer"))
	s.do(s.Until("agreements by customer", "document.querySelector(\"[data-group='Port authority']\")?.innerText.includes('2')"))
	if n := rows(".entry"); n < 8 {
		t.Errorf("%d agreements", n)
	}
}

// A kit is made of what a service has: its host and its name become parameters, as the
// page says before anything is kept.
func TestAKitOfAService(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password))
	s.do(s.Go(s.srv.URL + "/set-up/kits"))
	s.do(s.Click("Make a kit of a service’s checks"))
	s.do(s.Fill("Service", "Sailing"))
	s.do(s.ClickOn("[role=option]", "Sailing board"))
	s.do(s.Reads("becomes {host}"))
	s.do(s.Reads("{service} page"))
	s.do(s.Fill("Name of the kit", "Boards"))
	s.do(s.Click("Make the kit"))
	s.do(s.Until("the kit",
		"[...document.querySelectorAll('[data-kit]')].some((k) => k.innerText.includes('Boards') && k.innerText.includes('{service} page'))"))
}
