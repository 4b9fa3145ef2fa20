package instrument

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"kestite/core/definition"
	"kestite/core/measure"
)

// An echo packet: its magic number, the stream it belongs to, its number, and three times
// in nanoseconds since 1970: sent, received by the responder, sent back. The rest
// is filling. It fits into a packet of G.729.
const (
	echoMark  = 0x4b45
	echoHead  = 32
	atStream  = 2
	atNumber  = 6
	atSent    = 8
	atHeard   = 16
	atReplied = 24
)

// EchoPort is where responders listen unless told otherwise.
const EchoPort = 8481

// echoed is one packet that came back; times in ms, each by the clock of who noted it.
type echoed struct {
	number                        int
	sent, heard, replied, arrived float64
	stamped                       bool // the responder noted its times; a plain RFC 862 echo does not
}

// udp plays a voice stream to a responder (RFC 862: what comes is sent back;
// ours notes the times in it) and sums up what comes back: loss, round trips,
// jitter by RFC 3550 in both directions, and R and MOS by ITU-T G.107. Delays in
// one direction are told only where both clocks are said to be synchronised.
func (s *Set) udp(ctx context.Context, t Task) Result {
	set := t.UDP.Filled()
	codec := measure.CodecNamed(set.Codec)
	host, port, err := definition.HostPort(t.Target)
	if err != nil {
		return Result{Outcome: measure.Error, Detail: err.Error()}
	}
	lookup, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	addr, err := s.resolve(lookup, host)
	if err != nil {
		return failure(measure.UDP, err)
	}
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(netip.AddrPortFrom(addr, uint16(port))))
	if err != nil {
		return failure(measure.UDP, err)
	}
	defer conn.Close()
	if err := markUDP(conn, addr.Is4(), set.DSCP); err != nil {
		return failure(measure.UDP, &errOwn{err})
	}
	back, refused, err := play(ctx, conn, codec, set.Packets, t.Timeout)
	if err != nil {
		return failure(measure.UDP, err)
	}
	values := streamValues(back, set, codec)
	r := judged(measure.UDP, values, t.Limits)
	r.Findings = &measure.Findings{Remote: addr.String()}
	switch {
	case len(back) > 0:
	case refused != nil:
		r.Outcome, r.Detail = measure.Failed, "nobody listens at "+net.JoinHostPort(addr.String(), fmt.Sprint(port))+": "+reason(refused)
	default:
		r.Outcome = measure.Failed
		r.Detail = fmt.Sprintf("none of %d packets came back from %s; does a responder listen there (kestite agent --echo, or kestite echo)?", set.Packets, net.JoinHostPort(addr.String(), fmt.Sprint(port)))
	}
	return r
}

func markUDP(conn *net.UDPConn, v4 bool, dscp int) error {
	const shift = 2 // RFC 2474
	switch {
	case dscp == 0:
		return nil
	case v4:
		return ipv4.NewConn(conn).SetTOS(dscp << shift)
	}
	return ipv6.NewConn(conn).SetTrafficClass(dscp << shift)
}

// play sends the stream and gathers what comes back, each packet within a timeout
// after it was sent. refused is what ended it before any came back.
func play(ctx context.Context, conn *net.UDPConn, codec measure.Codec, packets int, timeout time.Duration) (back []echoed, refused, err error) {
	stream := rand.Uint32()
	began := time.Now()
	now := func() float64 { return milliseconds(time.Since(began)) }
	length := time.Duration(packets) * time.Duration(codec.SpacingMS) * time.Millisecond
	if err := conn.SetReadDeadline(began.Add(length + timeout)); err != nil {
		return nil, nil, &errOwn{err}
	}
	sentAt := make([]atomic.Int64, packets)
	var heard atomic.Int64
	done := make(chan gathered, 1)
	go func() { done <- gather(conn, stream, sentAt, &heard, began, now, timeout) }()
	tick := time.NewTicker(time.Duration(codec.SpacingMS) * time.Millisecond)
	defer tick.Stop()
	packet := make([]byte, codec.SizeBytes)
	binary.BigEndian.PutUint16(packet, echoMark)
	binary.BigEndian.PutUint32(packet[atStream:], stream)
	for i := range packets {
		binary.BigEndian.PutUint16(packet[atNumber:], uint16(i))
		binary.BigEndian.PutUint64(packet[atSent:], uint64(began.Add(time.Since(began)).UnixNano()))
		sentAt[i].Store(int64(time.Since(began)) + 1)
		switch _, err := conn.Write(packet); {
		case err == nil:
		case ours(err):
			return nil, nil, err
		case heard.Load() == 0 && closed(err): // the socket tells what it had heard before
			return nil, err, nil
		}
		select {
		case <-tick.C:
		case g := <-done:
			return g.back, g.refused, nil
		case <-ctx.Done():
			return nil, nil, &errOwn{ctx.Err()}
		}
	}
	select {
	case g := <-done:
		return g.back, g.refused, nil
	case <-ctx.Done():
		return nil, nil, &errOwn{ctx.Err()}
	}
}

