package notifying

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Bounds of contact methods that people have of their own.
const (
	MostMethods = 10
	codeFor     = 15 * time.Minute
	codeTries   = 5
	codesAnHour = 6
)

// New is a contact method to be.
type New struct {
	Kind, Address string
	Active        *definition.WeeklyPlan
}

func (n *New) checked() (json.RawMessage, error) {
	switch n.Kind {
	case definition.Mail:
		if err := definition.MailAddress("address", n.Address); err != nil {
			return nil, err
		}
	case definition.SMS:
		number, err := definition.Number("address", n.Address)
		if err != nil {
			return nil, err
		}
		n.Address = number
	default:
		return nil, definition.Faultf("kind", "%q is none that a person can have; take mail or sms", n.Kind)
	}
	return hours(n.Active)
}

func hours(w *definition.WeeklyPlan) (json.RawMessage, error) {
	if w == nil {
		return nil, nil
	}
	if _, err := definition.ActiveHours(w); err != nil {
		return nil, err
	}
	return json.Marshal(w)
}

// AddMethod gives a person a contact method, which is used once it is verified. The error
// is a *definition.Fault where it is theirs who asked.
func (k *Keeper) AddMethod(ctx context.Context, by trail.By, n New) (made db.PersonMethod, err error) {
	active, err := n.checked()
	if err != nil {
		return made, err
	}
	err = k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		list, err := q.PersonMethods(ctx, &by.Person)
		if err != nil {
			return err
		}
		if len(list) >= MostMethods {
			return definition.Faultf("address", "is one too many: %d contact methods are the most; remove one first", MostMethods)
		}
		made, err = q.AddPersonMethod(ctx, db.AddPersonMethodParams{Person: by.Person, Kind: n.Kind, Address: n.Address, Active: active, MadeAt: k.Now()})
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "23505" {
			return definition.Faultf("address", "is one of your contact methods already")
		}
		if err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "create", Subject: "contact method " + made.ID, Detail: map[string]any{"kind": n.Kind}})
	})
	return made, err
}

// EditMethod says when a contact method may be used.
func (k *Keeper) EditMethod(ctx context.Context, by trail.By, id string, w *definition.WeeklyPlan) error {
	active, err := hours(w)
	if err != nil {
		return err
	}
	return k.own(ctx, by, "edit", id, func(q *db.Queries) (int64, error) {
		return q.EditPersonMethod(ctx, db.EditPersonMethodParams{ID: id, Person: by.Person, Active: active})
	})
}

// DropMethod takes a contact method away.
func (k *Keeper) DropMethod(ctx context.Context, by trail.By, id string) error {
	return k.own(ctx, by, "remove", id, func(q *db.Queries) (int64, error) {
		return q.DropPersonMethod(ctx, db.DropPersonMethodParams{ID: id, Person: by.Person})
	})
}

func (k *Keeper) own(ctx context.Context, by trail.By, action, id string, do func(*db.Queries) (int64, error)) error {
	return k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := do(q)
		if err != nil {
			return err
		}
		if n == 0 {
			return catalogue.ErrNotFound
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: action, Subject: "contact method " + id})
	})
}

