package store

import (
	"context"
	"time"

	"kestite/server/store/gen/db"
)

// pause is how long all servers may be silent before nobody was there.
const pause = 20 * time.Second

// Beat is how often a server says that it is there.
const Beat = 3 * time.Second

// There says that a server is there, and returns since when some server has been
// without a pause.
func (s *Store) There(ctx context.Context, now time.Time) (since time.Time, err error) {
	return s.Attend(ctx, db.AttendParams{Now: now, PauseS: pause.Seconds()})
}
