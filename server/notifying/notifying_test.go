package notifying_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/instrument"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/notifying"
	"kestite/server/servertest"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
	"kestite/server/trail"
	"kestite/standin"
)

func TestMain(m *testing.M) { storetest.Parallel(m, 4) }

var ctx = store.For(context.Background(), store.Jobs)

// at is the address of the receivers of a test, of which each has one of its own.
var at = make(chan string, 200)

func init() {
	for n := range 200 {
		at <- fmt.Sprintf("127.79.%d.%d", 1+n/200, 1+n%200)
	}
}

// quay is a server with services, people and receivers, on a clock that is moved by hand.
type quay struct {
	*testing.T
	srv   *server.Server
	keep  *notifying.Keeper
	kept  *standin.Messages
	post  *standin.Post
	desk  *standin.Desk
	host  string
	ids   map[string]string // people by name
	ahead time.Duration
	url   string
}

func newQuay(t *testing.T) *quay {
	t.Helper()
	t.Parallel()
	q := &quay{T: t, srv: storetest.Server(t), kept: new(standin.Messages), host: <-at, ids: map[string]string{}}
	q.keep = q.srv.API.Notices
	q.with(q.srv)
	q.post = &standin.Post{ID: "post", Name: "Post", Addr: q.host + ":8425", Kept: q.kept}
	q.desk = &standin.Desk{ID: "desk", Name: "Desk", Addr: q.host + ":8460", Kept: q.kept}
	for _, d := range []standin.Device{q.post, q.desk} {
		if err := d.Set(standin.OK); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { d.Close() })
	}
	q.url = servertest.Serve(t, q.srv)
	q.make(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"})
	q.make(catalogue.Relay, "post", definition.RelaySpec{Name: "Post", Kind: definition.Mail, Address: "smtp://" + q.post.Addr, Plain: true, Sender: "kestite@skerry.example"})
	q.make(catalogue.Relay, "sms", definition.RelaySpec{Name: "Gateway", Kind: definition.SMS, Address: "http://" + q.desk.Addr + "/sms", Sender: "Skerry"})
	q.make(catalogue.Contact, "work", definition.ContactSpec{Name: "Work desk", Kind: definition.Webhook, Address: "http://" + q.desk.Addr + "/work"})
	q.person("runa", access.Operator)
	q.person("mikkel", access.Manager)
	return q
}

// with lets a server's keeper send to this machine, by the clock of the test.
func (q *quay) with(srv *server.Server) {
	policy, err := policyOf("127.79.0.0/16")
	if err != nil {
		q.Fatal(err)
	}
	srv.API.Notices.Sender = &notifying.Sender{Policy: policy}
	srv.API.Notices.Now = func() time.Time { return srv.API.Store.Now().Add(q.ahead) }
	srv.API.Incidents.Now = srv.API.Notices.Now
	srv.API.Notices.URL = func() string { return "https://kestite.skerry.example" }
}

func policyOf(allow string) (*instrument.Policy, error) {
	return instrument.NewPolicy([]string{allow}, nil)
}

func (q *quay) make(kind, id string, spec catalogue.Spec) {
	q.Helper()
	if _, err := q.srv.API.Definitions.Create(ctx, kind, id, "", spec, defining.Change{By: trail.By{Name: "test"},
		At: storetest.Now().Add(-48 * time.Hour)}); err != nil {
		q.Fatal(err)
	}
}

// person makes somebody who is reached by mail and by SMS.
func (q *quay) person(name string, role access.Role) {
	q.Helper()
	p, err := q.srv.API.Store.AddPerson(ctx, db.AddPersonParams{Email: name + "@skerry.example", Name: name, Role: string(role)})
	if err != nil {
		q.Fatal(err)
	}
	q.ids[name] = p.ID
	for kind, address := range map[string]string{definition.Mail: name + "@skerry.example", definition.SMS: fmt.Sprintf("+4670000%04d", len(q.ids))} {
		m, err := q.srv.API.Store.AddPersonMethod(ctx, db.AddPersonMethodParams{Person: p.ID, Kind: kind, Address: address, MadeAt: storetest.Now()})
		if err != nil {
			q.Fatal(err)
		}
		now := storetest.Now()
		if err := q.srv.API.Store.VerifyMethod(ctx, db.VerifyMethodParams{ID: m.ID, VerifiedAt: &now}); err != nil {
			q.Fatal(err)
		}
	}
}