// SendCode sends a code to a contact method of a person, and returns what the remote
// answered. That it could not be sent is an answer too, and no error.
func (k *Keeper) SendCode(ctx context.Context, by trail.By, id string) (answer string, sent bool, err error) {
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return "", false, err
	}
	code := fmt.Sprintf("%06d", n)
	var method db.PersonMethod
	err = k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		if method, err = mine(ctx, q, by.Person, id); err != nil {
			return err
		}
		may, err := q.Spend(ctx, db.SpendParams{Who: "code " + by.Person, Units: 1, Most: codesAnHour, PerSecond: codesAnHour / 3600.0, Now: k.Now()})
		if err != nil {
			return err
		}
		if !may {
			return definition.Faultf("id", "%d codes an hour are the most; wait some minutes", codesAnHour)
		}
		until := k.Now().Add(codeFor)
		return q.PutCode(ctx, db.PutCodeParams{ID: id, CodeHash: hashed(id + code), CodeUntil: &until})
	})
	if err != nil {
		return "", false, err
	}
	snap, err := k.Definitions.Snapshot(ctx)
	if err != nil {
		return "", false, err
	}
	text := "Your code is " + code + ". It is good for 15 minutes, and verifies that notices reach you here."
	answer, err = k.Send(ctx, snap, Target{Kind: method.Kind, Address: method.Address, Person: true},
		Message{ID: fmt.Sprintf("kestite-code-%s-%d", id, k.Now().UnixMilli()), Subject: "Code " + code, Text: text, Short: text, At: k.Now()})
	if err != nil {
		return clean(err.Error()), false, nil
	}
	return answer, true, nil
}

func mine(ctx context.Context, q *db.Queries, person, id string) (db.PersonMethod, error) {
	m, err := q.PersonMethod(ctx, db.PersonMethodParams{ID: id, Person: person})
	if errors.Is(err, pgx.ErrNoRows) {
		return m, catalogue.ErrNotFound
	}
	return m, err
}

// Verify says that a person got the code that was sent to their contact method.
func (k *Keeper) Verify(ctx context.Context, by trail.By, id, code string) error {
	var wrong error
	err := k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		m, err := mine(ctx, q, by.Person, id)
		if err != nil {
			return err
		}
		now := k.Now()
		switch {
		case m.CodeHash == nil || m.CodeUntil == nil || now.After(*m.CodeUntil):
			wrong = definition.Faultf("code", "there is none that is good still; have another one sent")
			return nil
		case m.CodeTries >= codeTries:
			wrong = definition.Faultf("code", "was tried too often; have another one sent")
			return nil
		case subtle.ConstantTimeCompare(hashed(id+code), m.CodeHash) != 1:
			wrong = definition.Faultf("code", "is not the one that was sent; look again")
			return q.TryCode(ctx, id) // which counts, though it is refused
		}
		if err := q.VerifyMethod(ctx, db.VerifyMethodParams{ID: id, VerifiedAt: &now}); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "verify", Subject: "contact method " + id})
	})
	return errors.Join(err, wrong)
}

// Try sends a test by a shared contact method, and returns what the remote answered.
func (k *Keeper) Try(ctx context.Context, by trail.By, id string) (answer string, sent bool, err error) {
	snap, err := k.Definitions.Snapshot(ctx)
	if err != nil {
		return "", false, err
	}
	e := snap.Contacts[id]
	if e == nil || e.Retired {
		return "", false, catalogue.ErrNotFound
	}
	spec := e.Current().Spec
	now := span.Of(k.Now())
	s := notice.Said{What: notice.Test, Name: "A test", Severity: definition.Minor, Incident: incident.Incident{BeganAt: now}, Now: now, DueAt: now,
		Headline: "This is a test: somebody tries whether notices arrive here. Nothing is wrong.", Link: k.URL() + "/notices"}
	m := Message{ID: fmt.Sprintf("kestite-test-%s-%d", id, now), Subject: "Test: notices arrive here", Text: s.Text(),
		Short: notice.Fit("Test: notices arrive here.", s.Link), Values: s.Values(), Rank: 5, At: k.Now()}
	m.Values["incident"] = ""
	if answer, err = k.Send(ctx, snap, Target{Kind: spec.Kind, Method: id, Address: spec.Address}, m); err != nil {
		answer = clean(err.Error())
	}
	sent = err == nil
	return answer, sent, k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "test", Subject: "contact-method " + id, Detail: map[string]any{"sent": sent}})
	})
}

