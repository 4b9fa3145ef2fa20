package notifying_test

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
	"kestite/server/api"
	"kestite/server/notifying"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/standin"
)

func sender(t *testing.T, allow ...string) *notifying.Sender {
	t.Helper()
	policy, err := instrument.NewPolicy(allow, nil)
	if err != nil {
		t.Fatal(err)
	}
	return &notifying.Sender{Policy: policy}
}

var letter = notifying.Message{ID: "kestite-delivery-7", Thread: "kestite-incident-3", Subject: "[critical] Gå ombord down", Short: "Gå ombord down",
	Text: "Gå ombord has been down <script>alert(1)</script>\n\nhttps://kestite.skerry.example/incidents/3", At: time.Unix(1_790_000_000, 0), Rank: 2,
	Values: map[string]string{"headline": `It said "no" ]`, "what": "begun", "severity": "critical", "incident": "3", "link": "https://kestite.skerry.example/incidents/3"}}

// A mail server with TLS at which one has to sign in: only with its authority trusted and
// the right password is anything sent.
func TestMailIsSentOverTLS(t *testing.T) {
	host := <-at
	authority, err := standin.NewAuthority(time.Now())
	if err != nil {
		t.Fatal(err)
	}
	config, err := authority.Server(host)
	if err != nil {
		t.Fatal(err)
	}
	kept := new(standin.Messages)
	post := &standin.Post{ID: "post", Addr: host + ":8425", TLS: config, User: "kestite", Password: "a made-up secret", Kept: kept}
	if err := post.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { post.Close() })
	s := sender(t, host)
	relay := definition.RelaySpec{Kind: definition.Mail, Address: "smtp://" + post.Addr, Sender: "kestite@skerry.example", Authority: string(authority.PEM())}
	right := &instrument.Secret{Kind: definition.Basic, User: "kestite", Value: "a made-up secret"}
	stranger := relay
	stranger.Authority = ""
	for _, c := range []struct {
		what   string
		relay  definition.RelaySpec
		secret *instrument.Secret
		says   string
	}{
		{"an authority that nobody trusts", stranger, right, "certificate"},
		{"nobody signed in", relay, nil, "authenticate"},
		{"the wrong password", relay, &instrument.Secret{User: "kestite", Value: "no"}, "uthentication"},
	} {
		if _, err := s.Mail(ctx, c.relay, c.secret, "runa@skerry.example", letter); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	if n := len(kept.All()); n > 0 {
		t.Errorf("%d letters arrived that should not", n)
	}
	answer, err := s.Mail(ctx, relay, right, "runa@skerry.example", letter)
	if err != nil || !strings.Contains(answer, "OK") {
		t.Fatalf("%q, %v", answer, err)
	}
	got := kept.All()[0]
	if got.To != "runa@skerry.example" || got.Subject != letter.Subject || got.Text != letter.Text || got.ID != "<kestite-delivery-7@skerry.example>" {
		t.Errorf("what arrived is %+v", got)
	}
	// A report goes with a letter byte by byte.
	with := letter
	with.Attached = &notifying.Attachment{Name: "gates-2026-10-report-1.pdf", Content: bytes.Repeat([]byte("%PDF\x00\xff\r\n"), 20_000)}
	if _, err := s.Mail(ctx, relay, right, "runa@skerry.example", with); err != nil {
		t.Fatal(err)
	}
	if got := kept.All()[0]; got.Text != letter.Text || len(got.Files) != 1 || got.Files[0].Name != with.Attached.Name || got.Files[0].Type != "application/pdf" || !bytes.Equal(got.Files[0].Content, with.Attached.Content) {
		t.Errorf("with a report arrived %q with %d files", got.Text, len(got.Files))
	}
	if err := post.Set(standin.Wrong); err != nil {
		t.Fatal(err)
	}
	var refused *notifying.Refused
	if _, err := s.Mail(ctx, relay, right, "nobody@skerry.example", letter); !errors.As(err, &refused) {
		t.Errorf("an address that does not exist: %v", err)
	}
}

