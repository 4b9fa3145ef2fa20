package instrument_test

import (
	"context"
	"math"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// crooked is a responder's socket that drops and swaps what goes back.
type crooked struct {
	net.PacketConn
	n    int
	held []byte
}

func (c *crooked) WriteTo(b []byte, to net.Addr) (int, error) {
	c.n++
	switch {
	case c.n%10 == 0: // every tenth is lost
		return len(b), nil
	case c.n%10 == 4: // and one of ten goes after the one behind it
		c.held = slices.Clone(b)
		return len(b), nil
	}
	n, err := c.PacketConn.WriteTo(b, to)
	if c.held != nil {
		c.PacketConn.WriteTo(c.held, to)
		c.held = nil
	}
	return n, err
}

// sluggish is a responder's socket on which every second answer goes out late.
type sluggish struct {
	net.PacketConn
	n int
}

func (s *sluggish) WriteTo(b []byte, to net.Addr) (int, error) {
	if s.n++; s.n%2 == 0 {
		held := slices.Clone(b)
		time.AfterFunc(250*time.Millisecond, func() { s.PacketConn.WriteTo(held, to) })
		return len(b), nil
	}
	return s.PacketConn.WriteTo(b, to)
}

func responder(t *testing.T, wrap func(net.PacketConn) net.PacketConn) string {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go instrument.Respond(wrap(conn))
	return conn.LocalAddr().String()
}

func play(target string, set definition.UDPSettings) instrument.Result {
	return playFor(target, set, 3*time.Second) // all that comes back is waited for, however busy the machine is
}

func playFor(target string, set definition.UDPSettings, timeout time.Duration) instrument.Result {
	return instrument.NewSet(instrument.LocalPolicy()).Measure(context.Background(),
		instrument.Task{Kind: "udp", Target: target, Timeout: timeout, Settings: definition.Settings{UDP: &set}})
}

func TestUDPEcho(t *testing.T) {
	straight := responder(t, func(c net.PacketConn) net.PacketConn { return c })
	for _, codec := range []string{"g711", "g729"} {
		r := play(straight, definition.UDPSettings{Codec: codec, Packets: 30, Synchronised: true})
		m := r.Measures("udp")
		if r.Outcome != measure.OK || m["loss_percent"] != 0 || m["reordered"] != 0 || m["rtt_min_ms"] <= 0 || m["rtt_max_ms"] < m["rtt_mean_ms"] {
			t.Errorf("%s: %v %q %v", codec, r.Outcome, r.Detail, m)
		}
		if _, there := m["one_way_ms"]; !there || math.Abs(m["one_way_ms"]+m["one_way_back_ms"]-m["rtt_mean_ms"]) > 0.5 {
			t.Errorf("%s: one way and back do not make the round trip: %v", codec, m)
		}
		if best := measure.CodecNamed(codec).Rating(m["rtt_mean_ms"], math.Max(m["jitter_ms"], m["jitter_back_ms"]), 0); math.Abs(m["rating"]-best) > 0.01 || math.Abs(m["mos"]-measure.MOS(best)) > 0.01 {
			t.Errorf("%s: R %v and MOS %v, the formula gives %v and %v", codec, m["rating"], m["mos"], best, measure.MOS(best))
		}
	}
	if _, told := play(straight, definition.UDPSettings{Packets: 5}).Measures("udp")["one_way_ms"]; told {
		t.Error("a delay one way was told although nobody said that the clocks are synchronised")
	}
	bad := play(responder(t, func(c net.PacketConn) net.PacketConn { return &crooked{PacketConn: c} }), definition.UDPSettings{Packets: 30}).Measures("udp")
	if bad["loss_percent"] != 10 || bad["reordered"] != 3 || bad["mos"] > 3.5 {
		t.Errorf("three of thirty lost and three late: %v", bad)
	}
	quiet, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer quiet.Close()
	r := playFor(quiet.LocalAddr().String(), definition.UDPSettings{Packets: 5}, 500*time.Millisecond)
	if m := r.Measures("udp"); r.Outcome != measure.Failed || m["loss_percent"] != 100 || m["mos"] != 1 || !strings.Contains(r.Detail, "none of 5 packets came back") {
		t.Errorf("nobody answers: %v %q %v", r.Outcome, r.Detail, m)
	}
	began := time.Now()
	if r := playFor("127.0.0.1:1", definition.UDPSettings{Packets: 3000}, 20*time.Second); r.Outcome != measure.Failed || !strings.Contains(r.Detail, "nobody listens at 127.0.0.1:1: connection refused") || time.Since(began) > 15*time.Second {
		t.Errorf("a closed port: %v %q", r.Outcome, r.Detail)
	}
	// What comes later than the timeout after it was sent is lost, as of a ping.
	late := responder(t, func(c net.PacketConn) net.PacketConn { return &sluggish{PacketConn: c} })
	if m := playFor(late, definition.UDPSettings{Packets: 20}, 150*time.Millisecond).Measures("udp"); m["loss_percent"] != 50 || m["rtt_max_ms"] > 150 {
		t.Errorf("every second one answered 250 ms late: %v", m)
	}
}

// A plain echo (RFC 862) notes no times; loss, round trips and jitter are told all the same.
func TestUDPEchoOfOthers(t *testing.T) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	go func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			conn.WriteTo(buf[:n], from)
		}
	}()
	m := play(conn.LocalAddr().String(), definition.UDPSettings{Packets: 20}).Measures("udp")
	if _, told := m["jitter_back_ms"]; told || m["loss_percent"] != 0 || m["rtt_mean_ms"] <= 0 || m["mos"] < 4 {
		t.Errorf("%v", m)
	}
}
