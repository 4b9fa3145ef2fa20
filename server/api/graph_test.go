package api_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

func (f *fixture) needing(t *testing.T, name string, needs ...definition.Dependency) string {
	t.Helper()
	return f.manager.Create("/services", definition.ServiceSpec{Name: name, Kind: "business", DependsOn: needs})
}

// The picture shows what needs what, as it was at the moment that is asked for, around one
// service where one is.
func TestThePictureOfDependencies(t *testing.T) {
	f := setUp(t)
	east, west := f.needing(t, "East"), f.needing(t, "West")
	board := f.needing(t, "Board", definition.Dependency{Services: []string{east, west}, Need: 1})
	f.needing(t, "Roster")
	before := storetest.Now().UTC()
	for storetest.Now().Sub(before) < 5*time.Millisecond { // the edit is later than the moment
		time.Sleep(time.Millisecond)
	}
	f.manager.Must(http.MethodPut, "/services/"+board, map[string]any{"revision": 1, "spec": definition.ServiceSpec{Name: "Board", Kind: "business",
		DependsOn: []definition.Dependency{{Services: []string{east}}}}}, nil)
	ask := func(query string) (out api.GraphView) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/dependencies?"+query, nil, &out)
		return out
	}
	names := func(g api.GraphView) string {
		var out []string
		for _, n := range g.Nodes {
			out = append(out, n.Service)
		}
		return strings.Join(out, " ")
	}
	if g := ask(""); names(g) != "board east roster ticket-sales west" || !g.Live || len(g.Nodes[0].Groups) != 1 || g.Nodes[0].Groups[0].Need != 1 || len(g.Nodes[0].Groups[0].Services) != 1 {
		t.Errorf("now: %s, %+v", names(g), g.Nodes[0])
	}
	if w := ask("").Words; w != "Nothing is down; 5 services are not measured." {
		t.Errorf("of what nobody measures it says %q", w)
	}
	if g := ask("of=" + board); names(g) != "board east" {
		t.Errorf("around it: %s", names(g))
	}
	if g := ask("way=needed&of=" + east); names(g) != "board east" {
		t.Errorf("what needs it: %s", names(g))
	}
	then := ask("of=" + board + "&at=" + span.Of(before).String())
	if names(then) != "board east west" || then.Live || then.Nodes[0].Groups[0].Need != 1 || len(then.Nodes[0].Groups[0].Services) != 2 || then.Nodes[0].State != "unmeasured" {
		t.Errorf("before: %s, %+v", names(then), then.Nodes[0])
	}
	for query, says := range map[string]string{"of=nothing": "names no service in force then", "at=2126-01-01T00:00:00Z": "still to come", "at=soon": "at", "at=0001-01-01T00:00:00Z": "ten years ago", "way=up": "way"} {
		if a := f.manager.Do(http.MethodGet, "/dependencies?"+query, nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", query, a)
		}
	}
}

// A file is taken as a whole or not at all, after a preview that changes nothing; a circle
// that only stands between two of its lines is none.
func TestDependenciesFromFiles(t *testing.T) {
	f := setUp(t)
	east, west := f.needing(t, "East"), f.needing(t, "West")
	f.needing(t, "Board", definition.Dependency{Services: []string{east, west}, Need: 1})
	for _, format := range []string{"csv", "yaml"} {
		out := f.manager.Do(http.MethodGet, "/dependencies/file?format="+format, nil)
		if out.Status != http.StatusOK || !strings.Contains(string(out.Body), "board") {
			t.Fatal(out)
		}
		var v api.DependView
		f.manager.Must(http.MethodPost, "/dependencies/import", api.DependAsk{Format: format, Text: string(out.Body)}, &v)
		if len(v.Items) != 0 || v.Same != 4 || len(v.Faults) != 0 {
			t.Errorf("%s: what went out comes in as %+v", format, v)
		}
	}
	// West needs Board now, which stops needing it: in no order of lines is that a circle.
	const head = "service,group,need,member\n"
	turned := api.DependAsk{Format: "csv", Text: head + "West,1,all,board\nBoard,1,all,East\n", Preview: true}
	var v api.DependView
	f.manager.Must(http.MethodPost, "/dependencies/import", turned, &v)
	if v.Done || len(v.Items) != 2 || v.Items[0].Name != "Board" || v.Items[0].Before != "1 of East and West" || v.Items[0].After != "East" || v.Items[1].After != "Board" {
		t.Errorf("a preview: %+v", v)
	}
	if r := f.manager.Revision("/services/west"); r != 1 {
		t.Errorf("a preview made revision %d", r)
	}
	turned.Preview = false
	f.manager.Must(http.MethodPost, "/dependencies/import", turned, &v)
	if !v.Done || f.manager.Revision("/services/west") != 2 {
		t.Errorf("%+v", v)
	}
	for name, x := range map[string]struct{ text, want string }{
		"a circle":              {head + "East,1,all,West\n", "line 2: services would depend on each other in a circle: west depends on board, which depends on east"},
		"nobody":                {head + "East,1,all,Nowhere\nOut,1,all,East\n", `line 2: "Nowhere" names no service in force | line 3: "Out" names no service in force`},
		"twice by id and name":  {head + "East,1,all,roster\neast,1,all,roster\n", "line 2: \"roster\" names no service in force | line 3: east stands there twice"},
		"one wrong among right": {head + "Board,1,all,West\nEast,1,9,Board\n", "line 3: the group 1 of East needs 9 of 1 members"},
	} {
		f.manager.Must(http.MethodPost, "/dependencies/import", api.DependAsk{Format: "csv", Text: x.text}, &v)
		var out []string
		for _, l := range v.Faults {
			out = append(out, l.Where+": "+l.Fault)
		}
		if got := strings.Join(out, " | "); !strings.HasPrefix(got, x.want) || v.Done {
			t.Errorf("%s: %s", name, got)
		}
	}
	if r := f.manager.Revision("/services/board"); r != 2 {
		t.Errorf("what was refused made revision %d", r)
	}
	if a := f.as(t, access.Operator).Do(http.MethodPost, "/dependencies/import", turned); a.Status != http.StatusForbidden {
		t.Errorf("an operator who imports: %s", a)
	}
}

