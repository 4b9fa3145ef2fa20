// Package standin is the small simulated outside world of the demo and of
// tests: web services and name servers that can answer slowly, wrongly or not at
// all, hosts in 127.0.0.0/8 that can stop answering ping, a route of several hops,
// a voice responder on a bad line, a system that reports in. Everything that
// measures them is real.
package standin

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Modes of a web stand-in.
const (
	OK      = "ok"
	Slow    = "slow"    // answers after SlowFor
	Wrong   = "wrong"   // answers 500
	Silent  = "silent"  // takes the connection and never answers
	Refused = "refused" // does not take connections
)

// SlowFor is how long a slow web stand-in takes.
const SlowFor = 1500 * time.Millisecond

// WebModes and HostModes are what can be chosen.
var (
	WebModes  = []string{OK, Slow, Wrong, Silent, Refused}
	HostModes = []string{OK, Silent}
)

// Web is a simulated web service.
type Web struct {
	ID, Name string
	Addr     string // host:port in 127.0.0.0/8
	Text     string // what it answers
	Latency  time.Duration
	TLS      *tls.Config // nil: plain HTTP
	Bearer   string      // token that it asks for; empty: none
	Figures  func() any  // answered as JSON at /figures; nil: there are none

	mu     sync.Mutex
	mode   string
	server *http.Server
}

// URL is where the service is.
func (w *Web) URL() string {
	if w.TLS != nil {
		return "https://" + w.Addr + "/"
	}
	return "http://" + w.Addr + "/"
}

// Mode is what it does at present.
func (w *Web) Mode() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.mode == "" {
		return OK
	}
	return w.mode
}

// Set changes what it does; it fails for an unknown mode or when the address is taken.
func (w *Web) Set(mode string) error {
	if !slices.Contains(WebModes, mode) {
		return fmt.Errorf("%q is no mode; it is one of %v", mode, WebModes)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.mode = mode
	if mode == Refused {
		return w.close()
	}
	return w.open()
}

func (w *Web) open() error {
	if w.server != nil {
		return nil
	}
	l, err := net.Listen("tcp", w.Addr)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", w.ID, err)
	}
	if w.TLS != nil {
		l = tls.NewListener(l, w.TLS)
	}
	w.server = &http.Server{Handler: http.HandlerFunc(w.answer), ReadHeaderTimeout: 10 * time.Second}
	go func(s *http.Server) { s.Serve(l) }(w.server)
	return nil
}

func (w *Web) close() error {
	if w.server == nil {
		return nil
	}
	err := w.server.Close()
	w.server = nil
	return err
}

func (w *Web) answer(rw http.ResponseWriter, r *http.Request) {
	mode := w.Mode()
	wait := w.Latency
	if mode == Slow {
		wait = SlowFor
	}
	if mode == Silent {
		wait = time.Hour
	}
	select {
	case <-time.After(wait):
	case <-r.Context().Done():
		return
	}
	if mode == Wrong {
		http.Error(rw, "stand-in: wrong on purpose", http.StatusInternalServerError)
		return
	}
	switch {
	case w.Bearer != "" && r.Header.Get("Authorization") != "Bearer "+w.Bearer:
		rw.Header().Set("WWW-Authenticate", "Bearer")
		http.Error(rw, "stand-in: sign in first", http.StatusUnauthorized)
		return
	case w.Figures != nil && r.URL.Path == "/figures":
		rw.Header().Set("Content-Type", "application/json")
		json.NewEncoder(rw).Encode(w.Figures())
		return
	}
	fmt.Fprintf(rw, "<!doctype html><title>%s</title><h1>%s</h1><p>%s</p>\n", w.Name, w.Name, w.Text)
}

// Host is an address that can stop answering ping.
type Host struct {
	ID, Name string
	Addr     string
}

// Info is what people see of a stand-in.
type Info struct {
	ID, Name, Kind, Where, Mode string
	Modes                       []string
}

