package notifying

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/instrument"
	"kestite/server/incidents"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

const (
	atOnce  = 16              // deliveries that a server sends at a time
	lease   = 2 * time.Minute // within which one is sent or not
	giveUp  = 24 * time.Hour  // after which a delivery is tried no more
	mostGap = 10 * time.Minute
	looking = 500 * time.Millisecond
)

// gap is how long after its nth try a delivery is tried again.
func gap(tries int32) time.Duration {
	return min(5*time.Second<<min(max(tries-1, 0), 10), mostGap)
}

// Run makes notices and delivers them until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	k.once.Do(func() { k.wake = make(chan struct{}, 1) })
	ctx = store.For(ctx, store.Jobs)
	var running sync.WaitGroup
	defer running.Wait()
	running.Go(func() { k.every(ctx, time.Second, nil, k.Round) })
	k.every(ctx, looking, k.wake, k.Deliver)
}

// every does something again and again, sooner where it is woken.
func (k *Keeper) every(ctx context.Context, gap time.Duration, wake <-chan struct{}, do func(context.Context) error) {
	tick := time.NewTicker(gap)
	defer tick.Stop()
	for {
		if err := do(ctx); err != nil && ctx.Err() == nil {
			k.Log.Warn("notices are looked at again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-wake:
		}
	}
}

// Deliver sends what is due, until there is nothing left that is.
func (k *Keeper) Deliver(ctx context.Context) error {
	for {
		now := k.Now()
		until := now.Add(lease).Truncate(time.Microsecond)
		list, err := k.Store.ClaimDeliveries(ctx, db.ClaimDeliveriesParams{Until: &until, Now: now, Most: atOnce})
		if err != nil || len(list) == 0 {
			return err
		}
		snap, err := k.Definitions.Snapshot(ctx)
		if err != nil {
			return err
		}
		var sending sync.WaitGroup
		failed := make([]error, len(list))
		for n, c := range list {
			sending.Go(func() { failed[n] = k.deliver(context.WithoutCancel(ctx), snap, c) })
		}
		sending.Wait() // also of a server that stops: what it began to send it ends
		if err := errors.Join(failed...); err != nil {
			return err
		}
	}
}

// deliver sends one, and notes what became of it.
func (k *Keeper) deliver(ctx context.Context, snap *catalogue.Snapshot, c db.ClaimDeliveriesRow) error {
	m, why, err := k.compose(ctx, snap, c)
	if why != "" {
		return k.end(ctx, c, "suppressed", why, "", m)
	}
	if err == nil {
		var answer string
		if answer, err = k.send(ctx, snap, c, m); err == nil {
			return k.end(ctx, c, "sent", "", answer, m)
		}
	}
	var refused *Refused
	now := k.Now()
	if errors.As(err, &refused) || now.Sub(c.DueAt) > giveUp {
		return k.end(ctx, c, "failed", clean(err.Error()), clean(err.Error()), m)
	}
	_, err = k.Store.RetryDelivery(ctx, db.RetryDeliveryParams{ID: c.ID, ClaimedUntil: c.ClaimedUntil, NextAt: now.Add(gap(c.Tries)),
		Why: fmt.Sprintf("tried %d times", c.Tries), Answer: clean(err.Error()), Subject: m.Subject, Text: kept(m)})
	return err
}

func (k *Keeper) end(ctx context.Context, c db.ClaimDeliveriesRow, state, why, answer string, m Message) error {
	now := k.Now()
	err := k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		n, err := q.EndDelivery(ctx, db.EndDeliveryParams{ID: c.ID, ClaimedUntil: c.ClaimedUntil, State: state, Why: why, Answer: answer,
			Subject: m.Subject, Text: kept(m), DoneAt: &now})
		if err != nil || n == 0 {
			return err
		}
		ids := []string{} // of what is of no incident, as planned work: inboxes look all the same
		if c.Incident != nil {
			ids = append(ids, fmt.Sprint(*c.Incident))
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnIncident, IDs: ids})
	})
	if err != nil {
		return fmt.Errorf("note what became of delivery %d: %w", c.ID, err)
	}
	return nil
}

