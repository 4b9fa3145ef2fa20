package instrument

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// A secret goes to the origins it is bound to, through redirects too, and nowhere else.
func TestASecretStaysAtItsOrigins(t *testing.T) {
	var got []string
	note := func(name string, then http.HandlerFunc) *httptest.Server {
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			got = append(got, name+" "+r.Header.Get("Authorization")+r.URL.RawQuery)
			then(w, r)
		}))
		t.Cleanup(srv.Close)
		return srv
	}
	end := note("stranger", func(http.ResponseWriter, *http.Request) {})
	second := note("second", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, end.URL+"/", http.StatusFound) })
	first := note("first", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, second.URL+"/", http.StatusFound) })
	s := NewSet(LocalPolicy())
	defer s.Close()
	for name, c := range map[string]struct {
		secret Secret
		want   string
	}{
		"bound to the first": {Secret{Kind: "bearer", Value: "herring", Origins: []string{first.URL}},
			"first Bearer herring|second |stranger "},
		"bound to two": {Secret{Kind: "bearer", Value: "herring", Origins: []string{first.URL, second.URL}},
			"first Bearer herring|second Bearer herring|stranger "},
		"bound elsewhere": {Secret{Kind: "bearer", Value: "herring", Origins: []string{"https://booking.skerry.example"}},
			"first |second |stranger "},
		"in the address": {Secret{Kind: "query", Parameter: "api_key", Value: "her&ring", Origins: []string{second.URL}},
			"first |second api_key=her%26ring|stranger "},
		"of an older server": {Secret{Kind: "bearer", Value: "herring"}, "first Bearer herring|second |stranger "},
		"bound to other port": {Secret{Kind: "bearer", Value: "herring", Origins: []string{"http://127.0.0.1"}},
			"first |second |stranger "},
	} {
		got = nil
		s.Measure(context.Background(), Task{
			Kind: "http", Target: first.URL, Timeout: 5 * time.Second, Secret: &c.secret,
			Settings: definition.Settings{HTTP: &definition.HTTPSettings{Credential: "c", Redirects: 3}},
		})
		if all := strings.Join(got, "|"); all != c.want {
			t.Errorf("%s: %s, not %s", name, all, c.want)
		}
	}
}

func TestARepeatedSecretIsMasked(t *testing.T) {
	const value = `Her"ring/<8>&'é+`
	quoted, _ := json.Marshal(value)
	loose := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(quoted))
	for name, text := range map[string]string{
		"as it is":               value,
		"in capitals":            strings.ToUpper(value),
		"in small letters":       strings.ToLower(value),
		"in an address":          url.QueryEscape(value),
		"in a path":              url.PathEscape(value),
		"in JSON":                string(quoted),
		"in JSON, loosely":       loose,
		"in HTML":                html.EscapeString(value),
		"in HTML, by names":      "Her&quot;ring/&lt;8&gt;&amp;&apos;é+",
		"in base64":              base64.StdEncoding.EncodeToString([]byte(value)),
		"in base64, for URLs":    base64.RawURLEncoding.EncodeToString([]byte(value)),
		"in base64, one along":   base64.StdEncoding.EncodeToString([]byte("x" + value + "y")),
		"in base64, two along":   base64.StdEncoding.EncodeToString([]byte("xy" + value)),
		"in base64 with a name":  base64.StdEncoding.EncodeToString([]byte("desk:" + value)),
		"in hexadecimal":         fmt.Sprintf("%x", value),
		"in hexadecimal, larger": fmt.Sprintf("%X", value),
	} {
		x := &exchange{secret: &Secret{Kind: "basic", User: "desk", Value: value}}
		got := x.mask("before " + text + " after")
		if !strings.Contains(got, masked) || !strings.HasPrefix(got, "before ") || !strings.HasSuffix(got, " after") {
			t.Errorf("%s: %s", name, got)
		}
		for _, part := range []string{"ring/", "RING/", "ring%2F", "ring\\/", base64.StdEncoding.EncodeToString([]byte(value))[4:12]} {
			if strings.Contains(got, part) {
				t.Errorf("%s: %s is left in %s", name, part, got)
			}
		}
	}
	// Without any credential: what in an address or a header goes by the name of a secret.
	x := &exchange{}
	for text, want := range map[string]string{
		"https://a.example/cb?state=7&access_token=herring&x=1": "https://a.example/cb?state=7&access_token=" + masked + "&x=1",
		"https://a.example/cb#id_token=herring":                 "https://a.example/cb#id_token=" + masked,
		"https://a.example/?sailing=0815":                       "https://a.example/?sailing=0815",
	} {
		if got := x.mask(text); got != want {
			t.Errorf("%s, not %s", got, want)
		}
	}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for _, name := range []string{"Set-Cookie", "X-Auth-Token", "X-Csrf-Token", "X-Api-Key", "Proxy-Authorization"} {
			w.Header().Set(name, "herring")
		}
		w.Header().Set("X-Harbour", "Tolvik")
		w.WriteHeader(http.StatusInternalServerError)
	}))
	defer srv.Close()
	s := NewSet(LocalPolicy())
	defer s.Close()
	r := s.Measure(context.Background(), Task{Kind: "http", Target: srv.URL, Timeout: 5 * time.Second})
	kept := fmt.Sprint(r.Findings.Response)
	if r.Outcome != measure.Failed || strings.Contains(kept, "herring") || !strings.Contains(kept,
		"Tolvik") || !strings.Contains(kept, "X-Auth-Token: "+masked) {
		t.Errorf("kept of the answer: %s", kept)
	}
}
