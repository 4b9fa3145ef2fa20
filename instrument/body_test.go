package instrument_test

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"

	"kestite/core/definition"
	"kestite/core/measure"
)

func packed(t *testing.T, make func(io.Writer) io.WriteCloser, body string) string {
	t.Helper()
	var out bytes.Buffer
	w := make(&out)
	if _, err := io.WriteString(w, body); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func zipped(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) }

// Text is looked for in what people read, whatever it is packed in and written in;
// where that cannot be, it is said, and what is forbidden does not pass by it.
func TestTextIsReadAsPeopleReadIt(t *testing.T) {
	t.Parallel() // it waits more than it measures
	const page = "<p>Överfart inställd: 沿岸</p>"
	latin, err := charmap.ISO8859_1.NewEncoder().String("<p>Överfart inställd</p>")
	if err != nil {
		t.Fatal(err)
	}
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(page)
	if err != nil {
		t.Fatal(err)
	}
	escaped, err := japanese.ISO2022JP.NewEncoder().String(`<meta charset="iso-2022-jp"><p>沿岸</p>`)
	if err != nil {
		t.Fatal(err)
	}
	gz := packed(t, zipped, page)
	bomb := packed(t, zipped, strings.Repeat("sea ", 1<<28/4))
	type answer struct{ coding, kind, body string }
	for name, c := range map[string]struct {
		answer    answer
		text      string
		forbidden string
		want      measure.Outcome
		says      string
	}{
		"plain UTF-8":                           {answer{"", "text/html; charset=utf-8", page}, "inställd: 沿岸", "", measure.OK, ""},
		"gzip":                                  {answer{"gzip", "text/html; charset=utf-8", gz}, "inställd: 沿岸", "", measure.OK, ""},
		"gzip, another name":                    {answer{"X-GZip", "text/html; charset=utf-8", gz}, "inställd", "", measure.OK, ""},
		"deflate":                               {answer{"deflate", "text/html; charset=utf-8", packed(t, func(w io.Writer) io.WriteCloser { return zlib.NewWriter(w) }, page)}, "inställd", "", measure.OK, ""},
		"deflate without its frame":             {answer{"deflate", "text/html; charset=utf-8", packed(t, func(w io.Writer) io.WriteCloser { f, _ := flate.NewWriter(w, 6); return f }, page)}, "inställd", "", measure.OK, ""},
		"packed twice":                          {answer{"deflate, gzip", "text/html", packed(t, zipped, packed(t, func(w io.Writer) io.WriteCloser { return zlib.NewWriter(w) }, page))}, "inställd", "", measure.OK, ""},
		"forbidden, packed":                     {answer{"gzip", "text/html; charset=utf-8", gz}, "", "inställd", measure.Failed, "the forbidden text"},
		"forbidden, packed, absent":             {answer{"gzip", "text/html; charset=utf-8", gz}, "", "sjuk", measure.OK, ""},
		"packed as something else":              {answer{"br", "text/html", "\x8b\x03\x80"}, "inställd", "", measure.Failed, `it is packed as "br", which is not unpacked here`},
		"forbidden, packed as something else":   {answer{"br", "text/html", "\x8b\x03\x80"}, "", "inställd", measure.Failed, "not unpacked here"},
		"packed three times":                    {answer{"gzip, gzip, gzip", "text/html", gz}, "", "inställd", measure.Failed, "packed 3 times over"},
		"no gzip at all":                        {answer{"gzip", "text/html", page}, "", "sjuk", measure.Failed, "it says that it is packed as gzip, and cannot be unpacked"},
		"half of a gzip":                        {answer{"gzip", "text/html", gz[:len(gz)-12]}, "", "sjuk", measure.Failed, "cannot be unpacked"},
		"a bomb":                                {answer{"gzip", "text/html", bomb}, "", "sjuk", measure.Failed, "nobody knows whether what is forbidden stands behind them"},
		"a bomb with the text in it":            {answer{"gzip", "text/html", bomb}, "sea sea", "", measure.OK, ""},
		"Latin 1 by its header":                 {answer{"", "text/html; charset=ISO-8859-1", latin}, "Överfart inställd", "", measure.OK, ""},
		"forbidden, Latin 1":                    {answer{"", "text/html; charset=ISO-8859-1", latin}, "", "inställd", measure.Failed, "the forbidden text"},
		"Latin 1 by itself":                     {answer{"", "text/html", `<meta charset="latin1">` + latin}, "Överfart", "", measure.OK, ""},
		"nothing says which, and it is Latin 1": {answer{"", "text/html", latin}, "Överfart", "", measure.OK, ""},
		"nothing says which, and it is UTF-8":   {answer{"", "text/plain", strings.Repeat("x", 3000) + page}, "inställd: 沿岸", "", measure.OK, ""},
		"UTF-16 by its mark":                    {answer{"", "text/html", wide}, "inställd: 沿岸", "", measure.OK, ""},
		"forbidden in UTF-16":                   {answer{"", "text/html", wide}, "", "inställd", measure.Failed, "the forbidden text"},
		"shift codes that look like ASCII":      {answer{"", "text/html", escaped}, "", "沿岸", measure.Failed, "the forbidden text"},
		"a character set of nobody":             {answer{"", "text/html; charset=skerry-7", page}, "", "sjuk", measure.Failed, `its character set "skerry-7" is not read here`},
		"one that is never read":                {answer{"", "text/html; charset=iso-2022-kr", page}, "", "sjuk", measure.Failed, "is not read here"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if c.answer.coding != "" {
				w.Header().Set("Content-Encoding", c.answer.coding)
			}
			w.Header().Set("Content-Type", c.answer.kind)
			io.WriteString(w, c.answer.body)
		}))
		r := set(t).Measure(context.Background(), web(server.URL, 10*time.Second, definition.HTTPSettings{Text: c.text, ForbiddenText: c.forbidden}))
		server.Close()
		if r.Outcome != c.want || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %v %q, want %v %q", name, r.Outcome, r.Detail, c.want, c.says)
		}
		if got := r.Measures("http")["size_bytes"]; got != float64(len(c.answer.body)) {
			t.Errorf("%s: size %v, and %d bytes came", name, got, len(c.answer.body))
		}
		if c.want == measure.Failed && c.answer.coding == "gzip" && c.forbidden == "inställd" && !strings.Contains(r.Findings.Response.Body, "inställd") {
			t.Errorf("%s: kept for people: %q", name, r.Findings.Response.Body)
		}
	}
}