// What is sent is signed, goes once wherever it is pointed to, and nowhere that the
// machine alone knows.
func TestWebhooks(t *testing.T) {
	type got struct {
		header http.Header
		body   string
	}
	var seen []got
	elsewhere := 0
	mux := http.NewServeMux()
	mux.HandleFunc("/in", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		seen = append(seen, got{r.Header, string(body)})
		w.WriteHeader(http.StatusCreated)
		w.Write([]byte("made\x00 it\x1b[31m"))
	})
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/elsewhere", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/elsewhere", func(http.ResponseWriter, *http.Request) { elsewhere++ })
	mux.HandleFunc("/gone", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no such desk", http.StatusGone) })
	mux.HandleFunc("/busy", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "later", http.StatusTooManyRequests) })
	web := httptest.NewServer(mux)
	defer web.Close()
	s := sender(t, "127.0.0.1")
	hook := definition.ContactSpec{Kind: definition.Webhook, Address: web.URL + "/in", Body: `{"text": "{headline}", "n": {"id": "{incident}"}}`,
		Headers: []definition.FixedHeader{{Name: "X-Desk", Value: "4"}}}
	token := &instrument.Secret{Kind: definition.Bearer, Value: "made-up", Origins: []string{web.URL}}
	signing := &instrument.Secret{Value: "signing key"}
	answer, err := s.Webhook(ctx, hook, token, signing, letter)
	if err != nil || !strings.HasPrefix(answer, "201 Created made") || strings.ContainsAny(answer, "\x00\x1b") {
		t.Fatalf("%q, %v", answer, err)
	}
	var body struct{ Text string }
	if err := json.Unmarshal([]byte(seen[0].body), &body); err != nil || body.Text != letter.Values["headline"] {
		t.Errorf("the body is %s, %v", seen[0].body, err)
	}
	h := seen[0].header
	mac := hmac.New(sha256.New, []byte("signing key"))
	fmt.Fprintf(mac, "%d.%s", letter.At.Unix(), seen[0].body)
	if want := fmt.Sprintf("t=%d,v1=%s", letter.At.Unix(), hex.EncodeToString(mac.Sum(nil))); h.Get("Kestite-Signature") != want ||
		h.Get("Idempotency-Key") != letter.ID || h.Get("Authorization") != "Bearer made-up" || h.Get("X-Desk") != "4" {
		t.Errorf("the headers are %v", h)
	}
	var refused *notifying.Refused
	for path, final := range map[string]bool{"/moved": true, "/gone": true, "/busy": false} {
		hook.Address = web.URL + path
		if _, err := s.Webhook(ctx, hook, token, nil, letter); err == nil || errors.As(err, &refused) != final {
			t.Errorf("%s: %v, final %v", path, err, final)
		}
	}
	if elsewhere > 0 {
		t.Error("a redirection was followed")
	}
	hook.Address, hook.Expect = web.URL+"/in", 200
	if _, err := s.Webhook(ctx, hook, nil, nil, letter); err == nil {
		t.Error("201 counts as the expected 200")
	}
	for _, address := range []string{web.URL + "/in", "http://169.254.169.254/latest", "http://[fe80::1]/", "http://0.0.0.0:80/"} {
		hook.Address, hook.Expect = address, 0
		if _, err := new(notifying.Sender).Webhook(ctx, hook, nil, nil, letter); err == nil || !strings.Contains(err.Error(), "messages do not go to") {
			t.Errorf("%s: %v", address, err)
		}
	}
}

