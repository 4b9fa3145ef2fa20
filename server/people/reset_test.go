package people_test

import (
	"bytes"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"kestite/cmd/kestite/cli"
	"kestite/core/access"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// Where no administrator can sign in any more, a link is made on the server.
func TestResettingOnTheServer(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	url := servertest.Serve(t, srv)
	admin := servertest.As(t, srv, url, access.Administrator)
	run := func(args ...string) (int, string) {
		var out bytes.Buffer
		status := cli.Run(append([]string{"people", "reset"}, args...), nil, &out, &out)
		return status, out.String()
	}
	database := "--database=" + srv.API.Store.Pool.Config().ConnString()
	if status, says := run("nobody@skerry.example", database); status != 2 || !strings.Contains(says, "nobody has the e-mail address") {
		t.Errorf("nobody: %d %s", status, says)
	}
	if status, says := run("administrator@skerry.example"); status == 0 || !strings.Contains(says, "--database") {
		t.Errorf("without a database: %d %s", status, says)
	}
	status, says := run("Administrator@skerry.example", database, "--drop-second-factor")
	link := regexp.MustCompile(`/enter#(kesl_\S+)`).FindStringSubmatch(says)
	if status != 0 || link == nil || !strings.Contains(says, "The second factor is gone") {
		t.Fatalf("%d %s", status, says)
	}
	c := servertest.Anonymous(t, url)
	c.Must(http.MethodPost, "/password-link", map[string]any{"token": link[1], "password": "rope and anchor chain"}, nil)
	if a := admin.Do(http.MethodGet, "/session", nil); a.Status != 401 {
		t.Errorf("the session from before: %s", a)
	}
	c.Must(http.MethodPost, "/session", map[string]any{"email": "administrator@skerry.example", "password": "rope and anchor chain"}, nil)
	var lines struct {
		Items []struct{ Name, Action string }
	}
	c.Must(http.MethodGet, "/trail", nil, &lines)
	var did []string
	for _, l := range lines.Items {
		did = append(did, l.Name+": "+l.Action)
	}
	if got := strings.Join(did, ", "); got != "A administrator: sign in, A administrator: set password, the console: make password link, the console: drop second factor, A administrator: sign in" {
		t.Errorf("the trail: %s", got)
	}
}
