package e2e

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"kestite/demo"
	"kestite/server/servertest"
)

// An answer that takes longer than the time between two changes is shown all the same:
// the next change does not ask again before it has come.
func TestAPageKeepsUpWhereThingsChangeAllTheTime(t *testing.T) {
	s := newStage(t, true)
	admin := servertest.Anonymous(t, s.srv.URL)
	admin.Must(http.MethodPost, "/session", map[string]any{"email": "admin@skerry.example", "password": demo.Password}, nil)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/services"),
		s.Until("the services", "document.querySelector('[data-service]')"),
		s.Late("/api/v1/services", 3*time.Second),
	)
	end, ended := make(chan struct{}), make(chan struct{})
	defer func() { close(end); <-ended }()
	go func() {
		defer close(ended)
		change := time.NewTicker(time.Second)
		defer change.Stop()
		for i := 0; ; i++ {
			select {
			case <-end:
				return
			case <-change.C:
				admin.Create("/teams", map[string]any{"name": fmt.Sprintf("Night shift %d", i)})
			}
		}
	}()
	admin.Create("/services", map[string]any{"name": "Late pier", "kind": "business"})
	s.do(s.Until("the new service", "[...document.querySelectorAll('[data-service]')].some((e) => e.innerText.includes('Late pier'))"))
}