func (q *quay) to(names ...string) []definition.Recipient {
	var out []definition.Recipient
	for _, n := range names {
		if id, is := q.ids[n]; is {
			out = append(out, definition.Recipient{Person: id})
		} else {
			out = append(out, definition.Recipient{Contact: n})
		}
	}
	return out
}

// service makes one with a check that decides; its incidents follow a plan.
func (q *quay) service(id, plan string, needs ...string) {
	q.Helper()
	spec := definition.ServiceSpec{Name: strings.ToUpper(id[:1]) + id[1:], Kind: "business", Combine: "worst"}
	if plan != "" {
		spec.Notices = &definition.NoticeChoice{Plan: plan}
	}
	if len(needs) > 0 {
		spec.DependsOn = []definition.Dependency{{Services: needs}}
	}
	q.make(catalogue.Service, id, spec)
	q.make(catalogue.Check, id, definition.CheckSpec{Service: id, Name: "Page", Kind: "http", Target: "http://" + id + ".skerry.example/", IntervalS: 60,
		TimeoutMS: 1000, StaleAfterS: 7200, Confirm: 1, Recover: 1, Quorum: "any", Role: definition.Decides, Locations: []string{"tolvik"}})
	q.measured(30*time.Minute, measure.OK, id)
}

func (q *quay) measured(ago time.Duration, outcome measure.Outcome, checks ...string) {
	q.Helper()
	var list []wire.Measurement
	for _, id := range checks {
		list = append(list, wire.Measurement{Check: id, At: span.Of(storetest.Now().Add(-ago)), Outcome: outcome, Detail: "seen in a test"})
	}
	if _, err := q.srv.API.Ingest.Batch(ctx, "tolvik", "", list); err != nil {
		q.Fatal(err)
	}
	for more := true; more; {
		var err error
		if more, err = q.srv.Judge.Due(ctx); err != nil {
			q.Fatal(err)
		}
	}
}

// after makes what is due a while from now, and delivers it.
func (q *quay) after(ahead time.Duration) {
	q.Helper()
	q.ahead = ahead
	if err := q.keep.Round(ctx); err != nil {
		q.Fatal(err)
	}
	if err := q.keep.Deliver(ctx); err != nil {
		q.Fatal(err)
	}
}

// arrived are the messages since the last call, in order: method, receiver, subject up to
// since when.
func (q *quay) arrived() []string {
	var out []string
	for _, m := range q.kept.All() {
		subject := m.Subject
		if m.Method == "sms" {
			subject, _, _ = strings.Cut(m.Text, " since")
		}
		subject, _, _ = strings.Cut(subject, " since")
		subject, _, _ = strings.Cut(subject, " for ")
		out = append(out, m.Method+" "+m.To+" "+strings.TrimSpace(subject))
	}
	slices.Sort(out)
	*q.kept = standin.Messages{}
	return out
}

func (q *quay) wants(what string, want ...string) {
	q.Helper()
	if got := q.arrived(); !slices.Equal(got, want) {
		q.Errorf("%s: %s\nwant %s", what, strings.Join(got, " | "), strings.Join(want, " | "))
	}
}

// log is what became of all deliveries: kind, state, why.
func (q *quay) log() []string {
	q.Helper()
	rows, err := q.srv.API.Store.Deliveries(ctx, db.DeliveriesParams{Most: 1000})
	if err != nil {
		q.Fatal(err)
	}
	var out []string
	for _, r := range rows {
		out = append(out, strings.TrimSpace(r.What+" "+r.Kind+" "+r.State+" "+r.Why))
	}
	slices.Sort(out)
	return out
}

