package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"
)

// How long the work that all servers share may stand still before a server is
// not ready: judging goes round every few seconds, the queue every minute.
const (
	judgingStill = time.Minute
	queueStill   = 10 * time.Minute
)

// readyz answers 200 where this server can do its work: the database answers
// and takes what is written, its schema is the one this program knows, and
// judging and background work go on.
func (s *Server) readyz(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.ready(ctx); err != nil {
		s.Log.Warn("not ready", "error", err)
		// Strangers ask here: why not is for those who read the log.
		http.Error(w, "not ready; the server's log says why", http.StatusServiceUnavailable)
		return
	}
	w.Write([]byte("ready\n"))
}

func (s *Server) ready(ctx context.Context) error {
	if err := s.Store.Fits(ctx); err != nil {
		return err
	}
	if err := s.Store.Refused(s.Now()); err != nil {
		return err
	}
	now := s.Now()
	if _, err := s.Store.There(ctx, now); err != nil {
		return fmt.Errorf("the database takes nothing: %w", err)
	}
	at, err := s.Store.Attendance(ctx)
	switch {
	case err != nil:
		return fmt.Errorf("the database does not answer: %w", err)
	case now.Sub(at.JudgedAt) > judgingStill:
		return errors.New("no service was judged since " + at.JudgedAt.UTC().Format(time.RFC3339))
	case now.Sub(at.WorkedAt) > queueStill:
		return errors.New("the queue of background work has stood still since " + at.WorkedAt.UTC().Format(time.RFC3339))
	}
	return nil
}
