package notifying_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/notifying"
	"kestite/server/store/storetest"
	"kestite/server/trail"
	"kestite/standin"
)

// BenchmarkNotices lets a thousand services fail at once, in a whole server that runs,
// each with a message of its own to a webhook; and beside it posts as many messages of the
// same size to the same receiver, sixteen at a time, which is the limit.
func BenchmarkNotices(b *testing.B) {
	const services = 1000
	for b.Loop() {
		host := <-at
		srv := storetest.Started(b)
		policy, err := policyOf(host)
		if err != nil {
			b.Fatal(err)
		}
		srv.API.Notices.Sender = &notifying.Sender{Policy: policy}
		kept := new(standin.Messages)
		desk := &standin.Desk{ID: "desk", Name: "Desk", Addr: host + ":8460", Kept: kept}
		if err := desk.Set(standin.OK); err != nil {
			b.Fatal(err)
		}
		make := func(kind, id string, spec catalogue.Spec) {
			if _, err := srv.API.Definitions.Create(ctx, kind, id, "", spec, defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-time.Hour)}); err != nil {
				b.Fatal(err)
			}
		}
		make(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"})
		make(catalogue.Contact, "work", definition.ContactSpec{Name: "Work desk", Kind: definition.Webhook, Address: "http://" + desk.Addr + "/work"})
		make(catalogue.NoticePlan, "all", definition.NoticePlanSpec{Name: "All", Everywhere: true, About: []string{"service"},
			Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Contact: "work"}}}}})
		var good, bad []wire.Measurement
		for n := range services {
			id := fmt.Sprintf("gate-%04d", n)
			make(catalogue.Service, id, definition.ServiceSpec{Name: id, Kind: "business", Combine: "worst"})
			make(catalogue.Check, id, definition.CheckSpec{Service: id, Name: "Page", Kind: "http", Target: "http://" + id + ".skerry.example/", IntervalS: 60,
				TimeoutMS: 1000, StaleAfterS: 7200, Confirm: 1, Recover: 1, Quorum: "any", Role: definition.Decides, Locations: []string{"tolvik"}})
			good = append(good, wire.Measurement{Check: id, At: span.Of(storetest.Now().Add(-time.Minute)), Outcome: measure.OK})
		}
		if _, err := srv.API.Ingest.Batch(ctx, "tolvik", "", good); err != nil {
			b.Fatal(err)
		}
		time.Sleep(3 * time.Second) // until all of them are up
		for _, m := range good {
			m.At, m.Outcome = span.Of(storetest.Now()), measure.Failed
			bad = append(bad, m)
		}
		began := storetest.Now()
		if _, err := srv.API.Ingest.Batch(ctx, "tolvik", "", bad); err != nil {
			b.Fatal(err)
		}
		for len(kept.All()) < services {
			if storetest.Now().Sub(began) > 2*time.Minute {
				b.Fatalf("%d of %d messages arrived in two minutes", len(kept.All()), services)
			}
			time.Sleep(20 * time.Millisecond)
		}
		all := storetest.Now().Sub(began)
		rows, err := srv.API.Store.OpenIncidentsAbout(ctx, "service")
		if err != nil || len(rows) != services {
			b.Fatalf("%d incidents are open, %v", len(rows), err)
		}
		known := map[int64]time.Time{}
		for _, r := range rows {
			known[r.ID] = r.KnownAt
		}
		sent, err := srv.API.Store.Query(ctx, "SELECT incident, done_at FROM delivery WHERE kind = 'webhook' AND state = 'sent'")
		if err != nil {
			b.Fatal(err)
		}
		var after []time.Duration
		for sent.Next() {
			var id int64
			var done time.Time
			if err := sent.Scan(&id, &done); err != nil {
				b.Fatal(err)
			}
			after = append(after, done.Sub(known[id]))
		}
		sent.Close()
		slices.Sort(after)
		idle := storetest.Now()
		if err := srv.API.Notices.Tell(ctx, mustSnapshot(b, srv), rows); err != nil { // a round in which nothing is due
			b.Fatal(err)
		}
		b.ReportMetric(storetest.Now().Sub(idle).Seconds(), "s/idle-round")
		size := len(kept.All()[0].Text)
		limit := posts(b, "http://"+desk.Addr+"/limit", services, size)
		b.ReportMetric(all.Seconds(), "s/all")
		b.ReportMetric(after[len(after)/2].Seconds(), "s/known-to-sent-50")
		b.ReportMetric(after[len(after)*95/100].Seconds(), "s/known-to-sent-95")
		b.ReportMetric(limit.Seconds(), "s/bare-posts")
		b.ReportMetric(all.Seconds()/limit.Seconds(), "of-the-limit")
		if err := desk.Close(); err != nil {
			b.Fatal(err)
		}
	}
}

func mustSnapshot(b *testing.B, srv *server.Server) *catalogue.Snapshot {
	b.Helper()
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		b.Fatal(err)
	}
	return snap
}

// posts sends so many bodies of a size, sixteen at a time, and returns how long that took.
func posts(b *testing.B, url string, n, size int) time.Duration {
	b.Helper()
	body := append(append([]byte(`{"headline": "`), bytes.Repeat([]byte("x"), max(1, size-18))...), []byte(`"}`)...)
	began := storetest.Now()
	var sending sync.WaitGroup
	for w := range 16 {
		sending.Go(func() {
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			for range n/16 + min(1, max(0, n%16-w)) {
				resp, err := client.Post(url, "application/json", bytes.NewReader(body))
				if err != nil {
					b.Error(err)
					return
				}
				io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
			}
		})
	}
	sending.Wait()
	return storetest.Now().Sub(began)
}