func (q *quay) incident(id string) int64 {
	q.Helper()
	rows, err := q.srv.API.Store.OpenIncidentsAbout(ctx, incident.Service)
	if err != nil {
		q.Fatal(err)
	}
	for _, r := range rows {
		if r.Subject == id {
			return r.ID
		}
	}
	q.Fatalf("%s has no open incident", id)
	return 0
}

func (q *quay) acknowledge(id int64, person string) {
	q.Helper()
	if err := q.srv.API.Incidents.Do(ctx, trail.By{Person: q.ids[person]}, id, "acknowledge", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
		return i.Acknowledge(q.ids[person], now, nil, false)
	}); err != nil {
		q.Fatal(err)
	}
}

func TestStepsAreToldAndTheEnd(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
		{Tell: q.to("runa"), By: []string{definition.Mail}}, {AfterS: 480, Tell: q.to("mikkel", "work"), RepeatS: 900, Most: 1}}})
	q.service("gates", "duty")
	q.after(0)
	q.wants("nothing is wrong")
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("at once", "mail runa@skerry.example [critical] Gates down")
	q.after(7 * time.Minute)
	q.wants("before the second step")
	q.after(9 * time.Minute)
	q.wants("the second step", "mail mikkel@skerry.example [critical] Gates down", "sms +46700000002 [critical] Gates down",
		"webhook /work Gates has been down")
	q.after(9 * time.Minute)
	q.wants("the same again")
	q.after(30 * time.Minute)
	q.wants("the second step again", "mail mikkel@skerry.example [critical] Still: Gates down", "sms +46700000002 [critical] Still: Gates down",
		"webhook /work Gates has been down")
	q.measured(0, measure.OK, "gates")
	q.after(31 * time.Minute)
	over := q.arrived()
	if len(over) != 4 || !strings.HasPrefix(over[0], "mail mikkel@skerry.example Over: Gates") || !strings.Contains(over[3], "webhook /work Gates was down") {
		t.Errorf("its end is told as %q", over)
	}
	q.after(2 * time.Hour)
	q.wants("no more")
}

func TestNobodyIsToldOfWhatSomebodyHas(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
		{Tell: q.to("runa"), By: []string{definition.Mail}}, {AfterS: 60, Tell: q.to("work")}}})
	q.service("gates", "duty")
	if err := q.post.Set(standin.Refused); err != nil {
		t.Fatal(err)
	}
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("the post is away")
	q.acknowledge(q.incident("gates"), "mikkel")
	if err := q.post.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	q.after(30 * time.Minute)
	q.wants("it was acknowledged meanwhile")
	if got, want := q.log(), []string{"begun inbox sent", "begun mail suppressed somebody acknowledged it before"}; !slices.Equal(got, want) {
		t.Errorf("the log says %q, want %q", got, want)
	}
	q.measured(0, measure.OK, "gates")
	q.after(31 * time.Minute)
	q.wants("who was told of nothing is not told its end")
}

// One cause with forty that need it: one incident is told, and names them all.
func TestOneCauseIsOneMessage(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	q.service("router", "duty")
	var all []string
	for n := range 40 {
		id := fmt.Sprintf("gate%02d", n)
		q.service(id, "duty", "router")
		all = append(all, id)
	}
	q.measured(2*time.Second, measure.Failed, all...) // what needs it is seen first
	q.after(10 * time.Second)
	q.wants("while it is waited for a cause")
	q.measured(time.Second, measure.Failed, "router")
	q.after(15 * time.Second)
	messages := q.kept.All()
	if len(messages) != 1 || !strings.Contains(messages[0].Text, "Gate00") || !strings.Contains(messages[0].Text, "Gate39") ||
		!strings.Contains(messages[0].Subject, "Router has been down") {
		t.Fatalf("%d messages: %+v", len(messages), messages)
	}
	q.arrived()
	q.after(10 * time.Minute)
	q.wants("and no other one")
}

