package instrument

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"math"
	"net"
	"net/http"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/miekg/dns"

	"kestite/core/definition"
	"kestite/core/measure"
)

// What anybody may answer is read without a crash, in bounded memory, and never
// taken for more than it is. scripts/fuzz.sh runs these for as long as asked.

// FuzzBody reads bodies, packed and in any character set.
func FuzzBody(f *testing.F) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte("<p>inställd</p>"))
	z.Close()
	f.Add([]byte("<meta charset=utf-16>sailings"), "", "text/html", true)
	f.Add(packed.Bytes(), "gzip", "text/html; charset=latin1", true)
	f.Add(packed.Bytes()[:12], "gzip, deflate", "application/json; charset=iso-2022-jp", false)
	f.Add([]byte("\xfe\xff\x00a"), "br", "; charset=\"", true)
	f.Fuzz(func(t *testing.T, body []byte, coding, kind string, whole bool) {
		const most = 1 << 16
		out := readable(body, http.Header{"Content-Encoding": {coding}, "Content-Type": {kind}}, whole, most)
		switch {
		case len(out.bytes) > max(most, len(body)):
			t.Fatalf("%d bytes of %d", len(out.bytes), len(body))
		case out.fault != "" && len(out.bytes) > 0:
			t.Fatalf("it cannot be read (%s), and %d bytes are searched", out.fault, len(out.bytes))
		case out.whole && !whole:
			t.Fatal("the beginning of a body counts as all of it")
		}
		x := &exchange{set: definition.HTTPSettings{ForbiddenText: "never to be seen"}, body: body, size: int64(len(body)), cut: !whole, status: 200, headers: http.Header{"Content-Encoding": {coding}, "Content-Type": {kind}}}
		x.kept()
		all, _ := definition.ParseStatusSet("100-599")
		fault, err := x.fault(context.Background(), all, measure.HTTP.None())
		if err != nil || fault == "" && (!out.whole || out.fault != "") {
			t.Fatalf("what is forbidden passes: %q %v, of %+v", fault, err, out)
		}
	})
}

// FuzzJSON looks for a number in what should be JSON.
func FuzzJSON(f *testing.F) {
	for _, seed := range []string{`{"a":1}`, `[1,2,{"a":[null,true,"7"]}]`, `{"a":1e999}`, "\xef\xbb\xbf{\"a\":-1}", `[[[[`, `{"a":1}{`, `"\ud800"`, `1`, ``} {
		for _, path := range []string{"$.a", "$..a", "$[?@.a > 1]", "$[0:5:2]"} {
			f.Add([]byte(seed), path)
		}
	}
	f.Fuzz(func(t *testing.T, body []byte, path string) {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		v, err := number(ctx, body, path)
		if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
			t.Fatalf("%s of %q is %v", path, body, v)
		}
		if ctx.Err() != nil {
			t.Fatalf("%s of %q takes longer than ten seconds", path, body)
		}
	})
}

// FuzzDNSAnswer reads datagrams as answers to a question.
func FuzzDNSAnswer(f *testing.F) {
	ask := new(dns.Msg)
	ask.SetQuestion("tickets.skerry.example.", dns.TypeA)
	ask.Id = 7
	good := ask.Copy()
	good.Response = true
	for _, text := range []string{"tickets.skerry.example. 60 IN CNAME a.skerry.example.", "a.skerry.example. 60 IN A 127.77.0.12", `a.skerry.example. 60 IN TXT "x" "y"`} {
		r, err := dns.NewRR(text)
		if err != nil {
			f.Fatal(err)
		}
		good.Answer = append(good.Answer, r)
	}
	packed, err := good.Pack()
	if err != nil {
		f.Fatal(err)
	}
	for _, seed := range [][]byte{nil, {0, 7}, packed, packed[:20], packed[:len(packed)-3]} {
		f.Add(seed, uint16(dns.TypeA))
	}
	f.Fuzz(func(t *testing.T, datagram []byte, kind uint16) {
		var m dns.Msg
		if m.Unpack(datagram) != nil {
			return
		}
		question := ask.Copy()
		question.Question[0].Qtype = kind
		if answers(&m, question) && (m.Id != 7 || !m.Response) {
			t.Fatalf("taken for an answer: %v", &m)
		}
		for _, r := range owned(m.Answer, "tickets.skerry.example.", kind) {
			contains([]string{recordData(r)}, "127.77.0.12", kind)
		}
	})
}