// kept is a message as the log keeps it: without the link that acknowledges, which is for
// its receiver alone.
func kept(m Message) string {
	text, _, _ := strings.Cut(m.Text, "\nAcknowledge it: ")
	return text
}

// compose writes the message of a delivery as things stand now, or says why it is not to
// be sent any more.
func (k *Keeper) compose(ctx context.Context, snap *catalogue.Snapshot, c db.ClaimDeliveriesRow) (m Message, why string, err error) {
	m = Message{ID: fmt.Sprintf("kestite-delivery-%d", c.ID), Subject: c.Subject, Text: c.Text, Short: notice.Fit(c.Subject, k.URL()), At: k.Now(), Rank: 5,
		Values: map[string]string{"what": c.What, "headline": c.Subject, "detail": c.Text, "link": k.URL()}}
	for _, p := range definition.Placeholders {
		if _, has := m.Values[p]; !has {
			m.Values[p] = ""
		}
	}
	if why, err := k.reachable(ctx, c); err != nil || why != "" {
		return m, why, err
	}
	if c.Report != nil && c.Kind == definition.Mail {
		if m.Attached, err = k.attachment(ctx, *c.Report); err != nil {
			return m, "", err
		}
	}
	if c.Incident == nil {
		return m, "", nil
	}
	row, err := k.Store.Incident(ctx, *c.Incident)
	if err != nil {
		return m, "", err
	}
	all, err := k.known(ctx, k.Store.Queries, snap, []db.Incident{row})
	if err != nil {
		return m, "", err
	}
	t, now, what := all[0], span.Of(k.Now()), notice.What(c.What)
	if life := t.life(snap); c.AgainOf == nil { // what a person sends again is sent
		if life.Round != int(c.Round) && what != notice.Clear {
			return m, "it was over before", nil
		}
		if why := life.Still(what, now); why != "" {
			return m, why, nil
		}
	}
	if what == notice.Clear || what == notice.Found || what == notice.Worse {
		knows, err := k.Store.ToldOf(ctx, db.ToldOfParams{Incident: c.Incident, Kind: c.Kind, Address: c.Address, Round: c.Round, ID: c.ID})
		if err != nil {
			return m, "", err
		}
		if !knows && c.AgainOf == nil && (c.Kind != definition.Inbox || c.Person == nil) {
			return m, "it was not told that there was trouble", nil
		}
	}
	s, err := k.said(ctx, snap, t.incident, what)
	if err != nil {
		return m, "", err
	}
	s.DueAt = span.Of(c.DueAt)
	if c.Person != nil && c.Kind != definition.Inbox && what != notice.Clear && what != notice.Found && what != notice.Reminder {
		if s.Ack, err = k.ackLink(ctx, c.ID); err != nil {
			return m, "", err
		}
	}
	m.Thread = fmt.Sprintf("kestite-incident-%d", t.incident.ID)
	m.Subject, m.Text, m.Short, m.Values = s.Subject(), s.Text(), s.Short(), s.Values()
	m.Rank = map[string]int{definition.Critical: 2, definition.Major: 3, definition.Minor: 4}[s.Severity]
	if what == notice.Clear {
		m.Rank = 5
	}
	return m, "", nil
}

// reachable says why a person is not to be reached any more by what they were when the
// delivery was made; "" where they are.
func (k *Keeper) reachable(ctx context.Context, c db.ClaimDeliveriesRow) (string, error) {
	if c.Person == nil {
		return "", nil
	}
	p, err := k.Store.Person(ctx, *c.Person)
	if err != nil {
		return "", err
	}
	if p.DisabledAt != nil || p.ErasedAt != nil {
		return "the person has no account any more", nil
	}
	if c.Kind == definition.Inbox {
		return "", nil
	}
	methods, err := k.Store.PersonMethods(ctx, c.Person)
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(methods, func(m db.PersonMethod) bool { return m.ID == c.Method && m.VerifiedAt != nil }) {
		return "the contact method was removed", nil
	}
	return "", nil
}