func TestACauseThatIsFoundLaterJoins(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	q.service("router", "")
	q.service("gates", "duty", "router")
	q.measured(2*time.Second, measure.Failed, "gates")
	q.after(25 * time.Second)
	q.wants("it waited", "webhook /work Gates has been down")
	q.measured(time.Second, measure.Failed, "router")
	q.after(40 * time.Second)
	if got := q.kept.All(); len(got) != 1 || !strings.Contains(got[0].Text, `"what":"cause"`) || !strings.Contains(got[0].Text, "It follows from: Router") {
		t.Errorf("its cause is told as %+v", got)
	}
}

func TestMoreThanSoManyAnHourAreSummedUp(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", MostPerHour: 3, Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	var all []string
	for n := range 10 {
		all = append(all, fmt.Sprintf("gate%02d", n))
		q.service(all[n], "duty")
	}
	q.measured(time.Second, measure.Failed, all...)
	q.after(0)
	if got := q.arrived(); len(got) != 3 {
		t.Errorf("%d messages at once: %q", len(got), got)
	}
	q.after(70 * time.Second)
	got := q.kept.All()
	if len(got) != 1 || !strings.Contains(got[0].Text, "7 more incidents") || !strings.Contains(got[0].Text, "Gate09") {
		t.Errorf("the rest is told as %+v", got)
	}
	q.arrived()
	q.measured(0, measure.OK, all...)
	q.after(3 * time.Minute)
	if got := q.arrived(); len(got) != 3 {
		t.Errorf("the end is told %d times: %q", len(got), got)
	}
}

