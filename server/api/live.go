package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// heartbeat is how often a silent stream says that it is alive.
const heartbeat = 10 * time.Second

// live streams changes to a browser as server-sent events: what changed, not
// its contents; the browser asks again for what it shows.
func (s *Server) live(w http.ResponseWriter, r *http.Request) {
	if _, ok, err := s.Sessions.Who(r.Context()); err != nil || !ok {
		writeProblem(w, http.StatusUnauthorized, "Nobody is signed in; sign in and try again.")
		return
	}
	stream := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	fmt.Fprint(w, "retry: 2000\n\n")
	changes, end := s.Feed.Listen()
	defer end()
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		if stream.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-tick.C:
			fmt.Fprint(w, "event: alive\ndata: {}\n\n")
		case c := <-changes:
			text, err := json.Marshal(c)
			if err != nil {
				return
			}
			fmt.Fprintf(w, "event: change\ndata: %s\n\n", text)
		}
	}
}
