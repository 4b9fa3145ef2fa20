// Package people is who may sign in: making them, changing them, their
// passwords, second factors and sessions. Each deed is one transaction with its
// line in the trail.
package people

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"net/mail"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/server/auth"
	"kestite/server/defining"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// People keeps who may sign in.
type People struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Sessions    *auth.Sessions
	Factor      *auth.Factor
	Now         func() time.Time
}

// Errors of what cannot be done.
var (
	ErrNotFound = errors.New("there is no person of that id")
	ErrMade     = errors.New("the first person has been made already; sign in")
	ErrLink     = errors.New("the link is not good any more: it was used, a newer one was made, or its time is over; ask an administrator for another")
	ErrSelf     = errors.New("nobody does that to their own account; ask another administrator")
)

// linkFor is how long a one-time link is good.
const linkFor = 48 * time.Hour

// Link is a one-time link with which a person chooses a password.
type Link struct {
	Path    string // below the server's address
	Expires time.Time
}

// New is a person to be.
type New struct {
	Name, Email string
	Rights      access.Rights
}

// Add makes a person, who chooses a password by the link.
func (p *People) Add(ctx context.Context, by trail.By, n New) (made db.Person, link Link, err error) {
	if err := checked(n.Name, n.Email); err != nil {
		return made, link, err
	}
	if err := p.may(ctx, n.Rights); err != nil {
		return made, link, err
	}
	err = p.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		made, err = q.AddPerson(ctx, db.AddPersonParams{Email: strings.TrimSpace(n.Email), Name: n.Name, Role: string(n.Rights.Role),
			Customer: n.Rights.Customer, Teams: n.Rights.Teams})
		if err != nil {
			return taken(err)
		}
		if link, err = p.link(ctx, q, made.ID); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "create", Subject: subject(made.ID), Detail: said(n.Rights)})
	})
	return made, link, err
}

// may refuses rights that nobody can have.
func (p *People) may(ctx context.Context, r access.Rights) error {
	snap, err := p.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	return r.Fault(snap)
}

// said is what the trail says of rights.
func said(r access.Rights) map[string]any {
	out := map[string]any{"role": r.Role}
	if r.Customer != "" {
		out["customer"] = r.Customer
	}
	if len(r.Teams) > 0 {
		out["teams"] = r.Teams
	}
	return out
}

func also(of, more map[string]any) map[string]any {
	maps.Copy(of, more)
	return of
}

// taken tells that an address is somebody else's in words of the field.
func taken(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.ConstraintName == "person_email" {
		return definition.Faultf("email", "somebody has that address already")
	}
	return err
}

func subject(id string) string { return "person " + id }

// checked says what is wrong with the name or the e-mail address of a person.
func checked(name, email string) error {
	if err := definition.Named("name", name); err != nil {
		return err
	}
	if m, err := mail.ParseAddress(email); err != nil || m.Address != strings.TrimSpace(email) {
		return definition.Faultf("email", "that is no e-mail address; write it as name@example.org")
	}
	return definition.Named("email", email)
}

// First is the first person of an installation, and what it is called.
type First struct {
	Token, Name, Email, Password string
	Organisation, Timezone       string
}

// MakeFirst makes the first person, an administrator. Whether there is one, and
// the token, are looked at before the password costs anything.
func (p *People) MakeFirst(ctx context.Context, c auth.Caller, f First) (made db.Person, err error) {
	if n, err := p.Store.CountPeople(ctx); err != nil || n > 0 {
		return made, cmp.Or[error](err, alreadyMade(n))
	}
	wrong := definition.Faultf("token", "the token is not the one that the server printed when it started; look at its console, or start it again for a new one")
	if err := p.Sessions.MayGuess(ctx, "first person", c); err != nil {
		return made, err
	}
	if good, err := p.Store.FirstTokenGood(ctx, auth.HashToken(f.Token)); err != nil || !good {
		return made, cmp.Or[error](err, wrong)
	}
	if _, err := calendar.Zone(f.Timezone); err != nil {
		return made, definition.Faultf("timezone", "%v", err)
	}
	if err := definition.Named("organisation", f.Organisation); err != nil {
		return made, err
	}
	if err := checked(f.Name, f.Email); err != nil {
		return made, err
	}
	if err := auth.Acceptable(f.Password, f.Name, f.Email, f.Organisation); err != nil {
		return made, definition.Faultf("password", "%v", err)
	}
	hash, err := auth.HashPassword(ctx, f.Password)
	if err != nil {
		return made, err
	}
	err = p.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := q.CountPeople(ctx)
		if err != nil || n > 0 {
			return cmp.Or[error](err, alreadyMade(n))
		}
		if used, err := q.UseFirstToken(ctx, auth.HashToken(f.Token)); err != nil || used == 0 {
			return cmp.Or[error](err, wrong)
		}
		if err := q.NameOrganisation(ctx, db.NameOrganisationParams{Name: f.Organisation, Timezone: f.Timezone}); err != nil {
			return err
		}
		made, err = q.AddPerson(ctx, db.AddPersonParams{Email: strings.TrimSpace(f.Email), Name: f.Name,
			Role: string(access.Administrator), PasswordHash: hash})
		if err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{
			By: trail.By{Person: made.ID, Source: c.Source}, Action: "create", Subject: subject(made.ID),
			Detail: map[string]any{"role": access.Administrator, "first": true},
		})
	})
	return made, err
}