func TestWhatFailsIsTriedAgainAndAnotherWay(t *testing.T) {
	q := newQuay(t)
	second := &standin.Post{ID: "second", Name: "Second", Addr: q.host + ":8426", Kept: q.kept}
	if err := second.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { second.Close() })
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{
		{Tell: append(q.to("runa"), q.to("work")...), By: []string{definition.Mail}}}})
	q.service("gates", "duty")
	for _, d := range []standin.Device{q.post, q.desk} {
		if err := d.Set(standin.Wrong); err != nil {
			t.Fatal(err)
		}
	}
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("everything is refused")
	log := q.log()
	if len(log) != 3 || !strings.HasPrefix(log[1], "begun mail failed") || !strings.Contains(log[1], "nobody of that name") || log[2] != "begun webhook queued tried 1 times" {
		t.Errorf("the log says %q", log)
	}
	q.after(time.Second)
	q.wants("it is not tried again at once")
	if err := q.desk.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	q.after(time.Hour)
	late := q.kept.All()
	if len(late) != 1 || !strings.Contains(late[0].Text, "Gates has been down for 1 h") {
		t.Errorf("an hour later %+v", late)
	}
	q.arrived()
	// With a second relay, mail goes that way.
	q.make(catalogue.Relay, "second", definition.RelaySpec{Name: "Second", Kind: definition.Mail, Address: "smtp://" + second.Addr, Plain: true,
		Sender: "kestite@skerry.example", Rank: 1})
	rows, err := q.srv.API.Store.Deliveries(ctx, db.DeliveriesParams{Most: 10})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if r.Kind == definition.Mail {
			if _, err := q.keep.Again(ctx, trail.By{Person: q.ids["mikkel"]}, r.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	q.after(time.Hour)
	q.wants("by the second relay", "mail runa@skerry.example [critical] Gates down")
}

// Two servers make and deliver at once: each message arrives once. One that died while it
// sent something leaves that to the other, marked.
func TestTwoServersAndOneThatDied(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	other := storetest.Server(t, storetest.On(q.srv))
	q.with(other)
	var all []string
	for n := range 60 {
		all = append(all, fmt.Sprintf("gate%02d", n))
		q.service(all[n], "duty")
	}
	q.measured(time.Second, measure.Failed, all...)
	done := make(chan error, 8)
	for n := range 8 {
		k := []*notifying.Keeper{q.keep, other.API.Notices}[n%2]
		go func() {
			err := k.Round(ctx)
			if err == nil {
				err = k.Deliver(ctx)
			}
			done <- err
		}()
	}
	for range 8 {
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
	q.after(0)
	seen := map[string]int{}
	for _, m := range q.kept.All() {
		seen[m.ID]++
	}
	for id, n := range seen {
		if n > 1 {
			t.Errorf("%s arrived %d times", id, n)
		}
	}
	if len(seen) != 60 {
		t.Errorf("%d messages arrived, want 60", len(seen))
	}
	q.arrived()
	// A server claims what is due, sends it, and dies before it notes that.
	q.measured(0, measure.OK, "gate00")
	q.ahead = time.Minute
	if err := q.keep.Round(ctx); err != nil {
		t.Fatal(err)
	}
	now := q.keep.Now()
	until := now.Add(2 * time.Minute)
	claimed, err := q.srv.API.Store.ClaimDeliveries(ctx, db.ClaimDeliveriesParams{Until: &until, Now: now, Most: 16})
	if err != nil || len(claimed) != 1 {
		t.Fatalf("%d claimed, %v", len(claimed), err)
	}
	q.after(2 * time.Minute)
	q.wants("while it may be sent still")
	q.after(4 * time.Minute)
	rows, err := q.srv.API.Store.Deliveries(ctx, db.DeliveriesParams{Most: 1})
	if err != nil || len(rows) != 1 || !rows[0].MaybeTwice || rows[0].State != "sent" {
		t.Errorf("what a server died over: %+v, %v", rows, err)
	}
	if got := q.kept.All(); len(got) != 1 || got[0].ID != fmt.Sprintf("kestite-delivery-%d", claimed[0].ID) {
		t.Errorf("it is sent as %+v", got)
	}
}

// What cannot be told holds nothing else up: a plan that cannot be read, a service that
// was retired, a person who was erased, an address that takes nobody.
func TestOnePoisonousPlanAmongGoodOnes(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "bad", definition.NoticePlanSpec{Name: "Bad", Steps: []definition.NoticeStep{{Tell: q.to("runa")}}})
	q.make(catalogue.NoticePlan, "good", definition.NoticePlanSpec{Name: "Good", Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	q.service("first", "bad")
	q.service("second", "good")
	q.measured(time.Second, measure.Failed, "first", "second")
	storetest.Exec(t, q.srv, "UPDATE person_method SET address = E'runa\\nBcc: all@skerry.example', active = '{\"timezone\": 7}' WHERE person = $1", q.ids["runa"])
	q.after(0)
	q.wants("the good one", "webhook /work Second has been down")
	for _, line := range q.log() {
		if strings.Contains(line, "mail sent") || strings.Contains(line, "sms sent") {
			t.Errorf("the bad one: %s", line)
		}
	}
}

func TestThatOfPlannedWorkIsNotTold(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "all", definition.NoticePlanSpec{Name: "All", Everywhere: true, Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	q.service("gates", "")
	begins := storetest.Now().Add(-10 * time.Minute).UTC()
	q.make(catalogue.Window, "work", definition.WindowSpec{Name: "Work", Services: []string{"gates"}, Timezone: "UTC", Start: begins.Format("2006-01-02T15:04:05"),
		DurationS: 3600})
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("within planned work")
	q.after(2 * time.Hour)
	if got := q.arrived(); len(got) != 1 {
		t.Errorf("after it: %q", got)
	}
}

func TestIncidentsOfOtherThings(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "places", definition.NoticePlanSpec{Name: "Places", Everywhere: true, About: []string{incident.Location},
		Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	storetest.Exec(t, q.srv, "INSERT INTO agent (id, location, token_hash, created_by, created_at, seen_at) VALUES ('00000000-0000-4000-8000-000000000001', 'tolvik', 'x', 'test', clock() - interval '1 hour', clock() - interval '1 hour')")
	q.service("gates", "")
	q.measured(time.Second, measure.Failed, "gates")
	if err := q.srv.API.Incidents.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	q.after(0)
	if got := q.arrived(); len(got) != 1 || !strings.HasPrefix(got[0], "webhook /work Nothing has come from Tolvik") {
		t.Errorf("a silent location is told as %q", got)
	}
}

// A person holds the notices of a service: nobody is told until that is over, or ended;
// what was told before has its end told all the same.
func TestNoticesAreHeld(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("work")}, {AfterS: 600, Tell: q.to("work")}}})
	for _, id := range []string{"gates", "board", "kiosk"} {
		q.service(id, "duty")
	}
	operator := servertest.As(t, q.srv, q.url, access.Operator)
	viewer := servertest.As(t, q.srv, q.url, access.Viewer)
	hold := func(id string, d time.Duration, reason string) servertest.Answer {
		return operator.Do("POST", "/holds", map[string]any{"about": "service", "subject": id, "until": storetest.Now().Add(d), "reason": reason})
	}
	for says, a := range map[string]servertest.Answer{
		"has passed": hold("gates", -time.Minute, "x"), "7 days": hold("gates", 200*time.Hour, "x"), "names no service": hold("none", time.Hour, "x"),
		"is missing": hold("gates", time.Hour, " "), "role": viewer.Do("POST", "/holds", map[string]any{"about": "service", "subject": "gates", "until": storetest.Now().Add(time.Hour), "reason": "x"}),
	} {
		if a.Status != 422 && a.Status != 403 || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", says, a)
		}
	}
	if a := hold("gates", time.Hour, "The mast is being moved"); a.Status > 299 {
		t.Fatal(a)
	}
	if a := hold("board", 5*time.Hour, "Nobody needs it"); a.Status > 299 {
		t.Fatal(a)
	}
	q.measured(time.Second, measure.Failed, "gates", "board", "kiosk")
	q.after(0)
	q.wants("while two are held", "webhook /work Kiosk has been down")
	if a := hold("kiosk", 5*time.Hour, "Known"); a.Status > 299 {
		t.Fatal(a)
	}
	q.after(30 * time.Minute)
	q.wants("while all are held")
	q.after(70 * time.Minute)
	q.wants("an hour later", "webhook /work Gates has been down")
	var list struct{ Items []struct{ ID int64 } }
	viewer.Must("GET", "/holds", nil, &list)
	if len(list.Items) != 3 {
		t.Fatalf("%d holds are known", len(list.Items))
	}
	if a := operator.Do("DELETE", fmt.Sprintf("/holds/%d", list.Items[1].ID), nil); a.Status > 299 {
		t.Fatal(a)
	}
	if a := operator.Do("DELETE", fmt.Sprintf("/holds/%d", list.Items[1].ID), nil); a.Status != 409 {
		t.Errorf("ended twice: %s", a)
	}
	q.after(75 * time.Minute)
	q.wants("one was ended", "webhook /work Board has been down")
	q.measured(0, measure.OK, "kiosk")
	q.after(76 * time.Minute)
	if got := q.arrived(); len(got) != 1 || !strings.HasPrefix(got[0], "webhook /work Kiosk was down") {
		t.Errorf("the end of what was told before it was held: %q", got)
	}
}

