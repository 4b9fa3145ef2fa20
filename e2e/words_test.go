package e2e

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"

	"kestite/core/span"
)

// script evaluates the front end's own module and writes how it says each of a list of
// durations, cut off and rounded up.
const script = `
const ts = require('typescript'), fs = require('fs')
const js = ts.transpileModule(fs.readFileSync('src/time/format.ts', 'utf8'), { compilerOptions: { module: 'commonjs', target: 'es2022' } }).outputText
const m = { exports: {} }
new Function('exports', 'require', 'module', js)(m.exports, require, m)
const list = JSON.parse(fs.readFileSync(0, 'utf8'))
console.log(JSON.stringify(list.map((ms) => [m.exports.duration(ms), m.exports.durationUp(ms)])))`

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
	in, err := json.Marshal(list)
	if err != nil {
		t.Fatal(err)
	}
	run := exec.Command("node", "-e", script)
	run.Dir, run.Stdin, run.Stderr = "../web", bytes.NewReader(in), os.Stderr
	out, err := run.Output()
	if err != nil {
		t.Fatal(err)
	}
	var got [][2]string
	if err := json.Unmarshal(out, &got); err != nil || len(got) != len(list) {
		t.Fatalf("%d of %d: %v", len(got), len(list), err)
	}
	for i, ms := range list {
		if want := [2]string{span.Words(ms), span.WordsUp(ms)}; got[i] != want {
			t.Fatalf("%d ms is %q and %q on the screen, %q and %q elsewhere", ms, got[i][0], got[i][1], want[0], want[1])
		}
	}
}