func TestSyslog(t *testing.T) {
	host := <-at
	kept := new(standin.Messages)
	c := &standin.Collector{ID: "collector", Addr: host + ":8461", Kept: kept}
	if err := c.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	s := sender(t, host)
	for _, how := range []string{"udp", "tcp"} {
		if _, err := s.Syslog(ctx, definition.ContactSpec{Kind: definition.Syslog, Address: how + "://" + c.Addr, Facility: 4}, "quay one", letter); err != nil {
			t.Fatal(err)
		}
	}
	for range 100 {
		if len(kept.All()) == 2 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	for _, m := range kept.All() {
		want := `<34>1 2026-09-21T14:13:20.000Z quayone kestite - begun [incident@32473 id="3" what="begun" severity="critical"] ` + "\xef\xbb\xbf" + letter.Subject
		if m.Text != want {
			t.Errorf("by %s:\n%s\nwant\n%s", m.To, m.Text, want)
		}
	}
	if len(kept.All()) != 2 {
		t.Errorf("%d arrived", len(kept.All()))
	}
}

// A person adds an address, gets a code, and is told there once it was typed; guessing
// ends after a few tries.
func TestContactMethodsAreVerified(t *testing.T) {
	q := newQuay(t)
	c := servertest.With(t, q.srv, q.url, "astrid", access.Rights{Role: access.Operator})
	for address, says := range map[string]string{"call me": "no mail address", "+46 70 x": "no mail address", "a@b@c": "no mail address"} {
		if a := c.Do("POST", "/me/contact-methods", map[string]any{"kind": "mail", "address": address}); a.Status != 422 || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", address, a)
		}
	}
	add := func(kind, address string) string {
		var made struct{ ID string }
		c.Must("POST", "/me/contact-methods", map[string]any{"kind": kind, "address": address}, &made)
		return made.ID
	}
	id := add("sms", "+46 70 999 88 77")
	if a := c.Do("POST", "/me/contact-methods", map[string]any{"kind": "sms", "address": "+46709998877"}); a.Status != 422 {
		t.Errorf("the same number twice: %s", a)
	}
	var sent api.Answered
	c.Must("POST", "/me/contact-methods/"+id+"/code", nil, &sent)
	if !sent.Sent || !strings.Contains(sent.Answer, "202") {
		t.Fatalf("the code: %+v", sent)
	}
	_, code, _ := strings.Cut(q.kept.All()[0].Text, "Your code is ")
	code = code[:6]
	wrong := "000000"
	if code == wrong {
		wrong = "000001"
	}
	for range 4 {
		if a := c.Do("PUT", "/me/contact-methods/"+id+"/verification", map[string]any{"code": wrong}); a.Status != 422 {
			t.Errorf("a wrong code: %s", a)
		}
	}
	other := servertest.With(t, q.srv, q.url, "eir", access.Rights{Role: access.Administrator})
	if a := other.Do("PUT", "/me/contact-methods/"+id+"/verification", map[string]any{"code": code}); a.Status != 404 {
		t.Errorf("somebody else's: %s", a)
	}
	if a := c.Do("PUT", "/me/contact-methods/"+id+"/verification", map[string]any{"code": code}); a.Status > 299 {
		t.Fatalf("the right code: %s", a)
	}
	var mine struct{ Items []api.MethodView }
	c.Must("GET", "/me/contact-methods", nil, &mine)
	if len(mine.Items) != 1 || mine.Items[0].VerifiedAt == nil {
		t.Errorf("verified: %+v", mine.Items)
	}
	next := add("mail", "astrid@skerry.example")
	c.Must("POST", "/me/contact-methods/"+next+"/code", nil, &sent)
	for range 5 {
		c.Do("PUT", "/me/contact-methods/"+next+"/verification", map[string]any{"code": "x"})
	}
	_, code, _ = strings.Cut(q.kept.All()[0].Text, "Your code is ")
	if a := c.Do("PUT", "/me/contact-methods/"+next+"/verification", map[string]any{"code": code[:6]}); a.Status != 422 || !strings.Contains(string(a.Body), "too often") {
		t.Errorf("the right code after five wrong ones: %s", a)
	}
	limited := false
	for range 6 {
		limited = limited || c.Do("POST", "/me/contact-methods/"+next+"/code", nil).Status == 422
	}
	if !limited {
		t.Error("codes are sent without end")
	}
}

// The link of a message acknowledges once, as whom it was sent to, by what they may.
func TestALinkAcknowledges(t *testing.T) {
	q := newQuay(t)
	q.person("odd", access.Viewer)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
		{Tell: q.to("runa", "odd", "work"), By: []string{definition.Mail}}}})
	q.service("gates", "duty")
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	links := map[string]string{}
	for _, m := range q.kept.All() {
		_, link, _ := strings.Cut(m.Text, "https://kestite.skerry.example/acknowledge#")
		links[m.To] = strings.TrimSpace(link)
	}
	if links["/work"] != "" || links["runa@skerry.example"] == "" {
		t.Fatalf("the links are %v", links)
	}
	stranger := servertest.Anonymous(t, q.url)
	var says api.LinkedView
	stranger.Must("POST", "/acknowledgements/read", map[string]any{"token": links["runa@skerry.example"]}, &says)
	if says.Person != "runa" || says.Severity != "critical" || says.Acknowledged != "" {
		t.Errorf("the link says %+v", says)
	}
	if a := stranger.Do("POST", "/acknowledgements", map[string]any{"token": links["odd@skerry.example"]}); a.Status != 403 {
		t.Errorf("a viewer acknowledges: %s", a)
	}
	if a := stranger.Do("POST", "/acknowledgements", map[string]any{"token": "guess"}); a.Status != 410 {
		t.Errorf("a guess: %s", a)
	}
	// The log, which all may read, has no link in it.
	reader := servertest.With(t, q.srv, q.url, "eir", access.Rights{Role: access.Viewer})
	a := reader.Do("GET", "/deliveries", nil)
	if strings.Contains(string(a.Body), "/acknowledge#") || strings.Contains(string(a.Body), "runa@skerry.example") || !strings.Contains(string(a.Body), "r•••@skerry.example") {
		t.Errorf("a viewer reads %s", a)
	}
	for _, path := range []string{"/deliveries", "/contact-methods", "/contact-methods/work/revisions"} {
		if a := reader.Do("GET", path, nil); strings.Contains(string(a.Body), q.desk.Addr+"/work") || !strings.Contains(string(a.Body), q.desk.Addr+"/•••") {
			t.Errorf("a viewer reads of the webhook at %s: %s", path, a)
		}
	}
	if a := stranger.Do("POST", "/acknowledgements", map[string]any{"token": links["runa@skerry.example"]}); a.Status > 299 {
		t.Fatalf("the link: %s", a)
	}
	if a := stranger.Do("POST", "/acknowledgements", map[string]any{"token": links["runa@skerry.example"]}); a.Status != 410 {
		t.Errorf("the link again: %s", a)
	}
	row, err := q.srv.API.Store.Incident(ctx, says.Incident)
	if err != nil || row.AckBy == nil || *row.AckBy != q.ids["runa"] {
		t.Errorf("acknowledged by %v, %v", row.AckBy, err)
	}
}