// Device is a stand-in that steers itself.
type Device interface {
	Info() Info
	Set(mode string) error
	Close() error
}

// World is a set of stand-ins.
type World struct {
	Webs    []*Web
	Names   []*Names
	Hosts   []Host
	Devices []Device
	// Kept are the messages that arrived at its receivers; nil: it has none.
	Kept *Messages

	// Complaint is what cannot be simulated here, and why: hosts that fall silent
	// and routes need root; empty when all can.
	Complaint string

	mu       sync.Mutex
	silenced map[string]bool // host ids
	wall     firewall
}

// Start makes everything answer.
func (w *World) Start() error {
	if len(w.Hosts) > 0 {
		if err := w.wall.silence(context.Background(), nil); err != nil {
			w.Complaint = err.Error()
		}
	}
	for _, n := range w.Names {
		if err := n.Set(OK); err != nil {
			return errors.Join(err, w.Close())
		}
	}
	for _, web := range w.Webs {
		if err := web.Set(OK); err != nil {
			return errors.Join(err, w.Close())
		}
	}
	for _, d := range w.Devices {
		err := d.Set(OK)
		if _, needsRoot := d.(*Route); needsRoot && err != nil {
			w.Complaint, err = strings.TrimPrefix(w.Complaint+"; "+err.Error(), "; "), nil
		}
		if err != nil {
			return errors.Join(err, w.Close())
		}
	}
	return nil
}

// List says what there is and what it does.
func (w *World) List() []Info {
	var out []Info
	for _, web := range w.Webs {
		out = append(out, Info{web.ID, web.Name, "web", web.URL(), web.Mode(), WebModes})
	}
	for _, n := range w.Names {
		out = append(out, Info{n.ID, n.Name, "names", n.Addr, n.Mode(), NameModes})
	}
	for _, d := range w.Devices {
		out = append(out, d.Info())
	}
	for _, h := range w.Hosts {
		out = append(out, Info{h.ID, h.Name, "host", h.Addr, w.HostMode(h.ID), HostModes})
	}
	return out
}

// Close ends everything and makes the hosts answer again.
func (w *World) Close() error {
	var failed error
	for _, web := range w.Webs {
		web.mu.Lock()
		failed = errors.Join(failed, web.close())
		web.mu.Unlock()
	}
	for _, n := range w.Names {
		failed = errors.Join(failed, n.Close())
	}
	for _, d := range w.Devices {
		failed = errors.Join(failed, d.Close())
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.silenced) > 0 {
		w.silenced = nil
		failed = errors.Join(failed, w.wall.silence(context.Background(), nil))
	}
	return failed
}

// HostMode is what a host does at present.
func (w *World) HostMode(id string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.silenced[id] {
		return Silent
	}
	return OK
}

// Set changes what a stand-in does.
func (w *World) Set(ctx context.Context, id, mode string) error {
	for _, web := range w.Webs {
		if web.ID == id {
			return web.Set(mode)
		}
	}
	for _, n := range w.Names {
		if n.ID == id {
			return n.Set(mode)
		}
	}
	for _, d := range w.Devices {
		if d.Info().ID == id {
			return d.Set(mode)
		}
	}
	for _, h := range w.Hosts {
		if h.ID == id {
			return w.setHost(ctx, h, mode)
		}
	}
	return fmt.Errorf("there is no stand-in %q", id)
}

func (w *World) setHost(ctx context.Context, h Host, mode string) error {
	if !slices.Contains(HostModes, mode) {
		return fmt.Errorf("%q is no mode of a host; it is one of %v", mode, HostModes)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	next := map[string]bool{}
	for id := range w.silenced {
		next[id] = true
	}
	delete(next, h.ID)
	if mode == Silent {
		next[h.ID] = true
	}
	var addrs []string
	for _, other := range w.Hosts {
		if next[other.ID] {
			addrs = append(addrs, other.Addr)
		}
	}
	if err := w.wall.silence(ctx, addrs); err != nil {
		return err
	}
	w.silenced = next
	return nil
}