// An answer made to be looked through for ever is not: the measurement ends when its
// time is up, and takes no more memory than one may.
func TestSearchIsBounded(t *testing.T) {
	deep := strings.Repeat(`{"a":`, 400) + "1" + strings.Repeat("}", 400)
	for name, c := range map[string]struct {
		body string
		set  definition.HTTPSettings
		want measure.Outcome
		says string
	}{
		"a pattern that takes long":  {strings.Repeat("a", 12<<20), definition.HTTPSettings{Pattern: `(a?){900}(b|c{900})`}, measure.Error, "did not end in time"},
		"many values":                {"[" + strings.Repeat("0,", 3<<20) + "0]", definition.HTTPSettings{JSONPath: "$[0]"}, measure.Failed, "more than 100000 parts"},
		"many objects":               {"[" + strings.Repeat(`{"":0},`, 1<<19) + "0]", definition.HTTPSettings{JSONPath: "$..a"}, measure.Failed, "more than 100000 parts"},
		"as many as may be":          {"[" + strings.Repeat(`{"":0},`, 24_000) + "0]", definition.HTTPSettings{JSONPath: "$[24000]"}, measure.OK, ""},
		"deep, and looked through":   {"[" + strings.Repeat(deep+",", 60) + "0]", definition.HTTPSettings{JSONPath: "$..a"}, measure.Failed, "values in the answer"},
		"long":                       {`"` + strings.Repeat("a", 9<<20) + `"`, definition.HTTPSettings{JSONPath: "$"}, measure.Failed, "longer than the 8388608 bytes that are read of JSON"},
		"one long text":              {`{"a":"` + strings.Repeat("a", 7<<20) + `","b":7}`, definition.HTTPSettings{JSONPath: "$.b"}, measure.OK, ""},
		"a filter over all":          {"[" + strings.Repeat(`{"a":{"b":1}},`, 12_000) + "0]", definition.HTTPSettings{JSONPath: "$..[?@.a.b == 2]"}, measure.Failed, "selects 0 values"},
		"a regular expression in it": {`[{"a":"b"}]`, definition.HTTPSettings{JSONPath: `$[?match("b", @.a)]`}, measure.Failed, "a regular expression (match, search)"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, c.body) }))
		most := peak(func() {
			r := set(t).Measure(context.Background(), web(server.URL, 3*time.Second, c.set))
			if r.Outcome != c.want || !strings.Contains(r.Detail, c.says) {
				t.Errorf("%s: %v %.200q, want %v %q", name, r.Outcome, r.Detail, c.want, c.says)
			}
		})
		server.Close()
		if most > 64<<20 {
			t.Errorf("%s: %d MiB were in use", name, most>>20)
		}
	}
	for _, pattern := range []string{strings.Repeat("a{0,1000}", 20), "((a{10}){10}){10}" + strings.Repeat("[a-z]{0,999}", 10)} {
		if err := (definition.HTTPSettings{Pattern: pattern}).Check(); err == nil || !strings.Contains(fmt.Sprint(err), "repeat less") {
			t.Errorf("%q: %v", pattern, err)
		}
	}
}

// peak is how much more memory was in use while f ran than before, as far as looking
// every few milliseconds tells.
func peak(f func()) (most uint64) {
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	done, end := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(end)
		for {
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapAlloc-min(before.HeapAlloc, now.HeapAlloc))
			select {
			case <-done:
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}()
	f()
	close(done)
	<-end
	return most
}