// An operator hands duty over, and changes nothing else of a pool; nobody who is not
// there is put on duty.
func TestDutyIsHandedOver(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.Pool, "duty", definition.PoolSpec{Name: "Duty", Members: []string{q.ids["runa"], q.ids["mikkel"]},
		Rotation: &definition.Rotation{Timezone: "Europe/Oslo", Every: "week", At: "08:00", From: "2026-01-05"}})
	operator := servertest.As(t, q.srv, q.url, access.Operator)
	manager := servertest.As(t, q.srv, q.url, access.Manager)
	now := storetest.Now().In(time.FixedZone("", 0))
	from, to := now.Add(-3*time.Hour).Format("2006-01-02T15:04"), now.Add(5*time.Hour).Format("2006-01-02T15:04")
	if a := operator.Do("POST", "/pools/duty/overrides", map[string]any{"from": to, "to": from, "person": q.ids["mikkel"]}); a.Status != 422 ||
		!strings.Contains(string(a.Body), `"location":"body.to"`) {
		t.Errorf("backwards: %s", a)
	}
	if a := operator.Do("POST", "/pools/duty/overrides", map[string]any{"from": from, "to": to, "person": "nobody"}); a.Status != 422 {
		t.Errorf("nobody: %s", a)
	}
	for _, name := range []string{"mikkel", "runa"} { // the latest counts
		if a := operator.Do("POST", "/pools/duty/overrides", map[string]any{"from": from, "to": to, "person": q.ids[name]}); a.Status > 299 {
			t.Fatalf("%s takes over: %s", name, a)
		}
		var duty api.Duty
		operator.Must("GET", "/duty", nil, &duty)
		if len(duty.Pools) != 1 || len(duty.Pools[0].Now) != 1 || duty.Pools[0].Now[0].Name != name {
			t.Errorf("on duty is %+v", duty.Pools)
		}
	}
	if a := operator.Do("PUT", "/pools/duty", map[string]any{"revision": 3, "spec": map[string]any{"name": "Mine", "members": []string{q.ids["runa"]}}}); a.Status != 403 {
		t.Errorf("an operator edits a pool: %s", a)
	}
	if a := manager.Do("POST", "/pools", map[string]any{"spec": map[string]any{"name": "Mine", "members": []string{"00000000-0000-4000-8000-000000000000"}}}); a.Status != 422 ||
		!strings.Contains(string(a.Body), "members[0]") {
		t.Errorf("a pool of nobody: %s", a)
	}
}

func TestARehearsalAndWhereNobodyIsTold(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
		{Tell: q.to("runa")}, {AfterS: 600, Tell: q.to("mikkel"), By: []string{definition.SMS}}}})
	q.service("gates", "duty")
	q.service("board", "")
	viewer := servertest.As(t, q.srv, q.url, access.Viewer)
	var r api.Rehearsal
	viewer.Must("GET", "/rehearsal?id=gates&at=2026-11-29T02:10:00Z", nil, &r)
	if len(r.Lines) != 2 || r.Lines[0].To != "runa" || len(r.Lines[0].Ways) != 3 || r.Lines[1].At.String() != "2026-11-29T02:20:00.000Z" || r.Why != "" {
		t.Errorf("gates: %+v", r)
	}
	r = api.Rehearsal{}
	viewer.Must("GET", "/rehearsal?id=board", nil, &r)
	if r.Why == "" || r.Reached != nil {
		t.Errorf("board: %+v", r)
	}
	if a := viewer.Do("GET", "/rehearsal?id=none", nil); a.Status != 422 {
		t.Errorf("nothing: %s", a)
	}
	var gaps struct{ Items []api.Gap }
	viewer.Must("GET", "/notice-gaps", nil, &gaps)
	if len(gaps.Items) != 1 || gaps.Items[0].Kind != "no-plan" || gaps.Items[0].ID != "board" {
		t.Errorf("nobody is told of %+v", gaps.Items)
	}
	storetest.Exec(t, q.srv, "DELETE FROM person_method")
	gaps.Items = nil
	viewer.Must("GET", "/notice-gaps", nil, &gaps)
	if len(gaps.Items) != 2 || gaps.Items[1].Kind != "passive" {
		t.Errorf("without contact methods nobody is told of %+v", gaps.Items)
	}
}
