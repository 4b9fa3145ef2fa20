package instrument_test

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// record is a TLS record (RFC 8446 §5.1) of a type that claims a length.
func record(kind byte, claims int, body []byte) []byte {
	return append(binary.BigEndian.AppendUint16([]byte{kind, 3, 3}, uint16(claims)), body...)
}

// Servers that speak TLS badly fail the check in bounded time, and are not believed.
func TestMalformedTLS(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	noise := func(n int) []byte {
		out := make([]byte, n)
		for i := range out {
			out[i] = byte(r.Uint32())
		}
		return out
	}
	hello := append([]byte{2, 0, 0, 76, 3, 3}, noise(72)...) // a ServerHello (§4.1.3) in its outer shape only
	answers := map[string][]byte{
		"noise":                       noise(4000),
		"a record that never ends":    record(22, 16_000, noise(10)),
		"a record beyond any size":    record(22, 65_535, noise(65_535)),
		"an empty handshake":          record(22, 0, nil),
		"a hello of noise":            record(22, len(hello), hello),
		"a hello cut off":             record(22, 20, hello[:20]),
		"a message of 16 MiB":         record(22, 4, []byte{11, 0xff, 0xff, 0xff}),
		"data before the handshake":   record(23, 100, noise(100)),
		"an alert of no kind":         record(21, 2, []byte{2, 255}),
		"an alert cut off":            record(21, 1, []byte{2}),
		"an unknown type":             record(99, 5, noise(5)),
		"SSL 2 (draft of 1995)":       {0x80, 0x2e, 4, 0, 1, 0, 2},
		"nothing, and the line stays": nil,
	}
	for range 40 {
		answers["noise of handshake "+string(rune('a'+r.IntN(26)))+string(rune('a'+r.IntN(26)))] = func() []byte {
			var out []byte
			for range 1 + r.IntN(4) {
				body := noise(r.IntN(300))
				out = append(out, record(byte(20+r.IntN(4)), len(body), body)...)
			}
			return out
		}()
	}
	for what, answer := range answers {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					c.Write(answer)
					defer c.Close() // when the listener is: the line stays open until then
				}
			}()
			s := instrument.NewSet(instrument.LocalPolicy())
			defer s.Close()
			for kind, target := range map[string]string{measure.Certificate.Name: l.Addr().String(), measure.HTTP.Name: "https://" + l.Addr().String() + "/"} {
				ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
				got := s.Measure(ctx, instrument.Task{Kind: kind, Target: target, Timeout: 500 * time.Millisecond, Settings: definition.Settings{
					Certificate: &definition.CertificateSettings{WaiveTrust: true, WaiveName: true}, HTTP: &definition.HTTPSettings{WaiveTrust: true},
				}})
				if got.Outcome != measure.Failed || strings.TrimSpace(got.Detail) == "" || ctx.Err() != nil {
					t.Errorf("%s: %s %q", kind, got.Outcome, got.Detail)
				}
				cancel()
			}
		})
	}
}
