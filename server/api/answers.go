package api

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// answer is a whole answer, ready to be sent any number of times.
type answer struct {
	status int
	header http.Header
	body   []byte
	packed []byte // the body with gzip; nil where that does not pay
	mark   string // ETag; empty where the answer may not be kept
}

// collected is a ResponseWriter that keeps all that is written, so that an
// answer that cannot be finished is not sent in half.
type collected struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (c *collected) Header() http.Header { return c.header }

func (c *collected) WriteHeader(status int) {
	if c.status == 0 {
		c.status = status
	}
}

func (c *collected) Write(p []byte) (int, error) {
	c.WriteHeader(http.StatusOK)
	return c.body.Write(p)
}

// answers makes every answer of the API whole before it is sent, packs it, and
// makes one of equal questions that cost much.
func (s *Server) answers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, costly := s.question(r)
		if !costly {
			s.answered(next, r).send(w, r)
			return
		}
		a, err := s.flights.do(r.Context(), key, func(ctx context.Context) *answer { return s.answered(next, r.WithContext(ctx)) })
		switch {
		case err == nil:
			a.send(w, r)
		case r.Context().Err() != nil: // nobody waits any more
		default:
			w.Header().Set("Retry-After", "2")
			writeProblem(w, http.StatusServiceUnavailable, "Too many people ask at once for what takes long to compute; try again in some seconds.")
		}
	})
}

// question names what a request asks, where answering it costs much and the
// answer is the same for all who may ask it.
func (s *Server) question(r *http.Request) (key string, costly bool) {
	p, signedIn, _ := asking(r.Context())
	if !signedIn || !s.costly[r.Method+" "+chi.RouteContext(r.Context()).RoutePattern()] {
		return "", false
	}
	key = fmt.Sprint(p.Rights.Role, " ", p.Rights.Customer, " ", p.Secured, " ") + r.Method + " " + r.URL.RequestURI()
	if r.Body != nil && r.Method != http.MethodGet {
		text, err := io.ReadAll(r.Body)
		if err != nil {
			return "", false
		}
		r.Body = io.NopCloser(bytes.NewReader(text))
		sum := sha256.Sum256(text)
		key += " " + hex.EncodeToString(sum[:])
	}
	return key, true
}

// answered lets next answer a request; what breaks in the middle is a 500.
func (s *Server) answered(next http.Handler, r *http.Request) (a *answer) {
	c := &collected{header: http.Header{}}
	defer func() {
		broke := recover()
		if broke == nil {
			a = s.pack(r, c)
			return
		}
		if err, ok := broke.(error); ok && err == http.ErrAbortHandler {
			panic(broke)
		}
		text := make([]byte, 8<<10)
		text = text[:runtime.Stack(text, false)]
		s.Log.Error("request failed", "method", r.Method, "path", r.URL.Path, "error", fmt.Sprint(broke), "stack", string(text))
		c = &collected{header: http.Header{}}
		writeProblem(c, http.StatusInternalServerError, "Something went wrong on the server while it answered. The server's log says more.")
		a = s.pack(r, c)
	}()
	next.ServeHTTP(c, r)
	return a
}

// worthPacking is how large an answer is that is sent packed.
const worthPacking = 1 << 10

func (s *Server) pack(r *http.Request, c *collected) *answer {
	a := &answer{status: c.status, header: c.header, body: c.body.Bytes()}
	if a.status == 0 {
		a.status = http.StatusOK
	}
	kind := c.header.Get("Content-Type")
	if r.Method == http.MethodGet && a.status == http.StatusOK && strings.HasPrefix(kind, "application/json") {
		sum := sha256.Sum256(a.body)
		a.mark = `W/"` + hex.EncodeToString(sum[:12]) + `"`
	}
	if len(a.body) >= worthPacking && (strings.Contains(kind, "json") || strings.HasPrefix(kind, "text/")) {
		var out bytes.Buffer
		z := packers.Get().(*gzip.Writer)
		defer packers.Put(z)
		z.Reset(&out)
		if _, err := z.Write(a.body); err == nil && z.Close() == nil {
			a.packed = out.Bytes()
		}
	}
	return a
}

var packers = sync.Pool{New: func() any {
	z, _ := gzip.NewWriterLevel(io.Discard, gzip.BestSpeed)
	return z
}}

func (a *answer) send(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	for name, values := range a.header {
		h[name] = values
	}
	if a.mark != "" {
		h.Set("ETag", a.mark)
		h.Set("Cache-Control", "private, no-cache") // kept by the browser, and asked about each time
		h.Add("Vary", "Cookie")
		if strings.Contains(r.Header.Get("If-None-Match"), a.mark) {
			h.Del("Content-Type")
			w.WriteHeader(http.StatusNotModified)
			return
		}
	}
	body := a.body
	if a.packed != nil {
		h.Add("Vary", "Accept-Encoding")
		if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			h.Set("Content-Encoding", "gzip")
			body = a.packed
		}
	}
	if len(body) > 0 {
		h.Set("Content-Length", strconv.Itoa(len(body)))
	}
	w.WriteHeader(a.status)
	if r.Method != http.MethodHead {
		w.Write(body)
	}
}

// flights answer equal questions once: whoever asks joins those who wait for the
// same, unless its computing has begun, since that may not know what the asker
// was just told. So few are computed at once that the agents never starve.
type flights struct {
	mu      sync.Mutex
	open    map[string]*flight
	slots   chan struct{}
	waiting int
}

type flight struct {
	began   bool
	askers  int
	abandon context.CancelFunc
	done    chan struct{}
	answer  *answer
}

// mostWaiting is how many different questions may wait for their turn, and
// longestFlight how long one may take.
const (
	mostWaiting   = 100
	longestFlight = time.Minute
)

func newFlights() *flights {
	return &flights{open: map[string]*flight{}, slots: make(chan struct{}, max(2, runtime.GOMAXPROCS(0)/2))}
}

type errBusy struct{}

func (errBusy) Error() string { return "too many questions wait" }

func (f *flights) do(ctx context.Context, key string, compute func(context.Context) *answer) (*answer, error) {
	f.mu.Lock()
	fl := f.open[key]
	if fl == nil || fl.began {
		if f.waiting >= mostWaiting {
			f.mu.Unlock()
			return nil, errBusy{}
		}
		flying, abandon := context.WithTimeout(context.WithoutCancel(ctx), longestFlight)
		before := fl
		fl = &flight{abandon: abandon, done: make(chan struct{})}
		f.open[key] = fl
		f.waiting++
		go f.fly(flying, key, before, fl, compute)
	}
	fl.askers++
	f.mu.Unlock()
	defer func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if fl.askers--; fl.askers == 0 {
			fl.abandon() // whether it is over or nobody wants it any more
		}
	}()
	select {
	case <-fl.done:
		if fl.answer == nil {
			return nil, errBusy{}
		}
		return fl.answer, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// fly computes an answer when the one before it to the same question is there,
// and there is a place.
func (f *flights) fly(ctx context.Context, key string, before, fl *flight, compute func(context.Context) *answer) {
	defer close(fl.done)
	if before != nil {
		select {
		case <-before.done:
		case <-ctx.Done():
		}
	}
	var mine bool
	select {
	case f.slots <- struct{}{}:
		mine = true
		defer func() { <-f.slots }()
	case <-ctx.Done():
	}
	f.mu.Lock()
	f.waiting--
	fl.began = true
	f.mu.Unlock()
	if mine {
		fl.answer = compute(ctx)
	}
	f.mu.Lock()
	if f.open[key] == fl {
		delete(f.open, key)
	}
	f.mu.Unlock()
}
