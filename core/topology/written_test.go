package topology_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/topology"
)

func TestDependenciesComeBackAsTheyWereWritten(t *testing.T) {
	list := []topology.Needs{
		{Service: "departure", Needs: []definition.Dependency{{Services: []string{"gates", "board"}}, {Services: []string{"east", "west"}, Need: 1}}},
		{Service: "gates"},
		{Service: "a, \"quoted\" one", Needs: []definition.Dependency{{Services: []string{"x:y", "- z"}, Need: 2}}},
	}
	for _, format := range []string{topology.CSV, topology.YAML} {
		text, err := topology.Write(format, list)
		if err != nil {
			t.Fatal(err)
		}
		got, errs := topology.Read(format, string(text))
		if len(errs) > 0 || len(got) != len(list) {
			t.Fatalf("%s\n%v %v", text, got, errs)
		}
		for i := range got {
			if got[i].Service != list[i].Service || len(got[i].Needs) != len(list[i].Needs) || len(list[i].Needs) > 0 && !reflect.DeepEqual(got[i].Needs, list[i].Needs) {
				t.Errorf("%s: %+v came back as %+v", format, list[i], got[i])
			}
		}
	}
}

func TestFilesOfDependenciesThatAreWrong(t *testing.T) {
	const head = "service,group,need,member\n"
	for name, x := range map[string]struct{ format, text, want string }{
		"no head":                     {topology.CSV, "departure,1,1,gates\n", "line 1: the first line is not service,group,need,member"},
		"nothing":                     {topology.CSV, "", "line 1: the first line"},
		"too few columns":             {topology.CSV, head + "departure,1,gates\n", "line 2: has 3 columns"},
		"no number of a group":        {topology.CSV, head + "departure,x,1,gates\n", `line 2: "x" is no number of a group`},
		"a need of words":             {topology.CSV, head + "departure,1,most,gates\n", `line 2: "most" is no number of members`},
		"more needed than there are":  {topology.CSV, head + "departure,1,2,gates\n", "line 2: the group 1 of departure needs 2 of 1 members"},
		"two needs in a group":        {topology.CSV, head + "departure,1,1,gates\ndeparture,1,2,board\n", "line 3: the group 1 of departure needs another number"},
		"a member without a name":     {topology.CSV, head + "departure,1,1,\n", "line 2: the group 1 of departure has no member in this line"},
		"a quote that does not end":   {topology.CSV, head + "\"departure,1,1,gates\n", "line 2"},
		"several, each with its line": {topology.CSV, head + "departure,x,1,gates\nboard,1,1,east\n,1,1,west\n", "line 2: \"x\" is no number of a group; count them from 1 | line 4: names no service"},
		"an anchor":                   {topology.YAML, "- &a {service: x}\n- *a\n", "line 1: anchors and aliases"},
		"an unknown field":            {topology.YAML, "- service: x\n  want: []\n", "text: it cannot be read: [2:3] unknown field"},
		"no list":                     {topology.YAML, "service: x\n", "text: it cannot be read"},
		"a service twice":             {topology.YAML, "- service: x\n  needs: []\n- service: x\n", "line 3: x stands there twice"},
		"without a service":           {topology.YAML, "- needs: []\n", "line 1: names no service"},
		"an empty group":              {topology.YAML, "- service: x\n  needs: [{services: []}]\n", "line 1: the group 1 of x has no members"},
		"lists in lists":              {topology.YAML, "- service: " + strings.Repeat("[", 30), "line 1: lists stand in lists here more than 20 deep"},
		"dashes without an end":       {topology.YAML, strings.Repeat("- ", 30), "line 1: lists stand in lists here more than 20 deep"},
		"a need below none":           {topology.YAML, "- service: x\n  needs: [{services: [y], need: -1}]\n", "line 1: the group 1 of x needs -1 of 1"},
	} {
		list, errs := topology.Read(x.format, x.text)
		var out []string
		for _, e := range errs {
			out = append(out, e.Error())
		}
		if got := strings.Join(out, " | "); !strings.HasPrefix(got, x.want) || len(list) > 0 {
			t.Errorf("%s: %v, %s", name, list, got)
		}
	}
}

func FuzzReadDependencies(f *testing.F) {
	f.Add("csv", "service,group,need,member\na,1,all,b\n")
	f.Add("yaml", "- service: a\n  needs:\n    - services: [b, c]\n      need: 1\n")
	f.Fuzz(func(t *testing.T, format, text string) {
		list, errs := topology.Read(format, text)
		if len(errs) > 0 {
			return
		}
		for _, n := range list {
			for _, d := range n.Needs {
				if n.Service == "" || len(d.Services) == 0 || d.Need < 0 || d.Need > len(d.Services) {
					t.Errorf("%q gives %+v", text, n)
				}
			}
		}
	})
}

func TestWhatHangsTogetherAndWhatIsDownWithWhat(t *testing.T) {
	needs := map[string][]definition.Dependency{
		"board": {{Services: []string{"east", "west"}, Need: 1}}, "departure": {{Services: []string{"board", "gates"}}}, "east": nil, "west": nil, "gates": nil, "roster": nil}
	for _, x := range []struct{ of, way, want string }{
		{"board", topology.Both, "[board departure east west]"}, {"board", topology.Needing, "[board east west]"}, {"board", topology.Needed, "[board departure]"},
		{"roster", topology.Both, "[roster]"}, {"nothing", topology.Both, "[]"},
	} {
		if got := fmt.Sprint(topology.Around(needs, x.of, x.way)); got != x.want {
			t.Errorf("%s %s: %s", x.of, x.way, got)
		}
	}
	up := func(ids ...string) map[string]bool {
		out := map[string]bool{}
		for _, id := range ids {
			out[id] = true
		}
		return out
	}
	for _, x := range []struct {
		up, down map[string]bool
		want     string
	}{
		{up("board", "departure", "east", "west", "gates"), nil, "[] [] 0"},
		{up("board", "departure", "east", "gates"), up("west"), "[west] [] 1"},
		{up("gates"), up("east", "west", "board", "departure"), "[east west] [board departure] 0"},
		{up("east", "west", "gates"), up("board", "departure"), "[board] [departure] 0"},
		{nil, up("board", "departure"), "[board] [departure] 0"}, // the others are not measured
	} {
		roots, taken, tight := topology.Trouble(needs, x.up, x.down)
		if got := fmt.Sprint(roots, taken, tight); got != x.want {
			t.Errorf("%v down: %s", x.down, got)
		}
	}
}