// What could be promised follows from what was promised of what a service needs; a promise
// beyond it is said so.
func TestModelledAvailability(t *testing.T) {
	f := setUp(t)
	east, west := f.needing(t, "East"), f.needing(t, "West")
	board := f.needing(t, "Board", definition.Dependency{Services: []string{east, west}, Need: 1}, definition.Dependency{Services: []string{f.service}})
	model := func(id string) (out api.ModelView) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/services/"+id+"/modelled", nil, &out)
		return out
	}
	if m := model(east); len(m.Leaves) != 0 || m.Targets != nil {
		t.Errorf("of what needs nothing: %+v", m)
	}
	if m := model(board); len(m.Leaves) != 3 || m.Targets != nil || m.Measured != nil {
		t.Errorf("of what nothing was promised or measured: %+v", m)
	}
	for service, target := range map[string]string{east: "99", west: "98", f.service: "99.9", board: "99.9"} {
		f.manager.Create("/agreements", definition.AgreementSpec{Name: "Of " + service, Service: service, TargetPercent: definition.Percent(target), Timezone: "UTC"})
	}
	// 1 − 0.01 × 0.02 = 0.9998, and 0.9998 × 0.999 = 0.9988002.
	m := model(board)
	if m.Targets == nil || m.Targets.Percent != "99.8800" || len(m.Promises) != 1 || !m.Promises[0].Exceeds {
		t.Errorf("%+v %+v", m.Targets, m.Promises)
	}
	if a := f.manager.Do(http.MethodGet, "/services/nothing/modelled", nil); a.Status != http.StatusNotFound {
		t.Error(a)
	}
}

// Gates that are measured, and promised, fail together with the network that all need: two of
// three are worth no more than the network, and say what is lacking where it promises nothing.
func TestWhatIsSharedIsCountedOnce(t *testing.T) {
	f := setUp(t)
	promise := func(service, target string) {
		f.manager.Create("/agreements", definition.AgreementSpec{Name: "Of " + service, Service: service, TargetPercent: definition.Percent(target), Timezone: "UTC"})
	}
	network := f.needing(t, "Quay network")
	var gates []string
	for _, name := range []string{"Gate 1", "Gate 2", "Gate 3"} {
		id := f.needing(t, name, definition.Dependency{Services: []string{network}})
		f.manager.Create("/checks", servertest.Check(id, []string{"tolvik"}, func(spec map[string]any) { spec["name"] = name }))
		promise(id, "99.9")
		gates = append(gates, id)
	}
	farm := f.needing(t, "Boarding", definition.Dependency{Services: gates, Need: 2})
	f.manager.Create("/checks", servertest.Check(farm, []string{"tolvik"}, func(spec map[string]any) { spec["name"] = "Boarding" }))
	promise(farm, "99.95")
	model := func() (out api.ModelView) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/services/"+farm+"/modelled", nil, &out)
		return out
	}
	m := model()
	lacking := map[string]string{}
	for _, l := range m.Leaves {
		lacking[l.Name] = strings.Join(l.Without, " ")
	}
	if m.Targets != nil || lacking["Quay network"] != "promise measurement" || lacking["Gate 1"] != "measurement" || lacking["Boarding"] != "" || !m.Leaves[len(m.Leaves)-1].Itself {
		t.Errorf("without a promise of the network: %+v", m)
	}
	promise(network, "99.9")
	if m = model(); m.Targets == nil || m.Targets.Percent != "99.9000" || !strings.HasPrefix(m.Targets.Words, "99.9000 % is the mean of a model") || len(m.Promises) != 1 || !m.Promises[0].Exceeds {
		t.Errorf("%+v %+v", m.Targets, m.Promises)
	}
}
