package standin

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"time"

	"kestite/instrument"
)

// Jittery is a voice responder that holds packets back for up to 60 ms.
const Jittery = "jittery"

// VoiceModes are what a voice responder can be made to do: lossy loses every eighth packet.
var VoiceModes = []string{OK, Lossy, Jittery, Silent}

// Voice is a responder of UDP echo checks on a line that can be bad.
type Voice struct {
	ID, Name string
	Addr     string // host:port in 127.0.0.0/8

	mu   sync.Mutex
	mode string
	conn net.PacketConn
}

// Info says what it is.
func (v *Voice) Info() Info { return Info{v.ID, v.Name, "voice", v.Addr, v.Mode(), VoiceModes} }

// Mode is what it does at present.
func (v *Voice) Mode() string {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.mode == "" {
		return OK
	}
	return v.mode
}

// Set changes what it does, and starts it if it was not.
func (v *Voice) Set(mode string) error {
	if !slices.Contains(VoiceModes, mode) {
		return fmt.Errorf("%q is no mode of a voice responder; it is one of %v", mode, VoiceModes)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.mode = mode
	if v.conn != nil {
		return nil
	}
	conn, err := net.ListenPacket("udp", v.Addr)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", v.ID, err)
	}
	v.conn = conn
	go instrument.Respond(&line{PacketConn: conn, mode: v.Mode})
	return nil
}

// Close ends it.
func (v *Voice) Close() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.conn == nil {
		return nil
	}
	err := v.conn.Close()
	v.conn = nil
	return err
}

// line is a socket on a bad line.
type line struct {
	net.PacketConn
	mode  func() string
	count int
}

func (l *line) WriteTo(b []byte, to net.Addr) (int, error) {
	const eighth, longest = 8, 60 * time.Millisecond
	l.count++
	switch mode := l.mode(); {
	case mode == Silent || mode == Lossy && l.count%eighth == 0:
		return len(b), nil
	case mode == Jittery:
		held := slices.Clone(b)
		time.AfterFunc(rand.N(longest), func() { l.PacketConn.WriteTo(held, to) })
		return len(b), nil
	}
	return l.PacketConn.WriteTo(b, to)
}

// ReporterModes are what a reporter can be made to do: wrong reports failures.
var ReporterModes = []string{OK, Wrong, Silent}

// Reporter is another system that reports in to a check again and again.
type Reporter struct {
	ID, Name string
	Every    time.Duration
	// Report reports once, that all is well or not.
	Report func(ctx context.Context, well bool) error

	mu   sync.Mutex
	mode string
	end  context.CancelFunc
}

// Info says what it is.
func (r *Reporter) Info() Info {
	return Info{r.ID, r.Name, "reporter", fmt.Sprintf("every %.0f s", r.Every.Seconds()), r.Mode(), ReporterModes}
}

// Mode is what it does at present.
func (r *Reporter) Mode() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.mode == "" {
		return OK
	}
	return r.mode
}

// Set changes what it does, and starts it if it was not.
func (r *Reporter) Set(mode string) error {
	if !slices.Contains(ReporterModes, mode) {
		return fmt.Errorf("%q is no mode of a reporter; it is one of %v", mode, ReporterModes)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.mode = mode
	if r.end != nil {
		return nil
	}
	ctx, end := context.WithCancel(context.Background())
	r.end = end
	go r.run(ctx)
	return nil
}

func (r *Reporter) run(ctx context.Context) {
	tick := time.NewTicker(r.Every)
	defer tick.Stop()
	for {
		if mode := r.Mode(); mode != Silent && r.Report != nil {
			_ = r.Report(ctx, mode == OK) // who does not hear a report makes a failure of it
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Close ends it.
func (r *Reporter) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.end != nil {
		r.end()
		r.end = nil
	}
	return nil
}
