package agent_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/instrument"
	"kestite/server/store/storetest"
)

// cpu is the processor time that this process has used.
func cpu() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// resident is the process' memory in MiB.
func resident() float64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var size, pages float64
	fmt.Sscan(string(text), &size, &pages)
	return pages * float64(os.Getpagesize()) / (1 << 20)
}

// scale runs an agent with checks for a while; the server that it talks to runs
// in this process too, so that memory and processor time are upper bounds.
func scale(b *testing.B, checks []wire.Check, during time.Duration) {
	for b.Loop() {
		var mu sync.Mutex
		var late []float64
		bad := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == wire.PathBatches {
				var batch wire.Batch
				read(r, &batch)
				mu.Lock()
				for _, m := range batch.Measurements {
					late = append(late, float64(m.LateMS))
					if m.Outcome != measure.OK {
						bad++
					}
				}
				mu.Unlock()
				json.NewEncoder(w).Encode(wire.Receipt{Stored: len(batch.Measurements)})
				return
			}
			var rep wire.Saying
			read(r, &rep)
			if rep.Known != "" {
				select {
				case <-r.Context().Done():
				case <-time.After(time.Duration(rep.WaitS) * time.Second):
				}
			}
			json.NewEncoder(w).Encode(wire.Assignments{Location: "tolvik", Mark: "1", Clock: span.Of(storetest.Now()), Checks: checks})
		}))
		kept, err := store.Open(b.TempDir(), store.Max)
		if err != nil {
			b.Fatal(err)
		}
		a := &agent.Agent{Client: agent.NewClient(server.URL, "kesa_bench"), Store: kept, Log: slog.New(slog.DiscardHandler),
			Policy: instrument.LocalPolicy()}
		running, end := context.WithTimeout(ctx, during)
		peak := atomic.Uint64{}
		go func() {
			for running.Err() == nil {
				peak.Store(max(peak.Load(), uint64(resident())))
				time.Sleep(100 * time.Millisecond)
			}
		}()
		runtime.GC()
		before := cpu()
		if err := a.Run(running); err != nil {
			b.Fatal(err)
		}
		used := cpu() - before
		end()
		server.Close()
		kept.Close()
		mu.Lock()
		report(b, late)
		b.ReportMetric(float64(bad), "not-ok")
		b.ReportMetric(float64(len(late))/during.Seconds(), "per-s")
		b.ReportMetric(float64(used.Microseconds())/float64(len(late)), "cpu-us/measurement")
		b.ReportMetric(float64(peak.Load()), "MiB")
		mu.Unlock()
	}
}

func target(i int) string { return fmt.Sprintf("127.%d.%d.%d", 20+i/60_000, 1+i/250%240, 1+i%250) }

// BenchmarkScalePing has 10,000 ping targets at 5,000 a second; beside it a bare
// loop that sends and receives as many packets in the same time.
func BenchmarkScalePing(b *testing.B) {
	const targets, intervalS, seconds = 10_000, 2, 20
	b.Run("agent", func(b *testing.B) {
		var checks []wire.Check
		for i := range targets {
			checks = append(checks, wire.Check{ID: fmt.Sprintf("check-%05d", i), Kind: "ping", Target: target(i), IntervalS: intervalS, TimeoutMS: 1000,
				Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 1, SizeBytes: 56, SpacingMS: 10}}})
		}
		scale(b, checks, seconds*time.Second)
	})
	b.Run("bare", func(b *testing.B) {
		conn, err := net.ListenPacket("ip4:icmp", "127.0.0.1")
		if err != nil {
			b.Skip("raw sockets need root")
		}
		defer conn.Close()
		conn.(*net.IPConn).SetReadBuffer(4 << 20)
		var f ipv4.ICMPFilter
		f.SetAll(true)
		f.Accept(ipv4.ICMPTypeEchoReply)
		ipv4.NewPacketConn(conn).SetICMPFilter(&f)
		for b.Loop() {
			const packets = targets / intervalS * seconds
			got := 0
			done := make(chan struct{})
			conn.SetReadDeadline(storetest.Now().Add((seconds + 1) * time.Second))
			go func() {
				defer close(done)
				buf := make([]byte, 1500)
				for got < packets {
					if _, _, err := conn.ReadFrom(buf); err != nil {
						return
					}
					got++
				}
			}()
			before, began := cpu(), storetest.Now()
			m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: 7, Data: make([]byte, 56)}}
			for i := range packets {
				if at := began.Add(time.Duration(i) * time.Second * intervalS / targets); at.Sub(storetest.Now()) > time.Millisecond {
					time.Sleep(at.Sub(storetest.Now()))
				}
				packet, err := m.Marshal(nil)
				if err != nil {
					b.Fatal(err)
				}
				conn.WriteTo(packet, &net.IPAddr{IP: net.ParseIP(target(i % targets))})
			}
			<-done
			b.ReportMetric(float64(packets-got), "lost")
			b.ReportMetric(float64((cpu()-before).Microseconds())/packets, "cpu-us/measurement")
		}
	})
}

// BenchmarkScaleHTTP has 2,000 HTTP checks a minute, and the same by a bare client.
func BenchmarkScaleHTTP(b *testing.B) {
	const checks, seconds = 2000, 60
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "ok") }))
	defer web.Close()
	b.Run("agent", func(b *testing.B) {
		var list []wire.Check
		for i := range checks {
			list = append(list, wire.Check{ID: fmt.Sprintf("check-%05d", i), Kind: "http", Target: web.URL, IntervalS: seconds, TimeoutMS: 5000})
		}
		scale(b, list, seconds*time.Second)
	})
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			before := cpu()
			for range checks {
				client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
				resp, err := client.Get(web.URL)
				if err != nil {
					b.Fatal(err)
				}
				resp.Body.Close()
			}
			b.ReportMetric(float64((cpu()-before).Microseconds())/checks, "cpu-us/measurement")
		}
	})
}