// FuzzStartTLS speaks with a server that says anything.
func FuzzStartTLS(f *testing.F) {
	for n := range definition.StartTLSProtocols {
		for _, seed := range []string{"", "S", "N", "220 mail\r\n250-a\r\n250 b\r\n220 go\r\n", "* OK\r\n* x\r\na1 OK\r\n", "+OK\r\n+OK\r\n", "220-a\r\n", "\xff\xff\r\n"} {
			f.Add([]byte(seed), uint8(n))
		}
	}
	f.Fuzz(func(t *testing.T, says []byte, n uint8) {
		here, there := net.Pipe()
		defer here.Close()
		go func() {
			go there.Write(says)
			buf := make([]byte, 512)
			for {
				if _, err := there.Read(buf); err != nil {
					return
				}
			}
		}()
		ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
		defer cancel()
		startTLS(ctx, here, definition.StartTLSProtocols[int(n)%len(definition.StartTLSProtocols)])
	})
}

// FuzzChain judges certificates that anybody may show.
func FuzzChain(f *testing.F) {
	t := new(testing.T)
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	between := root.issue(t, ecKey(t), asAuthority("Skerry intermediate"))
	leaf := between.issue(t, ecKey(t), func(*x509.Certificate) {})
	roots := x509.NewCertPool()
	roots.AddCert(root.cert)
	f.Add(leaf.cert.Raw, between.cert.Raw, []byte(nil))
	f.Add(leaf.cert.Raw, leaf.cert.Raw, []byte{0x30, 3, 10, 1, 0})
	f.Add(root.cert.Raw, root.cert.Raw, []byte("staple"))
	f.Fuzz(func(t *testing.T, first, second, staple []byte) {
		var shown []*x509.Certificate
		for _, raw := range [][]byte{first, second} {
			if c, err := x509.ParseCertificate(raw); err == nil {
				shown = append(shown, c)
			}
		}
		if len(shown) == 0 {
			return
		}
		o := judge(tls.ConnectionState{PeerCertificates: shown, OCSPResponse: staple}, definition.CertificateSettings{ServerName: "tickets.skerry.example"}, roots, time.Now())
		links(shown)
		if len(o.used) == 0 {
			t.Fatal("no certificate was used")
		}
		if _, err := shown[0].Verify(verification(shown, roots, time.Now())); err != nil && len(o.faults) == 0 {
			t.Fatalf("taken, and it does not verify: %v", err)
		}
		if detail := o.spoken(Result{}).Detail; !utf8.ValidString(detail) {
			t.Logf("%q is cleaned on its way", detail)
		}
	})
}

// FuzzErrorQueue reads what a kernel may say of packets.
func FuzzErrorQueue(f *testing.F) {
	said := make([]byte, 16+16+28)
	binary.NativeEndian.PutUint64(said, uint64(len(said)))
	binary.NativeEndian.PutUint32(said[8:], 0)
	binary.NativeEndian.PutUint32(said[12:], 11)
	copy(said[16:], []byte{113, 0, 0, 0, 2, 3, 1})
	f.Add([]byte{8, 0, 0, 0, 0, 1, 0, 1, 1, 2, 3, 4, 5, 6, 7, 8}, said, true)
	f.Add([]byte{}, said, false)
	f.Add([]byte{128}, []byte{1}, false)
	f.Fuzz(func(t *testing.T, packet, oob []byte, v4 bool) {
		e, ok := errorSaid(packet, oob, v4)
		if ok {
			newICMPSocket(&icmpConn{v4: v4}).told(e, time.Now())
			e.kind.refusal(e.mtu)
		}
	})
}