// said is what there is to say of an incident now.
func (k *Keeper) said(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident, what notice.What) (notice.Said, error) {
	now := span.Of(k.Now())
	s := notice.Said{What: what, Incident: i, Name: incidents.Name(snap, i.Subject), Severity: i.Severity, Now: now,
		Link: fmt.Sprintf("%s/incidents/%d", k.URL(), i.ID)}
	org, err := k.Store.Organisation(ctx)
	if err != nil {
		return s, err
	}
	if s.Zone, err = calendar.Zone(org.Timezone); err != nil {
		s.Zone = time.UTC
	}
	if service := incidents.ServiceOf(snap, i.Subject); service != "" {
		s.Service = snap.Named(catalogue.Service, service)
		if spec := snap.Services[service].Current().Spec; spec.Runbook != "" && what != notice.Clear {
			s.Detail = append(s.Detail, "What to do: "+spec.Runbook)
		}
	}
	follow, err := k.followers(ctx, snap, i, &s)
	if err != nil {
		return s, err
	}
	s.Headline = i.Headline(s.Name, follow, now)
	if i.Cause != 0 {
		rows, err := k.Store.Incidents(ctx, []int64{i.Cause})
		if err != nil {
			return s, err
		}
		for _, r := range rows {
			cause := incidents.Of(r)
			s.Detail = append([]string{"It follows from: " + cause.Headline(incidents.Name(snap, cause.Subject), nil, now)}, s.Detail...)
		}
	}
	if i.About == incident.Agreement && i.ResolvedAt == nil {
		stands, err := k.Incidents.Rows(ctx, snap)
		if err != nil {
			return s, err
		}
		for _, low := range incidents.Low(stands, now) {
			if low.ID == i.Subject.ID {
				s.Headline = s.Name + ": " + low.Text + "."
			}
		}
	}
	return s, nil
}

// followers are what follows an incident, and says in the message what of that needs it:
// what is down already, and what is expected to be.
func (k *Keeper) followers(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident, s *notice.Said) ([]string, error) {
	rows, err := k.Store.Followers(ctx, []int64{i.ID})
	if err != nil {
		return nil, err
	}
	var follow, known []string
	for _, r := range rows {
		of := incident.Subject{About: r.About, ID: r.Subject}
		follow = append(follow, incidents.Name(snap, of))
		if r.About == incident.Service {
			known = append(known, r.Subject)
		}
	}
	if i.About != incident.Service || snap.Services[i.Subject.ID] == nil || s.What == notice.Clear {
		return follow, nil
	}
	var expected []string
	for _, id := range snap.Affected(i.Subject.ID) {
		if e := snap.Services[id]; id != i.Subject.ID && e != nil && !e.Retired && !slices.Contains(known, id) {
			expected = append(expected, snap.Named(catalogue.Service, id))
		}
	}
	slices.Sort(expected)
	const inHeadline = 3 // so many it names itself
	if len(follow) > inHeadline {
		s.Detail = append(s.Detail, "Follow from it already: "+strings.Join(follow, ", ")+".")
	}
	if len(expected) > 0 {
		s.Detail = append(s.Detail, "Need it, and are not known to fail: "+strings.Join(expected, ", ")+".")
	}
	return follow, nil
}

// ackFor is how long a link that acknowledges is good.
const ackFor = 24 * time.Hour

// ackLink makes a link with which whoever gets the delivery acknowledges the incident,
// once.
func (k *Keeper) ackLink(ctx context.Context, delivery int64) (string, error) {
	token := make([]byte, 24)
	rand.Read(token)
	text := base64.RawURLEncoding.EncodeToString(token)
	err := k.Store.AddDeliveryLink(ctx, db.AddDeliveryLinkParams{Hash: hashed(text), Delivery: delivery, Until: k.Now().Add(ackFor)})
	return k.URL() + "/acknowledge#" + text, err // what stands behind # is in no log
}