// gathered is what came back, or why nothing will.
type gathered struct {
	back    []echoed
	refused error
}

// gather reads until all packets are back, or the connection's deadline; sentAt is
// when each was sent, in ns after began and 1 more, and 0 before it was.
func gather(conn *net.UDPConn, stream uint32, sentAt []atomic.Int64, heard *atomic.Int64, began time.Time, now func() float64, timeout time.Duration) gathered {
	var back []echoed
	packets := len(sentAt)
	seen := make([]bool, packets)
	origin := began.UnixNano()
	at := func(b []byte) float64 { return float64(int64(binary.BigEndian.Uint64(b))-origin) / 1e6 }
	buf := make([]byte, 2048)
	for len(back) < packets {
		n, err := conn.Read(buf)
		arrived := now()
		if errors.Is(err, net.ErrClosed) || isTimeout(err) {
			break
		}
		if len(back) == 0 && closed(err) {
			return gathered{nil, err}
		}
		if err != nil || n < echoHead || binary.BigEndian.Uint16(buf) != echoMark || binary.BigEndian.Uint32(buf[atStream:]) != stream {
			continue // refused by the host, or not ours
		}
		number := int(binary.BigEndian.Uint16(buf[atNumber:]))
		if number >= packets || seen[number] {
			continue
		}
		if at := sentAt[number].Load(); at == 0 || arrived-float64(at)/1e6 > milliseconds(timeout) {
			continue // too late, or before it was sent
		}
		seen[number] = true
		heard.Add(1)
		back = append(back, echoed{number, at(buf[atSent:]), at(buf[atHeard:]), at(buf[atReplied:]), arrived, binary.BigEndian.Uint64(buf[atHeard:]) != 0})
	}
	return gathered{back, nil}
}

// closed says whether somebody refused a packet of a connected socket.
func closed(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) || noWay(err) }

func isTimeout(err error) bool {
	var nerr net.Error
	return errors.As(err, &nerr) && nerr.Timeout()
}

// streamValues sums up a stream.
func streamValues(back []echoed, set definition.UDPSettings, codec measure.Codec) []float64 {
	values := measure.UDP.None()
	loss := 100 * float64(set.Packets-len(back)) / float64(set.Packets)
	values[measure.TripLoss] = loss
	if len(back) == 0 {
		values[measure.UDPMOS] = 1
		values[measure.UDPRating] = 0
		return values
	}
	var sent, heard, replied, arrived, trips []float64
	reordered, highest := 0, -1
	thereSum, backSum := 0.0, 0.0
	stamped := true
	for _, e := range back {
		if e.number < highest {
			reordered++
		}
		highest = max(highest, e.number)
		stamped = stamped && e.stamped
		held := 0.0
		if e.stamped {
			held = math.Max(0, e.replied-e.heard)
		}
		trips = append(trips, e.arrived-e.sent-held)
		sent, heard = append(sent, e.sent), append(heard, e.heard)
		replied, arrived = append(replied, e.replied), append(arrived, e.arrived)
		thereSum += e.heard - e.sent
		backSum += e.arrived - e.replied
	}
	trip := measure.RoundTrips(trips)
	copy(values[measure.TripLeast:measure.TripMost+1], trip[measure.TripLeast:measure.TripMost+1])
	jitter := 0.0
	if stamped {
		values[measure.UDPJitterThere], values[measure.UDPJitterBack] = measure.Interarrival(sent, heard),
			measure.Interarrival(replied, arrived)
		jitter = math.Max(values[measure.UDPJitterThere], values[measure.UDPJitterBack])
	} else {
		values[measure.UDPJitterThere] = measure.Interarrival(sent, arrived)
		jitter = values[measure.UDPJitterThere]
	}
	n := float64(len(back))
	if there, home := thereSum/n, backSum/n; set.Synchronised && stamped && there > 0 && home > 0 {
		values[measure.UDPThere], values[measure.UDPBack] = there, home
	}
	values[measure.UDPRating] = codec.Rating(trip[measure.TripMean], jitter, loss)
	values[measure.UDPMOS] = measure.MOS(values[measure.UDPRating])
	values[measure.UDPReordered] = float64(reordered)
	return values
}

// Respond sends back what comes to a UDP socket until it is closed, with the
// times in packets of ours. It never sends more than it received.
func Respond(conn net.PacketConn) error {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := conn.ReadFrom(buf)
		heard := time.Now().UnixNano()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		if n >= echoHead && binary.BigEndian.Uint16(buf) == echoMark {
			binary.BigEndian.PutUint64(buf[atHeard:], uint64(heard))
			binary.BigEndian.PutUint64(buf[atReplied:], uint64(time.Now().UnixNano()))
		}
		if _, err := conn.WriteTo(buf[:n], from); errors.Is(err, net.ErrClosed) {
			return nil
		}
	}
}
