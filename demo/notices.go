package demo

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/api"
	"kestite/server/incidents"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
	"kestite/standin"
)

// receiversAt is where the stand-ins that take messages are.
const receiversAt = "127.77.0.60"

const (
	postAt      = receiversAt + ":8425"
	deskAt      = receiversAt + ":8460"
	collectorAt = receiversAt + ":8461"
)

// receivers are the stand-ins that take messages.
func receivers(kept *standin.Messages) []standin.Device {
	return []standin.Device{
		&standin.Post{ID: "post", Name: "Post of Skerry Line", Addr: postAt, Kept: kept},
		&standin.Desk{ID: "desk", Name: "SMS gateway, chat and work desk", Addr: deskAt, Kept: kept},
		&standin.Collector{ID: "collector", Name: "Log collector", Addr: collectorAt, Kept: kept},
	}
}

// planOf are the notice plans of teams that have one of their own.
var planOf = map[string]string{"crewing": "office"}

// reachable are the people who are told by more than the inbox: by their place among People.
var reachable = map[int][]notifying.New{
	0: {{Kind: definition.Mail, Address: "astrid@skerry.example"}},
	1: {{Kind: definition.Mail, Address: "mikkel@skerry.example"}, {Kind: definition.SMS, Address: "+4670123401"}},
	3: {{Kind: definition.Mail, Address: "runa@skerry.example"}, {Kind: definition.SMS, Address: "+4670123403"}},
	4: {{Kind: definition.Mail, Address: "sindre@skerry.example"}, {Kind: definition.SMS, Address: "+4670123404"}},
}

// tellable makes contact methods, pools and notice plans.
func tellable(ctx context.Context, s *api.Server, create func(kind, id string, spec catalogue.Spec) error) error {
	var ids []string
	for n := range People {
		p, err := by(ctx, s, n)
		if err != nil {
			return err
		}
		ids = append(ids, p.Person)
		for _, m := range reachable[n] {
			row, err := s.Store.AddPersonMethod(ctx, db.AddPersonMethodParams{Person: p.Person, Kind: m.Kind, Address: m.Address, MadeAt: s.Now()})
			if err != nil {
				return fmt.Errorf("make the contact methods of %s: %w", p.Name, err)
			}
			now := s.Now()
			if err := s.Store.VerifyMethod(ctx, db.VerifyMethodParams{ID: row.ID, VerifiedAt: &now}); err != nil {
				return err
			}
		}
	}
	astrid, mikkel, runa, sindre := ids[0], ids[1], ids[3], ids[4]
	at := "http://" + deskAt
	tell := func(r ...definition.Recipient) []definition.Recipient { return r }
	for _, d := range []struct {
		kind, id string
		spec     catalogue.Spec
	}{
		{catalogue.Relay, "post", definition.RelaySpec{Name: "Post", Kind: definition.Mail, Address: "smtp://" + postAt, Plain: true,
			Sender: "kestite@skerry.example", Note: "A stand-in: it shows what arrives under Stand-ins"}},
		{catalogue.Relay, "sms-gateway", definition.RelaySpec{Name: "SMS gateway", Kind: definition.SMS, Address: at + "/sms", Sender: "Skerry"}},
		{catalogue.Contact, "quay-office", definition.ContactSpec{Name: "Quay office of the port", Kind: definition.Mail, Address: "quays@port.example"}},
		{catalogue.Contact, "harbour-room", definition.ContactSpec{Name: "Harbour chat room", Kind: definition.Chat, Address: at + "/chat/harbour"}},
		{catalogue.Contact, "work-desk", definition.ContactSpec{Name: "Work desk", Kind: definition.Webhook, Address: at + "/work",
			Body: `{"headline": "{headline}", "what": "{what}", "severity": "{severity}", "service": "{service}", "link": "{link}"}`}},
		{catalogue.Contact, "collector", definition.ContactSpec{Name: "Log collector", Kind: definition.Syslog, Address: "udp://" + collectorAt}},
		{catalogue.Pool, "duty", definition.PoolSpec{Name: "Harbour duty", Members: []string{runa, sindre},
			Rotation: &definition.Rotation{Timezone: Zone, Every: "week", Weekday: "MO", At: "08:00", From: "2025-09-01"},
			Note:     "One of the two has the duty telephone, Monday to Monday"}},
		{catalogue.Pool, "operations", definition.PoolSpec{Name: "Operations", Members: []string{mikkel, astrid}}},
		{catalogue.NoticePlan, "on-duty", definition.NoticePlanSpec{Name: "On duty, around the clock", RemindS: 4 * 3600, MostPerHour: 20, Steps: []definition.NoticeStep{
			{Tell: tell(definition.Recipient{Pool: "duty"}, definition.Recipient{Contact: "harbour-room"})},
			{AfterS: 600, Tell: tell(definition.Recipient{Pool: "duty"}), By: []string{definition.SMS}, RepeatS: 900, Most: 3},
			{AfterS: 1800, Tell: tell(definition.Recipient{Pool: "operations"})},
		}, Severities: []string{definition.Critical, definition.Major}}},
		{catalogue.NoticePlan, "office", definition.NoticePlanSpec{Name: "In office hours", Hours: officeHours(), Steps: []definition.NoticeStep{
			{AfterS: 300, Tell: tell(definition.Recipient{Pool: "operations"}), By: []string{definition.Mail}}}}},
		{catalogue.Selection, "all-certificates", definition.SelectionSpec{Name: "All certificates", Of: definition.OfChecks, CheckKinds: []string{measure.Certificate.Name}}},
		{catalogue.Selection, "harbour-network", definition.SelectionSpec{Name: "Harbour network", Of: definition.OfServices, Tags: []string{"network"},
			Note: "What harbour IT works on at night"}},
		{catalogue.NoticePlan, "minor", definition.NoticePlanSpec{Name: "Minor matters", Everywhere: true, Severities: []string{definition.Minor},
			Digest: &definition.Digest{Timezone: Zone, At: []string{"07:30", "15:30"}, Days: []string{"MO", "TU", "WE", "TH", "FR"}},
			Steps:  []definition.NoticeStep{{AfterS: 300, Tell: tell(definition.Recipient{Pool: "operations"}), By: []string{definition.Mail}}}}},
		{catalogue.NoticePlan, "certificates", definition.NoticePlanSpec{Name: "Certificates", Everywhere: true, About: []string{incident.Check},
			Selections: []string{"all-certificates"}, Steps: []definition.NoticeStep{{Tell: tell(definition.Recipient{Contact: "work-desk"})}}}},
		{catalogue.NoticePlan, "record", definition.NoticePlanSpec{Name: "For the record", Everywhere: true, Steps: []definition.NoticeStep{
			{Tell: tell(definition.Recipient{Contact: "collector"})}}, Note: "Everything, to the log collector"}},
		{catalogue.NoticePlan, "locations", definition.NoticePlanSpec{Name: "Silent locations", Everywhere: true, About: []string{incident.Location},
			Steps: []definition.NoticeStep{{AfterS: 120, Tell: tell(definition.Recipient{Pool: "duty"})}}}},
	} {
		if err := create(d.kind, d.id, d.spec); err != nil {
			return fmt.Errorf("define the %s %s: %w", d.kind, d.id, err)
		}
	}
	return nil
}

