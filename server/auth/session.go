package auth

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/jackc/pgx/v5"

	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Sessions are the signed-in browsers, kept in the database.
type Sessions struct {
	store   *store.Store
	manager *scs.SessionManager
}

// Person is who is asking.
type Person struct {
	ID, Name, Email string
	Role            Role
}

// NewSessions returns sessions of twelve hours of idleness, a week at most.
// secure marks the cookie for HTTPS only; failed answers where the session
// cannot be read.
func NewSessions(s *store.Store, secure bool, failed func(http.ResponseWriter, *http.Request, error)) *Sessions {
	m := scs.New()
	m.Store = pgxstore.NewWithCleanupInterval(s.Pool, 10*time.Minute)
	m.Lifetime = 7 * 24 * time.Hour
	m.IdleTimeout = 12 * time.Hour
	m.Cookie.Name = "kestite_session"
	m.Cookie.SameSite = http.SameSiteLaxMode
	m.Cookie.Secure = secure
	m.ErrorFunc = failed
	return &Sessions{store: s, manager: m}
}

// Close ends the clean-up of old sessions.
func (s *Sessions) Close() {
	if p, ok := s.manager.Store.(*pgxstore.PostgresStore); ok {
		p.StopCleanup()
	}
}

const personKey = "person"

// Load is middleware that reads and writes the session.
func (s *Sessions) Load(next http.Handler) http.Handler { return s.manager.LoadAndSave(next) }

// Errors of signing in.
var (
	ErrWrong    = errors.New("e-mail address or password is wrong")
	ErrTooOften = errors.New("too many attempts; wait a minute and try again")
)

// Attempts to sign in with one e-mail address: so many at once, and then one more
// after so many seconds, whichever server they are made at.
const (
	attemptsAtOnce   = 5
	secondsAnAttempt = 12.0
)

// SignIn checks a password and begins a session.
func (s *Sessions) SignIn(ctx context.Context, email, password string) (Person, error) {
	allowed, err := s.store.Spend(ctx, db.SpendParams{
		Who: "sign-in " + strings.ToLower(strings.TrimSpace(email)), Most: attemptsAtOnce, PerSecond: 1 / secondsAnAttempt, Now: s.store.Now(),
	})
	if err != nil {
		return Person{}, err
	}
	if !allowed {
		return Person{}, ErrTooOften
	}
	p, err := s.store.PersonByEmail(ctx, strings.TrimSpace(email))
	if errors.Is(err, pgx.ErrNoRows) {
		// As long as for a known address, so that addresses cannot be found out.
		CheckPassword(unknownHash(), password)
		return Person{}, ErrWrong
	}
	if err != nil {
		return Person{}, err
	}
	ok, err := CheckPassword(p.PasswordHash, password)
	if err != nil {
		return Person{}, err
	}
	if !ok || p.DisabledAt != nil {
		return Person{}, ErrWrong
	}
	return of(p), s.Begin(ctx, p.ID)
}

var unknownHash = sync.OnceValue(func() string {
	hash, _ := HashPassword("nobody has this password")
	return hash
})

func of(p db.Person) Person {
	return Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: Role(p.Role)}
}

// Begin starts a session for a person in the request's context.
func (s *Sessions) Begin(ctx context.Context, id string) error {
	if err := s.manager.RenewToken(ctx); err != nil {
		return err
	}
	s.manager.Put(ctx, personKey, id)
	return nil
}

// SignOut ends the session.
func (s *Sessions) SignOut(ctx context.Context) error { return s.manager.Destroy(ctx) }

// Who returns the person of the session; false when nobody is signed in, or
// who was has been disabled.
func (s *Sessions) Who(ctx context.Context) (Person, bool, error) {
	id := s.manager.GetString(ctx, personKey)
	if id == "" {
		return Person{}, false, nil
	}
	p, err := s.store.Person(ctx, id)
	if errors.Is(err, pgx.ErrNoRows) {
		return Person{}, false, nil
	}
	if err != nil {
		return Person{}, false, err
	}
	return of(p), p.DisabledAt == nil, nil
}
