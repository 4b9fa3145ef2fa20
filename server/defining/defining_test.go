package defining_test

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/defining"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

type house struct {
	*defining.Definitions
	t     *testing.T
	start time.Time
}

// newHouse has two locations, a service and a check, defined ten days ago.
func newHouse(t *testing.T) *house {
	t.Helper()
	h := &house{storetest.Server(t).API.Definitions, t, storetest.Now().UTC().Add(-10 * 24 * time.Hour).Truncate(time.Millisecond)}
	for _, l := range []string{"tolvik", "eskerby"} {
		h.create(catalogue.Location, l, definition.LocationSpec{Name: l})
	}
	h.create(catalogue.Service, "tickets", definition.ServiceSpec{Name: "Tickets", Kind: "business", Combine: "worst"})
	h.create(catalogue.Check, "page", page(2))
	return h
}

func page(confirm int64) definition.CheckSpec {
	return definition.CheckSpec{
		Service: "tickets", Name: "Page", Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150,
		Confirm: confirm, Recover: 1, Quorum: "any", Role: "decides", Locations: []string{"tolvik"},
	}
}

func (h *house) change(days int) defining.Change {
	return defining.Change{By: trail.By{Name: "Astrid"}, Reason: "because", At: h.start.Add(time.Duration(days) * 24 * time.Hour)}
}

func (h *house) create(kind, id string, spec catalogue.Spec) {
	h.t.Helper()
	if _, err := h.Create(ctx, kind, id, "", spec, h.change(0)); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) snapshot() *catalogue.Snapshot {
	h.t.Helper()
	s, err := h.Snapshot(ctx)
	if err != nil {
		h.t.Fatal(err)
	}
	return s
}

// Nothing that happened is judged by what was defined later.
func TestAnEditOpensARevisionAndKeepsTheOld(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	if err := h.Edit(ctx, catalogue.Check, "page", 1, page(5), h.change(4)); err != nil {
		t.Fatal(err)
	}
	revisions := verdict.Revisions(h.snapshot().CheckRevisions("page"))
	if len(revisions) != 2 {
		t.Fatalf("%d revisions", len(revisions))
	}
	for day, confirm := range map[int]int64{1: 2, 3: 2, 5: 5, 9: 5} {
		at := span.Of(h.start.Add(time.Duration(day) * 24 * time.Hour))
		if valid := revisions.Valid(at); valid == nil || valid.Confirm != confirm {
			t.Errorf("on day %d it is %+v", day, valid)
		}
	}
	if e := h.snapshot().Checks["page"]; e.Current().Number != 2 || e.Current().By != "Astrid" || e.Since() != span.Of(h.start) {
		t.Errorf("%+v", e)
	}
}

// A change asks for the judging of what it concerns, with itself or not at all.
func TestAChangeAsksForJudging(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	h := &house{srv.API.Definitions, t, storetest.Now().UTC().Add(-10 * 24 * time.Hour).Truncate(time.Millisecond)}
	asked := func(when string, want ...string) {
		t.Helper()
		got, err := srv.Judge.Waiting(ctx)
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: waiting %v, %v; want %v", when, got, err, want)
		}
		if _, err := srv.API.Store.Exec(ctx, "DELETE FROM judge_due"); err != nil {
			t.Fatal(err)
		}
	}
	h.create(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"})
	asked("a location")
	h.create(catalogue.Service, "tickets", definition.ServiceSpec{Name: "Tickets", Kind: "business", Combine: "worst"})
	asked("a service", "tickets")
	h.create(catalogue.Check, "page", page(2))
	asked("a check", "tickets")
	if err := h.Edit(ctx, catalogue.Check, "page", 7, page(5), h.change(4)); err == nil {
		t.Fatal("an edit of another revision was taken")
	}
	asked("a refused edit")
	if err := h.Retire(ctx, catalogue.Check, "page", h.change(5)); err != nil {
		t.Fatal(err)
	}
	asked("a retired check", "tickets")
}

func TestTwoPeopleEditingAreTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	if err := h.Edit(ctx, catalogue.Check, "page", 1, page(3), h.change(1)); err != nil {
		t.Fatal(err)
	}
	err := h.Edit(ctx, catalogue.Check, "page", 1, page(4), h.change(2))
	var conflict *catalogue.Conflict
	if !errors.As(err, &conflict) || conflict.Theirs != 2 || !strings.Contains(err.Error(), "Astrid") {
		t.Errorf("%v", err)
	}
	if e := h.snapshot().Checks["page"]; len(e.Revisions) != 2 || e.Current().Spec.Confirm != 3 {
		t.Errorf("the refused edit left something behind: %+v", e)
	}
}