func alreadyMade(n int64) error {
	if n > 0 {
		return ErrMade
	}
	return nil
}

// Edit is what may change of a person.
type Edit struct {
	Name     string
	Rights   access.Rights
	Disabled bool
}

// Change changes a person. Who is disabled is signed out at once, everywhere.
func (p *People) Change(ctx context.Context, by trail.By, id string, e Edit) error {
	if err := definition.Named("name", e.Name); err != nil {
		return err
	}
	if err := p.may(ctx, e.Rights); err != nil {
		return err
	}
	return p.with(ctx, id, func(tx pgx.Tx, q *db.Queries, was db.Person) error {
		disabled := was.DisabledAt
		if now := p.Now(); e.Disabled && disabled == nil {
			disabled = &now
		} else if !e.Disabled {
			disabled = nil
		}
		if _, err := q.ChangePerson(ctx, db.ChangePersonParams{ID: id, Name: e.Name, Role: string(e.Rights.Role),
			Customer: e.Rights.Customer, Teams: e.Rights.Teams, DisabledAt: disabled}); err != nil {
			return err
		}
		if err := someAdministrator(ctx, q); err != nil {
			return err
		}
		if e.Disabled {
			if _, err := auth.End(ctx, tx, q, id, ""); err != nil {
				return err
			}
		}
		// That the name changed is worth a line; the names are the person's.
		return trail.Add(ctx, q, trail.Entry{
			By: by, Action: "edit", Subject: subject(id),
			Before: also(said(auth.RightsOf(was)), map[string]any{"disabled": was.DisabledAt != nil}),
			Detail: also(said(e.Rights), map[string]any{"disabled": e.Disabled, "renamed": was.Name != e.Name}),
		})
	})
}

func someAdministrator(ctx context.Context, q *db.Queries) error {
	left, err := q.CountAdministrators(ctx)
	if err == nil && left == 0 {
		err = definition.Faultf("role", "nobody would be administrator any more; make somebody else one first")
	}
	return err
}

// with does something with a person, who is not changed by others meanwhile.
func (p *People) with(ctx context.Context, id string, do func(pgx.Tx, *db.Queries, db.Person) error) error {
	return p.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockPeople(ctx); err != nil {
			return err
		}
		was, err := q.PersonForUpdate(ctx, id)
		if errors.Is(err, pgx.ErrNoRows) || err == nil && was.ErasedAt != nil {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		return do(tx, q, was)
	})
}

// Link makes a one-time link for a person. One made before is worthless from
// then on; the password there is stays good until the link is used.
func (p *People) Link(ctx context.Context, by trail.By, id string) (link Link, err error) {
	err = p.with(ctx, id, func(_ pgx.Tx, q *db.Queries, _ db.Person) error {
		if link, err = p.link(ctx, q, id); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "make password link", Subject: subject(id)})
	})
	return link, err
}

func (p *People) link(ctx context.Context, q *db.Queries, id string) (Link, error) {
	token, hash := auth.NewToken("kesl_")
	now := p.Now()
	// What follows # never reaches a server, nor its log.
	link := Link{"/enter#" + token, now.Add(linkFor)}
	return link, q.AddEntryLink(ctx, db.AddEntryLinkParams{Hash: hash, Person: id, MadeAt: now, ExpiresAt: link.Expires})
}

// Enter sets the password that a person chose by a one-time link, and ends all
// their sessions.
func (p *People) Enter(ctx context.Context, c auth.Caller, token, password string) error {
	if err := p.Sessions.MayGuess(ctx, "password link", c); err != nil {
		return err
	}
	hash := auth.HashToken(token)
	id, err := p.Store.EntryLink(ctx, db.EntryLinkParams{Hash: hash, Now: p.Now()})
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrLink
	}
	if err != nil {
		return err
	}
	who, err := p.Store.Person(ctx, id)
	if err != nil {
		return err
	}
	kept, err := p.newHash(ctx, who, password)
	if err != nil {
		return err
	}
	return p.with(ctx, id, func(tx pgx.Tx, q *db.Queries, _ db.Person) error {
		if _, err := q.UseEntryLink(ctx, db.UseEntryLinkParams{Hash: hash, Now: p.Now()}); err != nil {
			if errors.Is(err, pgx.ErrNoRows) {
				return ErrLink
			}
			return err
		}
		return p.setPassword(ctx, tx, q, trail.By{Person: id, Source: c.Source}, id, kept, "", "by link")
	})
}

