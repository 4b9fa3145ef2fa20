package cli

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/seal"
	"kestite/server/report"
)

// keyOf is a key that tests sign with.
func keyOf(t *testing.T, seed byte) (private ed25519.PrivateKey, id, file string) {
	t.Helper()
	private = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, ed25519.SeedSize))
	public, _ := private.Public().(ed25519.PublicKey)
	text, err := seal.PEM(public)
	if err != nil {
		t.Fatal(err)
	}
	file = filepath.Join(t.TempDir(), "key.pem")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return private, seal.KeyID(public), file
}

// published makes the archive of a vector's only agreement.
func published(t *testing.T, vector string, number int64, previous *seal.Link, private ed25519.PrivateKey, key string, edit func(map[string][]byte)) *seal.Archive {
	t.Helper()
	r, err := readEvidence(vector, nil, os.Stderr)
	if err != nil {
		t.Fatal(err)
	}
	defer r.source.close()
	a := r.accounts[0]
	c := report.Content{Format: report.Format, Organisation: "Skerry Line", Agreement: a.Agreement, Name: "Ticket sales", Period: "2026-03", Number: 1, Account: *a, Outages: report.OutagesOf(a)}
	files := map[string][]byte{"report.pdf": []byte("%PDF")}
	must := func(b []byte, err error) []byte {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	files[seal.ReportName] = must(json.Marshal(c))
	files["report.csv"] = must(c.CSV())
	files[seal.AccountName] = must(seal.EncodeAccounts([]*account.Account{a}))
	files[seal.BundleName] = must(os.ReadFile(filepath.Join(vector, "bundle.json")))
	files[seal.MeasurementsName] = must(os.ReadFile(filepath.Join(vector, "measurements.csv")))
	if edit != nil {
		edit(files)
	}
	m := seal.Manifest{Format: seal.Format, Organisation: "Skerry Line", Customer: "port", CustomerName: "Port authority", Number: number, Agreement: a.Agreement, Name: "Ticket sales",
		Period: "2026-03", Report: 1, PublishedBy: "Mikkel Brand", Evidence: seal.ByMeasurements, Files: seal.FilesOf(files), Previous: previous, Key: key}
	encoded := must(m.Encode())
	return &seal.Archive{Manifest: m, Encoded: encoded, Signature: seal.Sign(private, encoded), Files: files}
}

func write(t *testing.T, a *seal.Archive) string {
	t.Helper()
	var buf bytes.Buffer
	if err := a.Write(&buf); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(t.TempDir(), "report.zip")
	if err := os.WriteFile(name, buf.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

func verify(args ...string) (status int, out string) {
	var stdout, stderr bytes.Buffer
	status = Run(append([]string{"verify"}, args...), strings.NewReader(""), &stdout, &stderr)
	return status, stdout.String() + stderr.String()
}

// Every vector with one agreement, published, verifies and recomputes; kestite account
// reads the archive as it is.
func TestVerifyRecomputesEveryVector(t *testing.T) {
	private, id, key := keyOf(t, 1)
	dirs, err := filepath.Glob(vectors + "/*")
	if err != nil {
		t.Fatal(err)
	}
	checked := 0
	for _, dir := range dirs {
		r, err := readEvidence(dir, nil, os.Stderr)
		if err != nil {
			t.Fatal(err)
		}
		alone := len(r.accounts) == 1
		r.source.close()
		if !alone {
			continue
		}
		checked++
		name := write(t, published(t, dir, 1, nil, private, id, nil))
		if status, out := verify("--key", key, name); status != 0 || !strings.Contains(out, "recomputed from all measurements") {
			t.Errorf("%s: %d\n%s", dir, status, out)
		}
		if got, _, err := runAccount(t, nil, name); err != nil || !strings.Contains(got, account.Format) {
			t.Errorf("kestite account of the archive of %s: %v", dir, err)
		}
	}
	if checked < 30 {
		t.Errorf("only %d vectors", checked)
	}
}

// No byte of an archive can be changed, left out or added unseen.
// The archives of every vector that have what was judged in place of the measurements give the
// same account, but for response times, and explain it.
func TestAccountReadsWhatWasJudged(t *testing.T) {
	private, key, _ := keyOf(t, 1)
	dirs, _ := filepath.Glob(vectors + "/*")
	count := 0
	for _, dir := range dirs {
		r, err := readEvidence(dir, nil, io.Discard)
		if err != nil {
			t.Fatal(err)
		}
		r.source.close()
		if len(r.accounts) != 1 {
			continue
		}
		count++
		var lanes []seal.Lane
		for check, list := range r.bundle.Checks {
			seen := map[string]bool{}
			for _, revision := range list {
				for _, location := range revision.Locations {
					if !seen[location] {
						seen[location] = true
						lanes = append(lanes, seal.Lane{Check: check, Location: location, Stretches: r.rows.Stretches(check, location)})
					}
				}
			}
		}
		archive := write(t, published(t, dir, 1, nil, private, key, func(files map[string][]byte) {
			delete(files, seal.MeasurementsName)
			files[seal.StretchesName], err = json.Marshal(lanes)
			if err != nil {
				t.Fatal(err)
			}
		}))
		got, told, err := runAccount(t, nil, archive)
		if err != nil || !strings.Contains(told, "only what was judged") {
			t.Errorf("%s: %v, %s", dir, err, told)
			continue
		}
		want := *r.accounts[0]
		want.Latency = nil
		text, err := seal.EncodeAccounts([]*account.Account{&want})
		if err != nil || got != string(text) {
			t.Errorf("%s: it is\n%s, not\n%s (%v)", dir, got, text, err)
		}
		said, _, err := runAccount(t, nil, archive, "--explain", want.From.String())
		whole, _, failed := runAccount(t, nil, dir, "--explain", want.From.String())
		first := func(s string) string { line, _, _ := strings.Cut(s, "\n"); return line }
		if err != nil || failed != nil || first(said) != first(whole) || strings.Contains(said, "line ") {
			t.Errorf("%s: %v %v, %s, not %s", dir, err, failed, said, whole)
		}
	}
	if count < 30 {
		t.Errorf("only %d vectors", count)
	}
	for _, bad := range []string{`[{"check":"page","location":"tolvik","stretches":[{"state":"up","own":"up","first_at":"2026-03-01T00:01:00.000Z","last_at":"2026-03-01T00:00:00.000Z","count":1}]}]`, `{}`, `[`} {
		archive := write(t, published(t, dirs[0], 1, nil, private, key, func(files map[string][]byte) {
			delete(files, seal.MeasurementsName)
			files[seal.StretchesName] = []byte(bad)
		}))
		if _, _, err := runAccount(t, nil, archive); err == nil || !strings.Contains(err.Error(), "stretches.json: ") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

func TestNoByteCanBeChanged(t *testing.T) {
	private, id, _ := keyOf(t, 1)
	public, _ := private.Public().(ed25519.PublicKey)
	keys := map[string]ed25519.PublicKey{id: public}
	dirs, err := filepath.Glob(vectors + "/01*")
	if err != nil || len(dirs) != 1 {
		t.Fatal(dirs, err)
	}
	var buf bytes.Buffer
	if err := published(t, dirs[0], 1, nil, private, id, nil).Write(&buf); err != nil {
		t.Fatal(err)
	}
	good := buf.Bytes()
	holds := func(b []byte) bool {
		a, err := seal.Read(bytes.NewReader(b), int64(len(b)))
		return err == nil && a.SignedBy(keys) == nil
	}
	if !holds(good) {
		t.Fatal("the archive does not hold as it is")
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 10_000 {
		bad := bytes.Clone(good)
		at := r.IntN(len(bad))
		bad[at] ^= byte(1 + r.IntN(255))
		if holds(bad) {
			t.Fatalf("byte %d of %d can be changed", at, len(bad))
		}
	}
	for what, bad := range map[string][]byte{
		"a byte more": append(bytes.Clone(good), 0), "a byte less": good[:len(good)-1], "a byte before": append([]byte{0}, good...), "nothing": {},
		"twice": append(bytes.Clone(good), good...),
	} {
		if holds(bad) {
			t.Errorf("%s holds", what)
		}
	}
}

// What is wrong is told, with its path and value, and the exit status says that it is.
func TestVerifyTellsWhatIsWrong(t *testing.T) {
	private, id, key := keyOf(t, 1)
	thief, _, thiefs := keyOf(t, 2)
	dir := vectors + "/01-" // the first vector, whatever it is called
	dirs, _ := filepath.Glob(dir + "*")
	vector := dirs[0]
	first := published(t, vector, 1, nil, private, id, nil)
	link := func(a *seal.Archive) *seal.Link { l := a.Manifest.Link(a.Encoded); return &l }
	second := published(t, vector, 2, link(first), private, id, func(f map[string][]byte) { f["report.pdf"] = []byte("%PDF 2") })
	third := published(t, vector, 3, link(second), private, id, nil)
	other := published(t, vector, 2, link(first), private, id, func(f map[string][]byte) { f["report.pdf"] = []byte("%PDF other") })
	rewritten := published(t, vector, 1, nil, private, id, func(f map[string][]byte) { f["report.pdf"] = []byte("%PDF again") })
	figures := func(name, from, to string) *seal.Archive {
		return published(t, vector, 1, nil, private, id, func(f map[string][]byte) {
			if !bytes.Contains(f[name], []byte(from)) {
				t.Fatalf("%s has no %s", name, from)
			}
			f[name] = bytes.Replace(f[name], []byte(from), []byte(to), 1)
		})
	}
	stolen := published(t, vector, 1, nil, thief, id, nil)
	unsigned := *first
	unsigned.Signature = nil
	code := func(a *seal.Archive) string { return link(a).Code() }
	all := []string{"--key", key}
	for what, c := range map[string]struct {
		args   []string
		status int
		says   string
	}{
		"one":                       {append(all, write(t, first)), 0, "ok      signed with the key " + id},
		"three, in any order":       {append(all, write(t, third), write(t, first), write(t, second)), 0, "3 of the chain"},
		"one without those before":  {append(all, write(t, third)), 0, "number 2, the one before number 3, was not given"},
		"one in the middle missing": {append(all, write(t, first), write(t, third)), 0, "number 2, the one before number 3, was not given"},
		"a fork":                    {append(all, write(t, second), write(t, other)), 1, "two different reports have the number 2"},
		"a history rewritten":       {append(all, write(t, rewritten), write(t, second)), 1, "does not follow from number 1"},
		"a code that was kept":      {append(all, "--code", code(first), "--code", strings.ToLower(code(second)), write(t, third), write(t, second)), 0, "none of which contradicts"},
		"a code of another history": {append(all, "--code", code(rewritten), write(t, first), write(t, second)), 1, "another was told then"},
		"two codes of one number":   {append(all, "--code", code(rewritten), "--code", code(first), write(t, third)), 1, "two different histories were told"},
		"a code of what is unknown": {append(all, "--code", code(first), write(t, third)), 0, "can be compared with nothing"},
		"no code":                   {append(all, "--code", "K7Q2M", write(t, first)), 2, "is no code"},
		"another's key given":       {[]string{"--key", thiefs, write(t, first)}, 1, "which was not given"},
		"signed by a thief":         {append(all, write(t, stolen)), 1, "the signature is not that of the key"},
		"not signed":                {append(all, write(t, &unsigned)), 1, "its signature is missing"},
		"no key":                    {[]string{write(t, first)}, 2, "--key is missing"},
		"a key that is none":        {[]string{"--key", write(t, first), write(t, first)}, 2, "no public key"},
		"no file":                   {append(all, filepath.Join(t.TempDir(), "nothing.zip")), 2, "no such file"},
		"no archive":                {append(all, key), 1, "no archive of a report"},
		"nothing named":             {all, 2, "name at least one"},
		"a figure of the account":   {append(all, write(t, figures(seal.AccountName, `"downtime_ms": `, `"downtime_ms": 1`))), 1, "account.json: accounts[0].downtime_ms is"},
		"a figure of the report":    {append(all, write(t, figures(seal.ReportName, `"downtime_ms":`, `"downtime_ms":1`))), 1, "report.json: account.downtime_ms is"},
		"a measurement less": {append(all, write(t, published(t, vector, 1, nil, private, id, func(f map[string][]byte) {
			f[seal.MeasurementsName] = bytes.SplitAfterN(f[seal.MeasurementsName], []byte("\n"), 2)[0]
		}))), 1, "recomputed it is"},
		"rows of the document":         {append(all, write(t, figures("report.csv", "agreement,", "agreements,"))), 1, "report.csv does not follow"},
		"definitions that are refused": {append(all, write(t, figures(seal.BundleName, `"format"`, `"formal"`))), 1, "cannot be recomputed"},
	} {
		status, out := verify(c.args...)
		if status != c.status || !strings.Contains(out, c.says) {
			t.Errorf("%s: %d, want %d and %q\n%s", what, status, c.status, c.says, out)
		}
	}
}

// The script in docs/, that shares nothing with this program, says the same of archives.
func TestTheScriptInTheDocsAgrees(t *testing.T) {
	private, id, key := keyOf(t, 1)
	thief, _, _ := keyOf(t, 2)
	dirs, _ := filepath.Glob(vectors + "/01-*")
	first := published(t, dirs[0], 1, nil, private, id, nil)
	link := first.Manifest.Link(first.Encoded)
	second := published(t, dirs[0], 2, &link, private, id, func(f map[string][]byte) { f["report.pdf"] = []byte("%PDF 2") })
	rewritten := published(t, dirs[0], 1, nil, private, id, func(f map[string][]byte) { f["report.pdf"] = []byte("%PDF again") })
	script := func(files ...string) int {
		t.Helper()
		cmd := exec.Command("node", append([]string{"../../../docs/verify.mjs", key}, files...)...)
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			t.Fatalf("%v: %s", err, out)
		}
		return cmd.ProcessState.ExitCode()
	}
	for what, c := range map[string]struct {
		files  []string
		status int
	}{
		"two that follow":     {[]string{write(t, second), write(t, first)}, 0},
		"one":                 {[]string{write(t, first)}, 0},
		"a history rewritten": {[]string{write(t, rewritten), write(t, second)}, 1},
		"a thief's":           {[]string{write(t, published(t, dirs[0], 1, nil, thief, id, nil))}, 1},
	} {
		if status := script(c.files...); status != c.status {
			t.Errorf("%s: %d", what, status)
		}
		if status, out := verify(append([]string{"--key", key}, c.files...)...); status != c.status {
			t.Errorf("%s: verify says %d\n%s", what, status, out)
		}
	}
	// Written, signed and read by nobody else, and no archive.
	signed := func(text string) *seal.Archive {
		return &seal.Archive{Manifest: first.Manifest, Encoded: []byte(text), Signature: seal.Sign(private, []byte(text)), Files: first.Files}
	}
	manifest := string(first.Encoded)
	changed := func(from, to string) *seal.Archive {
		t.Helper()
		if !strings.Contains(manifest, from) {
			t.Fatalf("the manifest has no %s", from)
		}
		return signed(strings.Replace(manifest, from, to, 1))
	}
	renamed := func(name string) *seal.Archive {
		return published(t, dirs[0], 1, nil, private, id, func(f map[string][]byte) { f[name] = []byte("x") })
	}
	padded := *first
	padded.Signature = append([]byte(" "), first.Signature...)
	missing := *first
	missing.Files = maps.Clone(first.Files)
	missing.Files["report.pdf"] = []byte("%PDF other")
	of := func(edit func(*seal.Manifest)) *seal.Archive {
		m := first.Manifest
		edit(&m)
		encoded, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		return &seal.Archive{Manifest: m, Encoded: encoded, Signature: seal.Sign(private, encoded), Files: first.Files}
	}
	for what, c := range map[string]struct {
		archive *seal.Archive
		status  int
	}{
		"a member more":         {changed(`"format"`, `"more": 1, "format"`), 1},
		"a member twice":        {changed(`"number": 1`, `"number": 1, "number": 1`), 1},
		"spaces":                {changed(`"number": 1`, `"number":  1`), 1},
		"no line's end":         {signed(strings.TrimSuffix(manifest, "\n")), 1},
		"a number as a text":    {changed(`"number": 1`, `"number": "1"`), 1},
		"a number of a half":    {changed(`"number": 1`, `"number": 1.5`), 1},
		"another format":        {changed("kestite-manifest/1", "kestite-manifest/2"), 1},
		"another time":          {changed(`"published_at": "`, `"published_at": "x`), 1},
		"a signature moved":     {&padded, 1},
		"another file":          {&missing, 1},
		"a file of a folder":    {renamed("a/b"), 1},
		"a file like the first": {renamed("manifest.json"), 1},
		"number 0":              {of(func(m *seal.Manifest) { m.Number = 0; m.Previous = &seal.Link{Number: -1} }), 1},
		"names of odd letters":  {of(func(m *seal.Manifest) { m.Name = "a<b>&\u2028\u202e\n  ok      signed" }), 0},
	} {
		name := write(t, c.archive)
		own, out := verify("--key", key, name)
		// What it says follows from its measurements, whoever named it what.
		if what == "names of odd letters" && own == 1 && strings.Count(out, "WRONG") == 0 || own != c.status {
			t.Errorf("%s: verify says %d\n%s", what, own, out)
		}
		if status := script(name); status != c.status {
			t.Errorf("%s: the script says %d", what, status)
		}
	}
	good, err := os.ReadFile(write(t, first))
	if err != nil {
		t.Fatal(err)
	}
	// Every byte that is not of a file's content, and some that are.
	r := rand.New(rand.NewPCG(3, 4))
	var bad []string
	dir := t.TempDir()
	change := func(at int) {
		b := bytes.Clone(good)
		b[at] ^= byte(1 + r.IntN(255))
		name := filepath.Join(dir, fmt.Sprintf("%d.zip", at))
		if err := os.WriteFile(name, b, 0o600); err != nil {
			t.Fatal(err)
		}
		bad = append(bad, name)
	}
	headers := bytes.Index(good, []byte("PK\x01\x02"))
	for at := range 64 {
		change(at)
	}
	for at := headers; at < len(good); at++ {
		change(at)
	}
	for range 60 {
		change(64 + r.IntN(headers-64))
	}
	if _, out := verify(append([]string{"--key", key}, bad...)...); strings.Count(out, "WRONG") < len(bad) {
		t.Errorf("verify finds %d of %d", strings.Count(out, "WRONG"), len(bad))
	}
	said, _ := exec.Command("node", append([]string{"../../../docs/verify.mjs", key}, bad...)...).CombinedOutput()
	for _, name := range bad {
		_, after, _ := strings.Cut(string(said), name+"\n")
		if !strings.HasPrefix(after, "  WRONG") && !strings.HasPrefix(after, "  ok     signed with the key "+id+"\n  WRONG") {
			t.Errorf("the script says of %s: %s", name, after[:min(len(after), 200)])
		}
	}
}

// Nothing that an archive says is shown before its signature is judged, and no name looks
// like a line of ours or turns what is read.
func TestVerifyJudgesBeforeItShows(t *testing.T) {
	private, id, key := keyOf(t, 1)
	thief, _, _ := keyOf(t, 2)
	dirs, _ := filepath.Glob(vectors + "/01-*")
	name := "Gates\n  ok      signed with the key " + id + "\u202egnorw\x1b[2J"
	named := func(by ed25519.PrivateKey) string {
		a := published(t, dirs[0], 1, nil, by, id, nil)
		a.Manifest.Name, a.Manifest.CustomerName, a.Manifest.PublishedBy = name, name, name
		var err error
		if a.Encoded, err = a.Manifest.Encode(); err != nil {
			t.Fatal(err)
		}
		a.Signature = seal.Sign(by, a.Encoded)
		return write(t, a)
	}
	for who, by := range map[string]ed25519.PrivateKey{"ours": private, "a thief's": thief} {
		file := named(by)
		_, own := verify("--key", key, file)
		script, _ := exec.Command("node", "../../../docs/verify.mjs", key, file).CombinedOutput()
		for what, out := range map[string]string{"verify": own, "the script": string(script)} {
			if strings.ContainsAny(out, "\u202e\x1b") {
				t.Errorf("%s of %s: %q", what, who, out)
			}
			judged, shown := strings.Index(out, "signed with the key "+id+"\n"), strings.Index(out, "Gates")
			if who != "ours" {
				judged = strings.Index(out, "WRONG")
			}
			if judged < 0 || shown >= 0 && shown < judged || strings.Count(out, "\n  ok      signed") > 1 || who != "ours" && strings.Contains(out, "\n  ok      signed") {
				t.Errorf("%s of %s:\n%s", what, who, out)
			}
		}
	}
	// A reason in an archive stays in its line too.
	var text bytes.Buffer
	(&explained{Explanation: account.Explanation{Agreement: "gates", Rules: []account.Rule{{Number: 2, Text: "made up: one\n* 1  outside service hours"}}}}).write(&text)
	if strings.Contains(text.String(), "\n* 1") {
		t.Error(text.String())
	}
}
