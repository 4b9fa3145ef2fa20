package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"kestite/core/access"
	"kestite/server/store"
)

// heartbeat is how often a silent stream says that it is alive, and looks whether
// its person is still signed in.
var heartbeat = 10 * time.Second

// Streams of changes at most, of one server: each has a connection and a place in
// every change.
const (
	mostStreams   = 2000
	mostStreamsOf = 20 // of one person
)

// streams counts who listens. It is safe for concurrent use.
type streams struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

// begin counts one more of a person; false where that is one too many.
func (s *streams) begin(person string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= mostStreams || s.of[person] >= mostStreamsOf {
		return false
	}
	if s.of == nil {
		s.of = map[string]int{}
	}
	s.all++
	s.of[person]++
	return true
}

func (s *streams) end(person string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[person]--; s.of[person] == 0 {
		delete(s.of, person)
	}
}

// heard is what a person is told of an event; false: nothing. Customers hear that what
// they see may have changed, and not whose it is.
func heard(r access.Rights, e store.Event) (store.Event, bool) {
	if r.May(access.See) {
		return e, true
	}
	switch e.Kind {
	case store.OnState, store.OnReport, store.OnIncident, store.OnDefinition, store.OnAll:
		return store.Event{Kind: e.Kind}, true
	}
	return store.Event{}, false
}

// live streams changes to a browser as server-sent events: what changed, not
// its contents; the browser asks again for what it shows. It ends with the session.
func (s *Server) live(w http.ResponseWriter, r *http.Request) {
	p, ok, err := s.Sessions.Who(r.Context())
	if err != nil || !ok {
		writeProblem(w, http.StatusUnauthorized, "Nobody is signed in; sign in and try again.")
		return
	}
	if !p.Secured {
		writeProblem(w, http.StatusForbidden, "A second factor is required here, and you have none yet.")
		return
	}
	if !s.streams.begin(p.ID) {
		writeProblem(w, http.StatusTooManyRequests, fmt.Sprintf("Too many tabs are open: a person has %d live ones at most. Close some.", mostStreamsOf))
		return
	}
	defer s.streams.end(p.ID)
	session := s.Sessions.Current(r.Context())
	stream := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	fmt.Fprint(w, "retry: 2000\n\n")
	changes, end := s.Feed.Listen()
	defer end()
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	there := func() bool { // a database that is away ends nobody's session
		if there, err := s.Sessions.There(r.Context(), session); err == nil && !there {
			return false
		}
		now, ok, err := s.Sessions.Who(r.Context())
		return err != nil || ok && now.Secured && now.Rights.Equal(p.Rights)
	}
	for {
		if stream.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-tick.C:
			if !there() {
				return
			}
			fmt.Fprint(w, "event: alive\ndata: {}\n\n")
		case c := <-changes:
			if c.Kind == store.OnSessionEnded {
				if !there() {
					return
				}
				continue
			}
			c, concerns := heard(p.Rights, c)
			if !concerns {
				continue
			}
			text, err := json.Marshal(c)
			if err != nil {
				return
			}
			fmt.Fprintf(w, "event: change\ndata: %s\n\n", text)
		}
	}
}
