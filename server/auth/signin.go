package auth

import (
	"context"
	"errors"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Errors of signing in.
var (
	ErrWrong     = errors.New("e-mail address or password is wrong")
	ErrTooOften  = errors.New("too many attempts; wait a minute and try again")
	ErrNeedsCode = errors.New("the password is right; now the code of your second factor is needed")
	ErrWrongCode = errors.New("the code is wrong or was used; enter the one that is shown now, or a recovery code")
)

// limit is how often something may be tried: so often at once, and then once more
// after so many seconds, whichever server it is tried at.
type limit struct {
	atOnce  float64
	seconds float64
}

// Attempts to sign in are limited in several ways, so that a password cannot be
// guessed and a stranger cannot keep anybody from signing in: what strangers try
// counts for their own address and their own network, and for the person only as
// far as the browser is one that the person never signed in with.
var (
	limitSource  = limit{60, 2}  // from one network address, for anybody
	limitPair    = limit{5, 12}  // from one network address for one person
	limitUnknown = limit{50, 30} // for one person, from all browsers that are not known
	limitKnown   = limit{10, 6}  // from one browser that the person signed in with
	limitCode    = limit{10, 60} // second factors of one person, after the right password
)

// SignIn is an attempt to sign in.
type SignIn struct {
	Caller
	Email, Password string
	Code            string // of the second factor; empty where it is not asked for yet
}

// SignIn checks a password, and a second factor where the person has one, and
// begins a session. It returns a token for a cookie by which the browser is known
// from then on. Attempts that are counted stand in the trail, good and bad.
func (s *Sessions) SignIn(ctx context.Context, in SignIn) (Person, string, error) {
	email := strings.TrimSpace(in.Email)
	if !utf8.ValidString(email) {
		return Person{}, "", ErrWrong
	}
	pair := "sign-in " + strings.ToLower(email) + " from " + in.Source
	if err := s.mayTry(ctx, in, email, pair); err != nil {
		return Person{}, "", err
	}
	p, err := s.store.PersonByEmail(ctx, email)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && p.PasswordHash == "" {
		// As long as for a known address, so that addresses cannot be found out.
		if _, err := CheckPassword(ctx, unknownHash(), in.Password); err != nil {
			return Person{}, "", err
		}
		return Person{}, "", s.refused(ctx, in, p.ID, "no such account, or none with a password", ErrWrong)
	}
	if err != nil {
		return Person{}, "", err
	}
	ok, err := CheckPassword(ctx, p.PasswordHash, in.Password)
	switch {
	case err != nil:
		return Person{}, "", err
	case !ok:
		return Person{}, "", s.refused(ctx, in, p.ID, "wrong password", ErrWrong)
	case p.DisabledAt != nil:
		return Person{}, "", s.refused(ctx, in, p.ID, "the account is disabled", ErrWrong)
	}
	if p.FactorAt != nil {
		if in.Code == "" {
			return Person{}, "", ErrNeedsCode
		}
		if err := s.checkCode(ctx, p, in.Code); err != nil {
			if errors.Is(err, ErrWrongCode) {
				err = s.refused(ctx, in, p.ID, "wrong second factor", err)
			}
			return Person{}, "", err
		}
	}
	return s.enter(ctx, in, p, pair)
}

// enter begins the session of somebody who showed who they are.
func (s *Sessions) enter(ctx context.Context, in SignIn, p db.Person, pair string) (Person, string, error) {
	org, err := s.store.Organisation(ctx)
	if err != nil {
		return Person{}, "", err
	}
	if err := s.Begin(ctx, p, in.Caller); err != nil {
		return Person{}, "", err
	}
	if err := s.store.Forgive(ctx, pair); err != nil {
		return Person{}, "", err
	}
	known, hash := in.Known, HashToken(in.Known)
	if known == "" {
		known, hash = NewToken("kesk_")
	}
	if err := s.store.KnowBrowser(ctx, db.KnowBrowserParams{Hash: hash, Person: p.ID, SeenAt: s.now()}); err != nil {
		return Person{}, "", err
	}
	person := of(p, org)
	return person, known, trail.Add(ctx, s.store.Queries, trail.Entry{
		By: person.By(in.Caller), Action: "sign in", Subject: "person " + p.ID, Detail: map[string]bool{"second_factor": p.FactorAt != nil},
	})
}

// refused writes an attempt that failed into the trail; who is empty where no
// person has the address.
func (s *Sessions) refused(ctx context.Context, in SignIn, who, why string, err error) error {
	e := trail.Entry{By: trail.Nobody(in.Source), Action: "sign-in refused", Subject: "nobody's account",
		Detail: map[string]string{"why": why}}
	if who != "" {
		e.Subject = "person " + who
	}
	return errors.Join(err, trail.Add(ctx, s.store.Queries, e))
}

// mayTry counts an attempt. The error is ErrTooOften where it was one too many.
func (s *Sessions) mayTry(ctx context.Context, in SignIn, email, pair string) error {
	type bucket struct {
		who string
		limit
	}
	count := []bucket{{"sign-in from " + in.Source, limitSource}}
	known := false
	if in.Known != "" {
		var err error
		if known, err = s.store.BrowserKnown(ctx, db.BrowserKnownParams{Hash: HashToken(in.Known), Email: email}); err != nil {
			return err
		}
	}
	if known {
		// Neither the attempts of others at its network address nor those for its person count.
		count = []bucket{{"sign-in known " + hashed(in.Known), limitKnown}}
	} else {
		count = append(count, bucket{pair, limitPair}, bucket{"sign-in " + strings.ToLower(email), limitUnknown})
	}
	for _, b := range count {
		if err := s.spend(ctx, b.who, b.limit); err != nil {
			return err
		}
	}
	return nil
}

// MayGuess counts an attempt to show something that only those know who were
// given it. The error is ErrTooOften where it was one too many.
func (s *Sessions) MayGuess(ctx context.Context, what string, c Caller) error {
	return s.spend(ctx, what+" from "+c.Source, limitSource)
}

func (s *Sessions) spend(ctx context.Context, who string, l limit) error {
	allowed, err := s.store.Spend(ctx, db.SpendParams{Who: who, Units: 1, Most: l.atOnce, PerSecond: 1 / l.seconds, Now: s.store.Now()})
	if err == nil && !allowed {
		return ErrTooOften
	}
	return err
}

// checkCode takes a code of the second factor, or a recovery code, once. The
// error is ErrWrongCode where it is neither.
func (s *Sessions) checkCode(ctx context.Context, p db.Person, code string) error {
	if err := s.spend(ctx, "second factor "+p.ID, limitCode); err != nil {
		return err
	}
	step, err := s.Factor.Step(p.ID, p.FactorSealed, code, s.now())
	if err != nil {
		return err
	}
	if step > 0 {
		n, err := s.store.UseStep(ctx, db.UseStepParams{ID: p.ID, Step: step})
		if err == nil && n == 0 {
			err = ErrWrongCode
		}
		return err
	}
	now := s.now()
	n, err := s.store.UseRecoveryCode(ctx, db.UseRecoveryCodeParams{Person: p.ID, Hash: recoveryHash(code), Now: &now})
	if err == nil && n == 0 {
		err = ErrWrongCode
	}
	return err
}

// Again asks who is signed in for the password once more, before something that
// a passer-by at their screen must not do. The error is ErrWrong where it is not
// theirs.
func (s *Sessions) Again(ctx context.Context, id, password string) (db.Person, error) {
	if err := s.spend(ctx, "password of "+id, limitPair); err != nil {
		return db.Person{}, err
	}
	p, err := s.store.Person(ctx, id)
	if err != nil {
		return p, err
	}
	ok, err := CheckPassword(ctx, p.PasswordHash, password)
	if err == nil && !ok {
		err = ErrWrong
	}
	return p, err
}

var unknownHash = sync.OnceValue(func() string {
	hash, _ := HashPassword(context.Background(), "nobody has this password")
	return hash
})