func hashed(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// send sends a message the way of its delivery, and returns what the remote answered.
func (k *Keeper) send(ctx context.Context, snap *catalogue.Snapshot, c db.ClaimDeliveriesRow, m Message) (string, error) {
	carry := k.Send
	if k.Carry != nil {
		carry = k.Carry
	}
	return carry(ctx, snap, Target{Kind: c.Kind, Method: c.Method, Address: c.Address, Person: c.Person != nil}, m)
}

// Target is whom a message goes to.
type Target struct {
	Kind, Method, Address string
	Person                bool // it is a person's own
}

// Send sends a message, and returns what the remote answered. A *Refused is final.
func (k *Keeper) Send(ctx context.Context, snap *catalogue.Snapshot, to Target, m Message) (string, error) {
	if to.Kind == definition.Inbox {
		return "lies in the inbox", nil
	}
	secrets, err := k.Definitions.Secrets(ctx, snap, k.Vault, k.Log)
	if err != nil {
		return "", err
	}
	if to.Kind == definition.Mail || to.Kind == definition.SMS {
		return k.relayed(ctx, snap, secrets, to, m)
	}
	e := snap.Contacts[to.Method]
	if e == nil || e.Retired || to.Person {
		return "", &Refused{"there is no such contact method any more"}
	}
	spec := e.Current().Spec
	for _, id := range []string{spec.Credential, spec.Signing} {
		if id != "" && secrets[id] == nil {
			return "", fmt.Errorf("the credential %s has no secret; an administrator can set it under Set-up, Credentials",
				snap.Named(catalogue.Credential, id))
		}
	}
	switch to.Kind {
	case definition.Webhook:
		return k.Sender.Webhook(ctx, spec, secrets[spec.Credential], secrets[spec.Signing], m)
	case definition.Chat:
		return k.Sender.Chat(ctx, spec, secrets[spec.Credential], m)
	case definition.Syslog:
		host, _ := os.Hostname()
		return k.Sender.Syslog(ctx, spec, host, m)
	case definition.Script:
		return k.Sender.Script(ctx, spec, m)
	}
	return "", &Refused{fmt.Sprintf("%q is no kind of contact method", to.Kind)}
}

// relayed sends by the relays of a kind, one after the other until one takes it. That it
// was refused for good it says only where all of them say so.
func (k *Keeper) relayed(ctx context.Context, snap *catalogue.Snapshot, secrets map[string]*instrument.Secret, to Target, m Message) (string, error) {
	relays := Relays(snap, to.Kind)
	if len(relays) == 0 {
		return "", fmt.Errorf("there is no relay for %s; an administrator can add one under Set-up, Relays", to.Kind)
	}
	var failed []string
	final := true
	for _, r := range relays {
		secret := secrets[r.Credential]
		var answer string
		var err error
		switch {
		case r.Credential != "" && secret == nil:
			err = errors.New("its credential has no secret")
		case to.Kind == definition.Mail:
			answer, err = k.Sender.Mail(ctx, r, secret, to.Address, m)
		default:
			var number string
			if number, err = definition.Number("address", to.Address); err != nil {
				err = &Refused{err.Error()}
			} else {
				answer, err = k.Sender.SMS(ctx, r, secret, number, m)
			}
		}
		if err == nil {
			return clean(r.Name + ": " + answer), nil
		}
		var refused *Refused
		final = final && errors.As(err, &refused)
		failed = append(failed, r.Name+": "+err.Error())
	}
	text := clean(strings.Join(failed, "; "))
	if final {
		return "", &Refused{text}
	}
	return "", errors.New(text)
}

// Relays are those in force for a kind, in the order in which they are tried.
func Relays(snap *catalogue.Snapshot, kind string) []definition.RelaySpec {
	var out []definition.RelaySpec
	for _, id := range catalogue.Live(snap.Relays) {
		if spec := snap.Relays[id].Current().Spec; spec.Kind == kind {
			out = append(out, spec)
		}
	}
	slices.SortStableFunc(out, func(a, b definition.RelaySpec) int { return a.Rank - b.Rank })
	return out
}

// mostAttached is how long a document may be that goes with a mail, bytes: servers refuse
// longer ones, and the link is there.
const mostAttached = 8 << 20

// attachment is the PDF of a published report; nil where it is too long.
func (k *Keeper) attachment(ctx context.Context, report string) (*Attachment, error) {
	r, err := k.Store.ReportDocument(ctx, report)
	if err != nil || len(r.Document) > mostAttached {
		return nil, err
	}
	return &Attachment{fmt.Sprintf("%s-%s-report-%d.pdf", r.Agreement, strings.NewReplacer("/", "_", ":", "").Replace(r.Period), r.Number), r.Document}, nil
}
