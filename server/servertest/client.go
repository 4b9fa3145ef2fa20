// Package servertest calls a server's API as a signed-in person or an agent
// would.
package servertest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/server"
	"kestite/server/auth"
	"kestite/server/store/gen/db"
)

// Password of all people made here.
const Password = "quay-side lantern"

// Client calls the API with a session of its own.
type Client struct {
	T    testing.TB
	URL  string
	HTTP *http.Client
}

// Serve serves the routes of a server that was built and not started.
func Serve(t testing.TB, srv *server.Server) string {
	t.Helper()
	s := httptest.NewServer(srv.API.Handler())
	t.Cleanup(s.Close)
	return s.URL
}

// Anonymous returns a client that is not signed in.
func Anonymous(t testing.TB, url string) *Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &Client{T: t, URL: url, HTTP: &http.Client{Jar: jar}}
}

// As makes a person with the role and returns a client signed in as them.
func As(t testing.TB, srv *server.Server, url string, role access.Role) *Client {
	t.Helper()
	return With(t, srv, url, string(role), access.Rights{Role: role})
}

// With makes a person with some rights, whose address begins with a name, and returns a
// client signed in as them.
func With(t testing.TB, srv *server.Server, url, name string, r access.Rights) *Client {
	t.Helper()
	hash, err := auth.HashPassword(context.Background(), Password)
	if err != nil {
		t.Fatal(err)
	}
	email := name + "@skerry.example"
	if _, err := srv.API.Store.AddPerson(context.Background(), db.AddPersonParams{
		Email: email, Name: "A " + name, Role: string(r.Role), Customer: r.Customer, Teams: r.Teams, PasswordHash: hash,
	}); err != nil {
		t.Fatal(err)
	}
	c := Anonymous(t, url)
	c.Must(http.MethodPost, "/session", map[string]any{"email": email, "password": Password}, nil)
	return c
}

// Answer is what came back.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Problem reads the answer as problem details: the detail, and messages by field path.
func (a Answer) Problem() (detail string, fields map[string]string) {
	var p struct {
		Detail string `json:"detail"`
		Errors []struct{ Message, Location string }
	}
	json.Unmarshal(a.Body, &p)
	fields = map[string]string{}
	for _, e := range p.Errors {
		fields[e.Location] = e.Message
	}
	return p.Detail, fields
}

// Do makes a request below /api/v1; in is sent as JSON unless nil, and bytes as they are.
func (c *Client) Do(method, path string, in any) Answer {
	c.T.Helper()
	var body io.Reader
	kind := "application/json"
	if raw, is := in.([]byte); is {
		body, kind = bytes.NewReader(raw), "application/octet-stream"
	} else if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			c.T.Fatal(err)
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequest(method, c.URL+"/api/v1"+path, body)
	if err != nil {
		c.T.Fatal(err)
	}
	if in != nil {
		req.Header.Set("Content-Type", kind)
	}
	resp, err := c.HTTP.Do(req)
	if err != nil {
		c.T.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		c.T.Fatal(err)
	}
	return Answer{resp.StatusCode, resp.Header, text}
}

// Must makes a request that has to succeed and decodes the answer into out, unless nil.
func (c *Client) Must(method, path string, in, out any) {
	c.T.Helper()
	a := c.Do(method, path, in)
	if a.Status >= 300 {
		c.T.Fatalf("%s %s: %d %s", method, path, a.Status, a.Body)
	}
	if out != nil {
		if err := json.Unmarshal(a.Body, out); err != nil {
			c.T.Fatalf("%s %s: %v in %s", method, path, err, a.Body)
		}
	}
}

// Create defines something and returns its id.
func (c *Client) Create(path string, spec any) string {
	c.T.Helper()
	var made struct{ ID string }
	c.Must(http.MethodPost, path, map[string]any{"spec": spec}, &made)
	return made.ID
}

// Publish reads a draft and publishes what it says.
func (c *Client) Publish(path string) {
	c.T.Helper()
	var page struct{ Seen string }
	c.Must(http.MethodGet, path, nil, &page)
	c.Must(http.MethodPost, path+"/publish", map[string]any{"seen": page.Seen}, nil)
}

// Revision is the number of the latest revision of what stands at a path, 1 where
// nothing does.
func (c *Client) Revision(path string) int {
	c.T.Helper()
	var list struct{ Items []struct{ Number int } }
	if a := c.Do(http.MethodGet, path+"/revisions", nil); a.Status != http.StatusOK || json.Unmarshal(a.Body,
		&list) != nil || len(list.Items) == 0 {
		return 1
	}
	return list.Items[0].Number
}

// Edit is the body of an edit of what stands at a path, as it is there now.
func (c *Client) Edit(path string, spec any) map[string]any {
	c.T.Helper()
	return map[string]any{"revision": c.Revision(path), "spec": spec}
}

// Check is the spec of an HTTP check, to be changed by edit.
func Check(service string, locations []string, edit func(map[string]any)) map[string]any {
	spec := map[string]any{
		"service": service, "name": "Page", "kind": "http", "target": "http://127.0.0.1:9/", "interval_s": 60, "timeout_ms": 2000,
		"stale_after_s": 150, "confirm": 2, "recover": 1, "quorum": "majority", "role": "decides", "locations": locations,
	}
	if edit != nil {
		edit(spec)
	}
	return spec
}

// Agent returns a token for an agent at a location.
func Agent(t testing.TB, srv *server.Server, location string) string {
	t.Helper()
	token, hash := auth.NewToken("kesa_")
	if _, err := srv.API.Store.AddAgent(context.Background(), db.AddAgentParams{Location: location, TokenHash: hash, CreatedBy: "test"}); err != nil {
		t.Fatal(err)
	}
	return token
}

// AsAgent makes a request with an agent's token; body is sent as it is.
func AsAgent(t testing.TB, url, token, path, body string) Answer {
	t.Helper()
	return AsAgentTo(t, http.MethodPost, url, token, path, body)
}

// AsAgentTo is AsAgent by any method.
func AsAgentTo(t testing.TB, method, url, token, path, body string) Answer {
	t.Helper()
	req, err := http.NewRequest(method, url+path, bytes.NewReader([]byte(body)))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	return answerTo(t, req)
}

func answerTo(t testing.TB, req *http.Request) Answer {
	t.Helper()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return Answer{resp.StatusCode, resp.Header, text}
}

// Packed is a batch as agents send it: packed and compressed.
func Packed(t testing.TB, b wire.Batch) []byte {
	t.Helper()
	body, err := wire.Write(wire.TypePacked, b)
	if err != nil {
		t.Fatal(err)
	}
	return body
}

// DeliverPacked sends what Packed made, or something else in its place.
func DeliverPacked(t testing.TB, url, token string, body []byte) Answer {
	t.Helper()
	req, err := http.NewRequest(http.MethodPost, url+wire.PathBatches, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", wire.TypePacked)
	req.Header.Set("Content-Encoding", "gzip")
	return answerTo(t, req)
}

// Fields formats the faults of an answer for a failure message.
func (a Answer) String() string { return fmt.Sprintf("%d %s", a.Status, a.Body) }

// PDFText is what a document says, as Debian's pdftotext reads it, laid out.
func PDFText(t testing.TB, document []byte) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "document.pdf")
	if err := os.WriteFile(file, document, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
	if err != nil {
		t.Fatalf("pdftotext: %v: %s", err, out)
	}
	return string(out)
}
