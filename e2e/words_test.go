package e2e

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"

	"kestite/core/span"
)

// script evaluates a module of the front end, with those it imports, and writes what
// an expression of it makes of the input.
const script = `
const ts = require('typescript'), fs = require('fs'), path = require('path')
const load = (file) => {
	const js = ts.transpileModule(fs.readFileSync(file, 'utf8'), { compilerOptions: { module: 'commonjs', target: 'es2022' } }).outputText
	const m = { exports: {} }
	const own = (name) => name.startsWith('.') ? load(path.join(path.dirname(file), name) + '.ts') : require(name)
	new Function('exports', 'require', 'module', js)(m.exports, own, m)
	return m.exports
}
const [file, expression] = process.argv.slice(1)
const of = new Function('m', 'input', 'return ' + expression)
console.log(JSON.stringify(of(load(file), JSON.parse(fs.readFileSync(0, 'utf8')))))`

// evaluated is what an expression of a module of the front end, m, makes of input.
func evaluated(t *testing.T, module, expression string, input, out any) {
	t.Helper()
	in, err := json.Marshal(input)
	if err != nil {
		t.Fatal(err)
	}
	run := exec.Command("node", "-e", script, module, expression)
	run.Dir, run.Stdin, run.Stderr = "../web", bytes.NewReader(in), os.Stderr
	text, err := run.Output()
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(text, out); err != nil {
		t.Fatalf("%v: %.300s", err, text)
	}
}

// The screen says a duration as the server, the PDF and the command line say it.
func TestDurationsReadAlike(t *testing.T) {
	list := []int64{0, 1, 499, 500, 999, 1000, 1001, 1999, 59_000, 59_001, 59_999, 60_000, 61_000, 3_599_999, 3_600_000, 3_600_001, 3_661_000, 86_399_999, 86_400_000,
		172_799_999, 172_800_000, 172_800_001, 176_400_000, 176_401_000, 2_592_000_000, 31_536_000_000, 34_163_999_999}
	random := rand.New(rand.NewPCG(1, 9))
	for range 3000 {
		list = append(list, random.Int64N(1<<(1+random.IntN(36))))
	}
	for i := range list {
		list = append(list, -list[i])
	}
	var got [][2]string
	evaluated(t, "src/time/format.ts", "input.map((ms) => [m.duration(ms), m.durationUp(ms)])", list, &got)
	if len(got) != len(list) {
		t.Fatalf("%d of %d", len(got), len(list))
	}
	for i, ms := range list {
		if want := [2]string{span.Words(ms), span.WordsUp(ms)}; got[i] != want {
			t.Fatalf("%d ms is %q and %q on the screen, %q and %q elsewhere", ms, got[i][0], got[i][1], want[0], want[1])
		}
	}
}

// Pasted lines are read as people write them; a comma that parts the columns makes no
// promise of 99 % out of 99,95, and good lines stand beside wrong ones.
func TestPastedLines(t *testing.T) {
	type line struct {
		Number                int
		Name, Address, Target string
	}
	type wrong struct {
		Number int
		Text   string
	}
	for text, want := range map[string]struct {
		lines []line
		wrong string // of the first that is
	}{
		"Ticket sales, https://t.example, 99.9":      {[]line{{1, "Ticket sales", "https://t.example", "99.9"}}, ""},
		"Ticket sales;https://t.example;99,95 %":     {[]line{{1, "Ticket sales", "https://t.example", "99.95"}}, ""},
		"Ticket sales\thttps://t.example\t99,95":     {[]line{{1, "Ticket sales", "https://t.example", "99.95"}}, ""},
		"Ticket sales, https://t.example, 99,95":     {nil, "has 4 columns"},
		"Ticket sales, https://t.example, \"99,95\"": {[]line{{1, "Ticket sales", "https://t.example", "99.95"}}, ""},
		"https://t.example/a?b=1":                    {[]line{{1, "t.example", "https://t.example/a?b=1", ""}}, ""},
		"https://t.example, 99.5":                    {[]line{{1, "t.example", "https://t.example", "99.5"}}, ""},
		", https://t.example":                        {nil, "has no name"},
		"Tickets, not an address":                    {nil, "has a space in it"},
		"Tickets, t.example, 101":                    {nil, "no percentage"},
		"Tickets, t.example, 0":                      {nil, "no percentage"},
		"Tickets, t.example, 1e1":                    {nil, "no percentage"},
		"name,address\n\nA, a.example\nB b\n\"C, D\", c.example": {[]line{{3, "A", "a.example", ""}, {5, "C, D", "c.example", ""}},
			"has a space in it"},
		"":   {nil, ""},
		",,": {nil, ""},
	} {
		var got struct {
			Lines []line
			Wrong []wrong
		}
		evaluated(t, "src/services/lines.ts", "m.parse(input)", text, &got)
		if len(got.Lines) != len(want.lines) || (len(got.Wrong) > 0) != (want.wrong != "") || want.wrong != "" &&
			!strings.Contains(got.Wrong[0].Text, want.wrong) {
			t.Errorf("%q: %+v", text, got)
			continue
		}
		for i, l := range want.lines {
			if got.Lines[i] != l {
				t.Errorf("%q: %+v, not %+v", text, got.Lines[i], l)
			}
		}
	}
}

// Numbers are read as people write them, and what is no number is not made one.
func TestDecimalsAsPeopleWriteThem(t *testing.T) {
	for typed, want := range map[string]string{
		"99,95": "99.95", " 99.95 % ": "99.95", "99,95%": "99.95", "-0,5": "-0.5", ",5": ".5", "1.000,5": "1.000,5", "1,2,3": "1,2,3", "": "",
		"soon": "soon", "100": "100",
	} {
		var got string
		if evaluated(t, "src/parts/decimal.ts", "m.decimal(input)", typed, &got); got != want {
			t.Errorf("%q is read as %q", typed, got)
		}
	}
	for typed, good := range map[string]bool{"99,95": true, "100": true, "0": true, "100,1": false, "1.000,5": false, "99,9999999": false,
		"": false, "-1": false} {
		var got any
		if evaluated(t, "src/parts/decimal.ts", "m.validTarget(input)", typed, &got); (got == true) != good {
			t.Errorf("the target %q: %v", typed, got)
		}
	}
}
