package auth

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/measure"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// How long a session lasts: without being used, and at most.
const (
	idle    = 12 * time.Hour
	longest = 7 * 24 * time.Hour
)

// Sessions are the signed-in browsers, kept in the database: it knows the hash of
// each cookie and not the cookie.
type Sessions struct {
	Factor *Factor

	store   *store.Store
	manager *scs.SessionManager
	now     func() time.Time
}

// Person is who is asking.
type Person struct {
	ID, Name, Email string
	Rights          access.Rights
	// Secured says that the person has a second factor, or needs none.
	Secured bool
}

// Caller is how a request looks from outside.
type Caller struct {
	Source  string // network address
	Browser string // as it names itself
	Known   string // cookie of a browser that somebody signed in with before
}

// NewSessions returns sessions. secure marks the cookie for HTTPS only; failed
// answers where the session cannot be read.
func NewSessions(s *store.Store, factor *Factor, secure bool, now func() time.Time,
	failed func(http.ResponseWriter, *http.Request, error)) *Sessions {
	m := scs.New()
	m.Store = &sessionStore{s, now}
	m.HashTokenInStore = true
	m.Lifetime, m.IdleTimeout = longest, idle
	m.Cookie.Name = "kestite_session"
	m.Cookie.SameSite = http.SameSiteLaxMode
	if m.Cookie.Secure = secure; secure {
		m.Cookie.Name = "__Host-" + m.Cookie.Name // no other host can set it (RFC 6265bis §4.1.3.2)
	}
	m.ErrorFunc = failed
	return &Sessions{Factor: factor, store: s, manager: m, now: now}
}

// What a session holds.
const (
	personKey  = "person"
	sessionKey = "session"
)

// Load is middleware that reads and writes the session.
func (s *Sessions) Load(next http.Handler) http.Handler { return s.manager.LoadAndSave(next) }

// Secure says whether cookies go over HTTPS only.
func (s *Sessions) Secure() bool { return s.manager.Cookie.Secure }

// Begin starts a session for a person in the request's context.
func (s *Sessions) Begin(ctx context.Context, p db.Person, c Caller) error {
	if err := s.manager.RenewToken(ctx); err != nil {
		return err
	}
	id := uuidOf(rand.Reader)
	s.manager.Put(ctx, personKey, p.ID)
	s.manager.Put(ctx, sessionKey, id)
	now := s.now()
	return s.store.AddSession(ctx, db.AddSessionParams{
		ID: id, TokenHash: hashed(s.manager.Token(ctx)), Person: p.ID, Now: now, ExpiresAt: now.Add(idle),
		Source: measure.Clean(c.Source, 100), Browser: measure.Clean(c.Browser, 300), SecondFactor: p.FactorAt != nil,
	})
}

// SignOut ends the session, and says whose it was.
func (s *Sessions) SignOut(ctx context.Context) (person string, err error) {
	person, id := s.manager.GetString(ctx, personKey), s.Current(ctx)
	if err := s.manager.Destroy(ctx); err != nil || person == "" {
		return "", err
	}
	return person, store.Notify(ctx, s.store, store.Event{Kind: store.OnSessionEnded, IDs: []string{id}})
}

// Current is the id of the request's session; empty where there is none.
func (s *Sessions) Current(ctx context.Context) string { return s.manager.GetString(ctx, sessionKey) }

// There says whether a session is still there: its person may still be signed in by it.
func (s *Sessions) There(ctx context.Context, id string) (bool, error) {
	return s.store.SessionThere(ctx, db.SessionThereParams{ID: id, Now: s.now()})
}

// noSession is the id of no session.
const noSession = "00000000-0000-0000-0000-000000000000"

// End ends all sessions of a person but one (keep, which may be empty), when the
// transaction of q and tx commits.
func End(ctx context.Context, tx db.DBTX, q *db.Queries, person, keep string) (int64, error) {
	if keep == "" {
		keep = noSession
	}
	n, err := q.EndSessions(ctx, db.EndSessionsParams{Person: person, Keep: keep})
	if err != nil {
		return 0, err
	}
	return n, store.Notify(ctx, tx, store.Event{Kind: store.OnSessionEnded})
}

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
	org, err := s.store.Organisation(ctx)
	return of(p, org), p.DisabledAt == nil, err
}

func of(p db.Person, org db.Organisation) Person {
	return Person{ID: p.ID, Name: p.Name, Email: p.Email, Rights: RightsOf(p), Secured: p.FactorAt != nil || !org.SecondFactorRequired}
}

// RightsOf are the rights of a person as they are kept.
func RightsOf(p db.Person) access.Rights {
	return access.Rights{Role: access.Role(p.Role), Customer: p.Customer, Teams: p.Teams}
}

// By is a person as the trail knows them.
func (p Person) By(c Caller) trail.By { return trail.By{Person: p.ID, Name: p.Name, Source: c.Source} }

// sessionStore keeps what the session library wants kept. It is given hashes of
// cookies, and never makes a session: Begin does.
type sessionStore struct {
	store *store.Store
	now   func() time.Time
}

func (s *sessionStore) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	data, err := s.store.FindSession(ctx, db.FindSessionParams{TokenHash: token, Now: s.now()})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, false, nil
	}
	return data, err == nil && len(data) > 0, err
}

// CommitCtx keeps the data. When the session ends is reckoned by the one clock: the library
// goes by this machine's, which may show anything.
func (s *sessionStore) CommitCtx(ctx context.Context, token string, data []byte, _ time.Time) error {
	return s.store.KeepSession(ctx, db.KeepSessionParams{TokenHash: token, Data: data, Now: s.now(), IdleS: idle.Seconds(), LongestS: longest.Seconds()})
}

func (s *sessionStore) DeleteCtx(ctx context.Context, token string) error {
	return s.store.DropSession(ctx, token)
}

func (s *sessionStore) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

func (s *sessionStore) Commit(token string, data []byte, expires time.Time) error {
	return s.CommitCtx(context.Background(), token, data, expires)
}

func (s *sessionStore) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }

// hashed is a cookie as the session library hands it to the store.
func hashed(token string) string { return base64.RawURLEncoding.EncodeToString(HashToken(token)) }

// uuidOf is a random UUID (RFC 9562 §5.4).
func uuidOf(random interface{ Read([]byte) (int, error) }) string {
	var b [16]byte
	random.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}