func officeHours() *definition.WeeklyPlan {
	return &definition.WeeklyPlan{Timezone: Zone, Weekly: []definition.WeeklyRow{{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "16:00"}},
		Holidays: []string{}}
}

// digests sends those of the past, each at its time.
func digests(ctx context.Context, k *notifying.Keeper, snap *catalogue.Snapshot, now span.Instant) error {
	rows, err := k.Store.Deliveries(ctx, db.DeliveriesParams{Most: 10_000})
	if err != nil {
		return err
	}
	var due []span.Instant
	for _, r := range rows {
		if at := span.Of(r.NextAt); r.State == "held" && r.Digest && at <= now && !slices.Contains(due, at) {
			due = append(due, at)
		}
	}
	slices.Sort(due)
	for _, at := range due {
		k.Now = func() time.Time { return at.Time().Add(time.Second) }
		if err := k.SumUp(ctx, snap); err != nil {
			return err
		}
		if err := k.Deliver(ctx); err != nil {
			return err
		}
	}
	return nil
}

// toldFor is how far back the demo knows who was told of incidents.
const toldFor = 30 * span.Day

// told makes the notices of past incidents as if they had been made then, and has them
// arrive.
func told(ctx context.Context, srv *server.Server, now span.Instant) error {
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	from := now.Add(-toldFor).Time()
	rows, err := srv.API.Store.IncidentList(ctx, db.IncidentListParams{FromAt: &from, Most: 1000})
	if err != nil {
		return err
	}
	slices.Reverse(rows)
	keeper := notifying.Keeper{Store: srv.API.Store, Definitions: srv.API.Definitions, Incidents: srv.API.Incidents, Vault: srv.API.Vault, Log: srv.API.Log,
		URL: func() string { return "http://127.0.0.1:8480" },
		Carry: func(_ context.Context, _ *catalogue.Snapshot, to notifying.Target, _ notifying.Message) (string, error) {
			switch to.Kind {
			case definition.Mail:
				return "Post: 250 2.0.0 OK: queued", nil
			case definition.SMS:
				return "SMS gateway: 202 Accepted", nil
			case definition.Syslog:
				return "written to udp " + collectorAt + "; such collectors do not answer", nil
			case definition.Inbox:
				return "lies in the inbox", nil
			}
			return "202 Accepted", nil
		}}
	for _, r := range rows {
		i := incidents.Of(r)
		if i.ResolvedAt == nil {
			continue
		}
		moments := []span.Instant{*i.ResolvedAt, i.ResolvedAt.Add(10 * span.Minute)}
		for _, after := range []int64{0, 20, 120, 300, 600, 1500, 1800, 2400, 3300, 4 * 3600} { // when the plans above tell somebody
			if at := i.KnownAt.Add(after * span.Second); at < *i.ResolvedAt {
				moments = append(moments, at)
			}
		}
		slices.Sort(moments)
		for _, at := range moments {
			moment := at.Time()
			keeper.Now = func() time.Time { return moment }
			if err := keeper.Tell(ctx, snap, []db.Incident{r}); err != nil {
				return err
			}
			moment = moment.Add(2 * time.Second)
			if err := keeper.Deliver(ctx); err != nil {
				return err
			}
		}
	}
	if err := digests(ctx, &keeper, snap, now); err != nil {
		return err
	}
	read := now.Time()
	for n := range People {
		p, err := by(ctx, srv.API, n)
		if err != nil {
			return err
		}
		if err := srv.API.Store.ReadInbox(ctx, db.ReadInboxParams{Person: &p.Person, Now: &read, UpTo: math.MaxInt64}); err != nil {
			return err
		}
	}
	return nil
}