func (p *People) newHash(ctx context.Context, who db.Person, password string) (string, error) {
	org, err := p.Store.Organisation(ctx)
	if err != nil {
		return "", err
	}
	if err := auth.Acceptable(password, who.Name, who.Email, org.Name); err != nil {
		return "", definition.Faultf("password", "%v", err)
	}
	return auth.HashPassword(ctx, password)
}

// setPassword sets a password; all sessions of the person but keep end, and no
// browser is known any more.
func (p *People) setPassword(ctx context.Context, tx pgx.Tx, q *db.Queries, by trail.By, id, hash, keep, how string) error {
	now := p.Now()
	if err := q.SetPassword(ctx, db.SetPasswordParams{ID: id, PasswordHash: hash, PasswordAt: &now}); err != nil {
		return err
	}
	if err := q.ForgetBrowsers(ctx, id); err != nil {
		return err
	}
	ended, err := auth.End(ctx, tx, q, id, keep)
	if err != nil {
		return err
	}
	return trail.Add(ctx, q, trail.Entry{By: by, Action: "set password", Subject: subject(id),
		Detail: map[string]any{"how": how, "sessions_ended": ended}})
}

// ChangePassword sets a person's password by their own old one. All their other
// sessions end.
func (p *People) ChangePassword(ctx context.Context, by trail.By, session, old, password string) error {
	who, err := p.again(ctx, by, "old", old)
	if err != nil {
		return err
	}
	if old == password {
		return definition.Faultf("password", "that is the one there is; take another")
	}
	hash, err := p.newHash(ctx, who, password)
	if err != nil {
		return err
	}
	return p.with(ctx, who.ID, func(tx pgx.Tx, q *db.Queries, _ db.Person) error {
		return p.setPassword(ctx, tx, q, by, who.ID, hash, session, "by the old one")
	})
}

// again asks for the password once more; a wrong one is a fault of the field.
func (p *People) again(ctx context.Context, by trail.By, field, password string) (db.Person, error) {
	who, err := p.Sessions.Again(ctx, by.Person, password)
	if errors.Is(err, auth.ErrWrong) {
		err = definition.Faultf(field, "that is not your password")
		return who, errors.Join(err, trail.Add(ctx, p.Store.Queries,
			trail.Entry{By: by, Action: "password refused", Subject: subject(by.Person)}))
	}
	return who, err
}

// EndSession ends one session of a person.
func (p *People) EndSession(ctx context.Context, by trail.By, person, id string) error {
	return p.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		n, err := q.EndSession(ctx, db.EndSessionParams{ID: id, Person: person})
		if err != nil || n == 0 {
			return cmp.Or[error](err, ErrNotFound)
		}
		if err := store.Notify(ctx, tx, store.Event{Kind: store.OnSessionEnded, IDs: []string{id}}); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "end session", Subject: subject(person)})
	})
}

// EndSessions signs a person out everywhere, but for one session where keep names it.
func (p *People) EndSessions(ctx context.Context, by trail.By, person, keep string) error {
	return p.with(ctx, person, func(tx pgx.Tx, q *db.Queries, _ db.Person) error {
		ended, err := auth.End(ctx, tx, q, person, keep)
		if err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "end all sessions", Subject: subject(person),
			Detail: map[string]any{"sessions_ended": ended}})
	})
}

// Erase empties a person's record for good: name, e-mail address, password,
// second factor, sessions, and the name beside what they made. The trail keeps
// what the id did, and published reports what they say.
func (p *People) Erase(ctx context.Context, by trail.By, id string) error {
	if by.Person == id {
		return ErrSelf
	}
	return p.with(ctx, id, func(tx pgx.Tx, q *db.Queries, was db.Person) error {
		alike, err := q.CountOfName(ctx, was.Name)
		if err != nil {
			return err
		}
		now := p.Now()
		if _, err := q.ErasePerson(ctx, db.ErasePersonParams{ID: id, Now: &now}); err != nil {
			return err
		}
		if err := someAdministrator(ctx, q); err != nil {
			return err
		}
		if err := q.ForgetPerson(ctx, id); err != nil {
			return err
		}
		if alike == 1 { // what somebody of the same name made stays theirs
			if err := q.ForgetName(ctx, db.ForgetNameParams{Name: was.Name, Instead: Erased}); err != nil {
				return err
			}
		}
		if _, err := auth.End(ctx, tx, q, id, ""); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "erase", Subject: subject(id), Before: map[string]any{"role": was.Role}})
	})
}

// Erased stands in place of the name of somebody who was erased.
const Erased = "a person who was erased"