func TestRetiringEndsAndRestoringGoesOn(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	if err := h.Retire(ctx, catalogue.Check, "page", h.change(2)); err != nil {
		t.Fatal(err)
	}
	if err := h.Edit(ctx, catalogue.Check, "page", 0, page(4), h.change(3)); !errors.Is(err, catalogue.ErrRetired) {
		t.Errorf("an edit of what is retired: %v", err)
	}
	if live := catalogue.Live(h.snapshot().Checks); len(live) != 0 {
		t.Errorf("live: %v", live)
	}
	if err := h.Restore(ctx, catalogue.Check, "page", h.change(5)); err != nil {
		t.Fatal(err)
	}
	revisions := verdict.Revisions(h.snapshot().CheckRevisions("page"))
	for day, in := range map[int]bool{1: true, 3: false, 4: false, 6: true} {
		if got := revisions.Valid(span.Of(h.start.Add(time.Duration(day)*24*time.Hour))) != nil; got != in {
			t.Errorf("on day %d in force: %v", day, got)
		}
	}
	if err := h.Retire(ctx, catalogue.Check, "nothing", h.change(5)); !errors.Is(err, catalogue.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

func TestWhatOthersNeedIsNotRetired(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	service := func(name, needs string) definition.ServiceSpec {
		s := definition.ServiceSpec{Name: name, Kind: "business", Combine: "worst"}
		if needs != "" {
			s.DependsOn = []definition.Dependency{{Services: []string{needs}}}
		}
		return s
	}
	h.create(catalogue.Service, "quay", service("Quay", ""))
	h.create(catalogue.Service, "portal", service("Portal", "quay"))
	h.create(catalogue.Agreement, "gold", definition.AgreementSpec{Name: "Gold", Service: "portal", Timezone: "UTC", TargetPercent: "99"})
	for _, c := range []struct{ kind, id, says string }{
		{catalogue.Service, "tickets", "Page"}, {catalogue.Service, "quay", "Portal"}, {catalogue.Service, "portal", "Gold"},
		{catalogue.Location, "tolvik", "Page"},
	} {
		var fault *definition.Fault
		if err := h.Retire(ctx, c.kind, c.id, h.change(2)); !errors.As(err, &fault) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("retiring %s %s: %v", c.kind, c.id, err)
		}
	}
	if err := h.Edit(ctx, catalogue.Service, "quay", 0, service("Quay", "portal"),
		h.change(2)); err == nil || !strings.Contains(err.Error(), "circle") {
		t.Errorf("a circle: %v", err)
	}
	if err := h.Retire(ctx, catalogue.Location, "eskerby", h.change(2)); err != nil {
		t.Errorf("retiring what nobody needs: %v", err)
	}
}

// Histories are kept: what is read again says what was said then.
func TestHistoriesAreKept(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.create(catalogue.Service, "quay", definition.ServiceSpec{Name: "Quay", Kind: "supporting"})
	needs := definition.ServiceSpec{Name: "Tickets", Kind: "business", DependsOn: []definition.Dependency{{Services: []string{"quay"}}}}
	start := h.start.Truncate(time.Second).Add(5 * 24 * time.Hour)
	window := definition.WindowSpec{Name: "Patch", Services: []string{"tickets"}, Start: start.Format("2006-01-02T15:04:05"),
		Timezone: "UTC", DurationS: 3600}
	h.create(catalogue.Window, "patch", window)
	longer := window
	longer.Name, longer.DurationS = "Longer patch", 7200
	for _, err := range []error{
		h.Edit(ctx, catalogue.Service, "tickets", 1, needs, h.change(2)), h.Edit(ctx, catalogue.Window, "patch", 1, longer, h.change(3)),
		h.Retire(ctx, catalogue.Window, "patch", h.change(8)),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	week := calendar.Period{Location: time.UTC, Start: calendar.WallOf(start.AddDate(0, 0, -3)),
		End: calendar.WallOf(start.AddDate(0, 0, 4))}
	b, err := h.snapshot().Bundle(week, nil, []string{"tickets"}, nil, true)
	if err != nil {
		t.Fatal(err)
	}
	second := span.Of(h.start.Add(time.Second - 1).Truncate(time.Second)) // windows change at whole seconds
	if len(b.Windows) != 2 || b.Windows[0].AnnouncedAt != second || b.Windows[0].DurationS != 3600 ||
		b.Windows[1].AnnouncedAt != second.Add(3*span.Day) || b.Windows[1].DurationS != 3600 {
		t.Errorf("windows %+v", b.Windows)
	}
	tickets := b.Services["tickets"]
	if before, since := tickets.InForce(span.Of(h.start.Add(time.Hour))),
		tickets.InForce(span.Of(h.start.Add(49*time.Hour))); before == nil || since == nil ||
		len(before.DependsOn) != 0 || len(since.DependsOn) != 1 {
		t.Errorf("services %+v", tickets)
	}
}

func TestIDsComeFromNamesAndStay(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for _, want := range []string{"pier-kiosk", "pier-kiosk-2", "pier-kiosk-3"} {
		id, err := h.Create(ctx, catalogue.Service, "", "Pier kiosk",
			definition.ServiceSpec{Name: "Pier kiosk", Kind: "business", Combine: "worst"}, h.change(1))
		if err != nil || id != want {
			t.Errorf("%s, %v, not %s", id, err, want)
		}
	}
	if err := h.Edit(ctx, catalogue.Service, "pier-kiosk", 0,
		definition.ServiceSpec{Name: "Quay kiosk", Kind: "business", Combine: "worst"}, h.change(2)); err != nil {
		t.Fatal(err)
	}
	if e := h.snapshot().Services["pier-kiosk"]; e == nil || e.Current().Spec.Name != "Quay kiosk" {
		t.Errorf("%+v", e)
	}
}

// What a server brings up to date by what has changed is what another reads anew,
// whoever changed it and however.
func TestSnapshotsAreBroughtUpToDate(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	kept, other := srv.API.Definitions, defining.New(srv.API.Store)
	h := &house{other, t, storetest.Now().UTC().Add(-10 * 24 * time.Hour).Truncate(time.Millisecond)}
	exec := func(sql string) func() {
		return func() {
			t.Helper()
			storetest.Exec(t, srv, sql)
		}
	}
	edit := func(kind, id string, expected int, spec catalogue.Spec, day int) func() {
		return func() {
			t.Helper()
			if err := h.Edit(ctx, kind, id, expected, spec, h.change(day)); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i, step := range []struct {
		what string
		do   func()
	}{
		{"a location", func() { h.create(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}) }},
		{"a service", func() {
			h.create(catalogue.Service, "tickets", definition.ServiceSpec{Name: "Tickets", Kind: "business", Combine: "worst"})
		}},
		{"a check", func() { h.create(catalogue.Check, "page", page(2)) }},
		{"nothing", func() {}},
		{"an edit", edit(catalogue.Check, "page", 1, page(5), 4)},
		{"two edits", func() { edit(catalogue.Check, "page", 2, page(3), 5)(); edit(catalogue.Check, "page", 3, page(4), 6)() }},
		{"a retirement", func() { h.Retire(ctx, catalogue.Check, "page", h.change(7)) }},
		{"the organisation", exec("UPDATE organisation SET name = 'Skerry Line', timezone = 'Europe/Oslo'")},
		{"something that cannot be read", exec(`UPDATE revision SET body = '{"name": 7}' WHERE kind = 'service'`)},
		{"something that can again", exec(`UPDATE revision SET body = '{"name": "Tickets", "kind": "business"}' WHERE kind = 'service'`)},
		{"what was taken back", func() {
			tx, err := srv.API.Store.Pool.Begin(ctx)
			if err != nil {
				t.Fatal(err)
			}
			tx.Exec(ctx, "UPDATE revision SET made_by = 'nobody'")
			tx.Rollback(ctx)
		}},
		{"what was taken away", exec("DELETE FROM revision WHERE kind = 'check' AND number = 4")},
		{"all of it", exec("DELETE FROM revision WHERE kind = 'check'; DELETE FROM definition WHERE kind = 'check'")},
	} {
		step.do()
		got, err := kept.Snapshot(ctx)
		if err != nil {
			t.Fatal(err)
		}
		want, err := defining.New(srv.API.Store).Snapshot(ctx)
		if err != nil {
			t.Fatal(err)
		}
		a, b := reflect.ValueOf(got).Elem(), reflect.ValueOf(want).Elem()
		for f := range a.NumField() {
			if field := a.Type().Field(f); field.IsExported() && !reflect.DeepEqual(a.Field(f).Interface(), b.Field(f).Interface()) &&
				!(a.Field(f).Kind() == reflect.Slice && a.Field(f).Len()+b.Field(f).Len() == 0) {
				t.Errorf("%d, after %s: %s is\n%+v, not\n%+v", i, step.what, field.Name, a.Field(f), b.Field(f))
			}
		}
	}
}