// Again sends a delivery again, as a new one, and returns its number.
func (k *Keeper) Again(ctx context.Context, by trail.By, id int64) (made int64, err error) {
	err = k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		d, err := q.Delivery(ctx, id)
		if errors.Is(err, pgx.ErrNoRows) {
			return catalogue.ErrNotFound
		}
		if err != nil {
			return err
		}
		switch {
		case d.Kind == "" || d.Address == "erased":
			return definition.Faultf("id", "reached nobody, and there is nowhere to send it")
		case d.State == "queued":
			return definition.Faultf("id", "is being sent still; wait until that has ended")
		case d.Kind == definition.Inbox:
			return definition.Faultf("id", "lies in an inbox; there is nothing to send again")
		}
		now := k.Now()
		if made, err = q.AddDelivery(ctx, db.AddDeliveryParams{Notice: d.Notice, Incident: d.Incident, Person: d.Person, Kind: d.Kind, Method: d.Method,
			Address: d.Address, State: "queued", Subject: d.Subject, Text: d.Text, DueAt: d.DueAt, MadeAt: now, NextAt: now, AgainOf: &id,
			By: by.Kept()}); err != nil {
			return err
		}
		if d.Incident != nil {
			if err := store.Notify(ctx, tx, store.Event{Kind: store.OnIncident, IDs: []string{fmt.Sprint(*d.Incident)}}); err != nil {
				return err
			}
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "send again", Subject: fmt.Sprintf("delivery %d", id)})
	})
	if err == nil {
		k.awake()
	}
	return made, err
}

// Linked is what a link that acknowledges stands for.
type Linked struct {
	Person, Delivery string
	Incident         int64
}

// ErrLink is a link that is not good.
var ErrLink = errors.New("the link is not good any more: it was used, or a day has passed. Sign in and look under Incidents")

// ByLink is what a link stands for that was not used yet.
func (k *Keeper) ByLink(ctx context.Context, token string) (Linked, error) {
	r, err := k.Store.DeliveryByLink(ctx, hashed(token))
	if errors.Is(err, pgx.ErrNoRows) || err == nil && (r.UsedAt != nil || k.Now().After(r.Until) || r.Person == nil || r.Incident == nil) {
		return Linked{}, ErrLink
	}
	if err != nil {
		return Linked{}, err
	}
	return Linked{*r.Person, fmt.Sprint(r.ID), *r.Incident}, nil
}

// UseLink says that a link is used; only the first who does may go on.
func (k *Keeper) UseLink(ctx context.Context, token string) error {
	now := k.Now()
	n, err := k.Store.UseDeliveryLinks(ctx, db.UseDeliveryLinksParams{Hash: hashed(token), Now: &now})
	if err == nil && n == 0 {
		return ErrLink
	}
	return err
}

// Unknown refuses people of a plan or a pool who are not there, each by the path of the
// field that names them.
func Unknown(ctx context.Context, q *db.Queries, spec any) error {
	named := map[string]string{}
	switch spec := spec.(type) {
	case definition.PoolSpec:
		for i, id := range spec.Members {
			named[fmt.Sprintf("members[%d]", i)] = id
		}
		for i, o := range spec.Overrides {
			named[fmt.Sprintf("overrides[%d].person", i)] = o.Person
		}
	case definition.WindowSpec:
		for i, r := range spec.Tell {
			if r.Person != "" {
				named[fmt.Sprintf("tell[%d].person", i)] = r.Person
			}
		}
	case definition.NoticePlanSpec:
		for i, s := range spec.Steps {
			for j, r := range s.Tell {
				if r.Person != "" {
					named[fmt.Sprintf("steps[%d].tell[%d].person", i, j)] = r.Person
				}
			}
		}
	}
	if len(named) == 0 {
		return nil
	}
	people, err := q.PeopleToTell(ctx)
	if err != nil {
		return err
	}
	for path, id := range named {
		if !slices.ContainsFunc(people, func(p db.PeopleToTellRow) bool { return p.ID == id }) {
			return definition.Faultf(path, "%q is nobody who can be told; choose a person of the organisation", id)
		}
	}
	return nil
}