// That messages are not taken stands on Standing, until they are sent again.
func TestWhatCannotBeSentIsSaid(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("runa"), By: []string{definition.Mail}}}})
	q.service("gates", "duty")
	if err := q.post.Set(standin.Wrong); err != nil {
		t.Fatal(err)
	}
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	viewer := servertest.As(t, q.srv, q.url, access.Viewer)
	said := func() string {
		var s struct {
			Needs []struct{ Kind, Subject, Text string }
		}
		viewer.Must("GET", "/standing", nil, &s)
		for _, n := range s.Needs {
			if n.Kind == "notices" {
				return n.Subject + " " + n.Text
			}
		}
		return ""
	}
	if got := said(); !strings.HasPrefix(got, "E-mail a message was not taken: Post: ") {
		t.Errorf("Standing says %q", got)
	}
	if err := q.post.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	rows, err := q.srv.API.Store.Deliveries(ctx, db.DeliveriesParams{Most: 10})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if r.State == "failed" {
			if _, err := q.keep.Again(ctx, trail.By{Person: q.ids["mikkel"]}, r.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	q.after(0)
	if got := said(); got != "" {
		t.Errorf("once it was sent again, Standing says %q", got)
	}
}

// Who goes, or takes a number away, gets nothing that waited for them.
func TestWhoIsGoneIsNotTold(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", Steps: []definition.NoticeStep{{Tell: q.to("runa", "mikkel")}}})
	q.service("gates", "duty")
	for _, d := range []standin.Device{q.post, q.desk} {
		if err := d.Set(standin.Refused); err != nil {
			t.Fatal(err)
		}
	}
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	storetest.Exec(t, q.srv, "UPDATE person SET disabled_at = clock() WHERE id = $1", q.ids["runa"])
	storetest.Exec(t, q.srv, "DELETE FROM person_method WHERE person = $1 AND kind = 'sms'", q.ids["mikkel"])
	for _, d := range []standin.Device{q.post, q.desk} {
		if err := d.Set(standin.OK); err != nil {
			t.Fatal(err)
		}
	}
	q.after(time.Minute)
	q.wants("only what is there still", "mail mikkel@skerry.example [critical] Gates down")
	if got, want := q.log(), []string{"begun inbox sent", "begun inbox sent", "begun mail sent", "begun mail suppressed the person has no account any more",
		"begun sms suppressed the contact method was removed", "begun sms suppressed the person has no account any more"}; !slices.Equal(got, want) {
		t.Errorf("the log says %q, want %q", got, want)
	}
}

// People are told when work is planned, changed and cancelled: once each, whoever makes
// the rounds; who was told and is taken off is told of that change; what cannot be told
// of one window holds up no other.
func TestPlannedWorkIsTold(t *testing.T) {
	q := newQuay(t)
	q.service("gates", "")
	spec := definition.WindowSpec{Name: "New motors", Services: []string{"gates"}, Timezone: "UTC", Start: storetest.Now().Add(72 * time.Hour).UTC().Format("2006-01-02T15:04:05"),
		DurationS: 3600, Reference: "CHG-7", Tell: q.to("work", "runa")}
	by := defining.Change{By: trail.By{Name: "test"}}
	apply := func(step catalogue.Step) {
		t.Helper()
		if _, err := q.srv.API.Definitions.Apply(ctx, by, step); err != nil {
			t.Fatal(err)
		}
	}
	subjects := func() (out []string) {
		t.Helper()
		for _, m := range q.kept.All() {
			out = append(out, m.Text)
		}
		return out
	}
	apply(catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, ID: "motors", Spec: spec})
	if got := q.log(); len(got) != 4 { // what is planned is queued by then
		t.Errorf("as it is planned: %q", got)
	}
	q.after(2 * time.Second)
	q.after(2 * time.Second)
	if got := q.log(); !slices.Equal(got, []string{"work inbox sent", "work mail sent", "work sms sent", "work webhook sent"}) {
		t.Errorf("planned: %q", got)
	}
	if all := strings.Join(subjects(), "\n"); !strings.Contains(all, "New motors: planned work on Gates.") || !strings.Contains(all, "CHG-7") {
		t.Errorf("it says %s", all)
	}
	other := spec
	other.Tell, other.DurationS = q.to("work"), 7200
	apply(catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Window, ID: "motors", Expected: 1, Spec: other})
	q.after(4 * time.Second)
	if got := q.log(); len(got) != 8 {
		t.Errorf("changed: %q", got)
	}
	apply(catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Window, ID: "motors"})
	q.after(6 * time.Second)
	second := storetest.Server(t, storetest.On(q.srv))
	q.with(second)
	if err := second.API.Notices.Round(ctx); err != nil {
		t.Error(err)
	}
	q.after(6 * time.Second)
	if got := q.log(); len(got) != 9 {
		t.Errorf("cancelled: %q", got)
	}
	// One that cannot be told, and one that can.
	for _, id := range []string{"broken", "good"} {
		w := spec
		w.Name, w.Tell = strings.ToUpper(id), q.to("work")
		apply(catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, ID: id, Spec: w})
	}
	// As if they had been planned before messages were queued with the change.
	if _, err := q.srv.API.Store.Exec(ctx, `DELETE FROM notice WHERE key LIKE 'window/broken/%' OR key LIKE 'window/good/%'`); err != nil {
		t.Fatal(err)
	}
	if _, err := q.srv.API.Store.Exec(ctx, `UPDATE revision SET body = body || '{"rrule": "FREQ=SECONDLY"}' WHERE kind = 'window' AND id = 'broken'`); err != nil {
		t.Fatal(err)
	}
	q.after(8 * time.Second)
	if got := q.log(); len(got) != 10 {
		t.Errorf("one that cannot be told among others: %q", got)
	}
	if !strings.Contains(strings.Join(subjects(), "\n"), "GOOD: planned work on Gates.") {
		t.Error("the one that can be told was not")
	}
	manager := servertest.As(t, q.srv, q.url, access.Manager)
	for what, w := range map[string]definition.WindowSpec{
		"nobody": {Tell: []definition.Recipient{{}}}, "twice": {Tell: append(q.to("work"), q.to("work")...)}, "a stranger": {Tell: []definition.Recipient{{Person: "nobody"}}},
	} {
		w.Name, w.Services, w.Timezone, w.Start, w.DurationS = spec.Name, spec.Services, spec.Timezone, spec.Start, spec.DurationS
		if a := manager.Do(http.MethodPost, "/windows", map[string]any{"spec": w}); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "tell[") {
			t.Errorf("%s: %s", what, a)
		}
	}
}

