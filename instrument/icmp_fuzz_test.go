package instrument

import (
	"net/netip"
	"testing"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
)

// FuzzICMP feeds both readers of ICMP messages what anybody may send.
func FuzzICMP(f *testing.F) {
	quoted := append([]byte{11, 0, 0, 0, 0, 0, 0, 0, 0x45, 0, 0, 60, 0, 0, 0, 0, 1, 17, 0, 0, 198, 18, 1, 1, 198, 18, 9, 2}, 0x81, 0x00, 0x82, 0x9a, 0, 40, 0x12, 0x34, 0, 7)
	for _, seed := range [][]byte{nil, {0, 0, 0, 0, 0, 1, 0, 1}, quoted, quoted[:30], {11, 0, 0, 0, 0, 0, 0, 0, 0x4f}, {3, 0, 0, 0, 0, 0, 0, 0, 0x60, 0}} {
		f.Add(seed, true)
		f.Add(seed, false)
	}
	from := netip.MustParseAddr("198.18.6.2")
	f.Fuzz(func(t *testing.T, packet []byte, v4 bool) {
		kind, key, ok := dissect(packet, from, v4)
		if kind.v4 != v4 && ok {
			t.Fatalf("%x was read as the other family", packet)
		}
		conn := &icmpConn{v4: v4, raw: true}
		e := &ear{conn: conn, waiting: map[probeKey]hearer{}}
		out := make(chan reply, 1)
		if ok {
			e.waiting[key] = hearer{out, 5}
		}
		e.hear(packet, from, time.Now())
		if ok && (len(out) != 1 || (<-out).probe != 5) {
			t.Fatalf("%x answers the probe %v, and it was not told", packet, key)
		}
		newICMPSocket(conn).hear(packet, from, time.Now())
	})
}

func TestDissectTellsProbesByPayloadOrChecksum(t *testing.T) {
	head := []byte{11, 0, 0, 0, 0, 0, 0, 0, 0x45, 0, 0, 60, 0, 0, 0, 0, 1, 17, 0, 0, 198, 18, 1, 1, 198, 18, 9, 2, 0x81, 0x00, 0x82, 0x9a, 0, 40, 0x12, 0x34}
	router, target := netip.MustParseAddr("198.18.6.2"), netip.MustParseAddr("198.18.9.2")
	if kind, key, ok := dissect(head, router, true); !ok || key != (probeKey{target, udp, 0x8100, 0x1234}) || kind.what(target, router) != exceeded {
		t.Errorf("eight bytes quoted: %v %v", kind, key)
	}
	if _, key, ok := dissect(append(head, 0, 7), router, true); !ok || key.id != inPayload|7 {
		t.Errorf("the payload quoted: %v", key)
	}
	unreached := append([]byte{3, 3}, head[2:]...)
	if kind, _, _ := dissect(unreached, target, true); kind.what(target, target) != arrived || kind.what(target, router) != unreachable {
		t.Error("a closed port at the target is reached, at a router it is not")
	}
}

// Raw sockets are given what the kernel would drop: a message whose checksum is wrong is
// nothing that anybody said.
func TestChecksumsAreLookedAt(t *testing.T) {
	for _, data := range []string{"", "odd", "even"} {
		m := icmp.Message{Type: ipv4.ICMPTypeEchoReply, Body: &icmp.Echo{ID: 7, Seq: 9, Data: []byte(data)}}
		packet, err := m.Marshal(nil)
		if err != nil {
			t.Fatal(err)
		}
		if !sumHolds(packet) {
			t.Errorf("%q: a right sum does not hold", data)
		}
		for i := range packet {
			packet[i] ^= 4
			if sumHolds(packet) {
				t.Errorf("%q: byte %d was changed, and the sum holds", data, i)
			}
			packet[i] ^= 4
		}
	}
}
