package api

import (
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"
)

// Bounds of a request's body: its size, and how slowly it may come in.
const (
	largestBody = 16 << 20
	slowestBody = 16 << 10 // bytes a second, after the grace
)

var bodyGrace = 30 * time.Second

// guard bounds requests and sets headers that all answers have.
func (s *Server) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		if r.ContentLength != 0 {
			slow := &steadyBody{ReadCloser: r.Body, control: http.NewResponseController(w), began: time.Now()}
			slow.bound()
			r.Body = http.MaxBytesReader(w, slow, largestBody)
		}
		next.ServeHTTP(w, r)
	})
}

// steadyBody is a body that has to come in at some speed: who sends a byte a
// minute keeps a connection, and what waits behind it, for nothing.
type steadyBody struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time
	read    int64
}

func (b *steadyBody) bound() {
	b.control.SetReadDeadline(b.began.Add(bodyGrace + time.Duration(b.read)*time.Second/slowestBody))
}

func (b *steadyBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.read += int64(n)
	switch err {
	case nil:
		b.bound()
	case io.EOF:
		b.control.SetReadDeadline(time.Time{}) // the answer may take its time
	}
	return n, err
}

// strictTransport lets browsers that were here once by HTTPS come by nothing else
// (RFC 6797), for a year.
func strictTransport(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Strict-Transport-Security", "max-age=31536000")
		next.ServeHTTP(w, r)
	})
}

// source is the network address that a request came from: of an IPv6 one the
// network, since whoever has one address there has all of them (RFC 6177). What a
// proxy says is taken where the proxy is one of ours.
func (s *Server) source(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	said := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(said) - 1; i >= 0 && s.ours(addr); i-- {
		before, err := netip.ParseAddr(strings.TrimSpace(said[i]))
		if err != nil {
			break
		}
		addr = before
	}
	addr = addr.Unmap().WithZone("")
	if addr.Is6() {
		return netip.PrefixFrom(addr, 64).Masked().String()
	}
	return addr.String()
}

func (s *Server) ours(addr netip.Addr) bool {
	for _, p := range s.Proxies {
		if p.Contains(addr.Unmap()) {
			return true
		}
	}
	return false
}