// What a contact method would be sent is shown by a real incident before it is saved; a
// wrong one is refused as it would be on saving, and nothing is sent.
func TestAContactMethodIsPreviewed(t *testing.T) {
	q := newQuay(t)
	q.service("gates", "")
	manager := servertest.As(t, q.srv, q.url, access.Manager)
	ask := func(c definition.ContactSpec) servertest.Answer {
		return manager.Do(http.MethodPost, "/contact-methods/preview", map[string]any{"spec": c})
	}
	hook := definition.ContactSpec{Name: "Desk", Kind: definition.Webhook, Address: "http://desk.skerry.example/in", Body: `{"what": "{headline}", "of": "{service}"}`}
	if a := ask(hook); a.Status != http.StatusNotFound {
		t.Errorf("without an incident: %s", a)
	}
	q.measured(time.Second, measure.Failed, "gates")
	for kind, want := range map[string]string{definition.Webhook: `\"of\": \"Gates\"`, definition.Chat: `{\"text\":\"[critical] Gates down since`, definition.SMS: "Gates", definition.Syslog: "[critical] Gates down since", definition.Mail: "Gates"} {
		c := definition.ContactSpec{Name: "Desk", Kind: kind, Address: map[string]string{definition.SMS: "+46701234567", definition.Mail: "desk@skerry.example", definition.Syslog: "udp://collector.skerry.example:514"}[kind]}
		if kind == definition.Webhook {
			c = hook
		} else if kind == definition.Chat {
			c.Address = hook.Address
		}
		if a := ask(c); a.Status != http.StatusOK || !strings.Contains(string(a.Body), want) {
			t.Errorf("%s: %s", kind, a)
		}
	}
	hook.Body = `{"what": "{headlin}"}`
	if a := ask(hook); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "spec.body") {
		t.Errorf("a wrong placeholder: %s", a)
	}
	if a := servertest.As(t, q.srv, q.url, access.Operator).Do(http.MethodPost, "/contact-methods/preview", map[string]any{"spec": hook}); a.Status != http.StatusForbidden {
		t.Errorf("an operator: %s", a)
	}
	if got := q.kept.All(); len(got) != 0 {
		t.Errorf("%d messages were sent", len(got))
	}
}
