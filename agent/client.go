package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"strings"
	"sync/atomic"
	"time"

	"kestite/agent/ticks"
	"kestite/agent/wire"
	"kestite/core/clock"
)

// Client speaks to the servers for an agent: to one at a time, and to the next
// at once when that one does not answer. It is safe for concurrent use.
type Client struct {
	Token string
	HTTP  *http.Client

	// Heard is told of every answer that says what time it is; Count counts for it.
	Heard func(clock.Exchange)
	Count func() time.Duration

	servers []server
	current atomic.Int64
}

// server is one of those a client may speak to.
type server struct {
	url   string       // without a trailing slash
	packs *atomic.Bool // its latest answer said that it takes packed batches
}

// patience is how long a server may take for an answer beyond the time that it
// was asked to wait.
const patience = 5 * time.Second

// NewClient returns a client for the servers at urls, separated by commas.
func NewClient(urls, token string) *Client {
	c := &Client{Token: strings.TrimSpace(token), HTTP: &http.Client{CheckRedirect: stay}, Count: ticks.Count,
		Heard: func(clock.Exchange) {}}
	for _, url := range strings.Split(urls, ",") {
		c.servers = append(c.servers, server{strings.TrimRight(strings.TrimSpace(url), "/"), &atomic.Bool{}})
	}
	return c
}

// stay keeps the token from following where an answer points.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// AnswerError is an answer other than 200.
type AnswerError struct {
	Status int
	Detail string
}

func (e *AnswerError) Error() string {
	return fmt.Sprintf("the server answers %d: %s", e.Status, e.Detail)
}

// RefusedError is an answer that trying again does not change.
type RefusedError struct {
	Status int
	Detail string
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("the server refuses (%d): %s", e.Status, e.Detail)
}

// Name tells agents apart without telling their tokens.
func (c *Client) Name() string {
	sum := sha256.Sum256([]byte(c.Token))
	return hex.EncodeToString(sum[:8])
}

// DoubledError is another process that works with the same token.
type DoubledError struct{ Detail string }

func (e *DoubledError) Error() string { return e.Detail }

// Assignments asks what to measure.
func (c *Client) Assignments(ctx context.Context, rep wire.Saying) (out wire.Assignments, err error) {
	return out, c.post(ctx, wire.PathAssignments, rep, &out, time.Duration(rep.WaitS)*time.Second)
}

// Deliver hands a batch over.
func (c *Client) Deliver(ctx context.Context, b wire.Batch) (out wire.Receipt, err error) {
	return out, c.post(ctx, wire.PathBatches, b, &out, 0)
}

// TrialResult reports a trial.
func (c *Client) TrialResult(ctx context.Context, id string, r wire.Result) error {
	return c.post(ctx, wire.PathTrials+"/"+id, r, &struct{}{}, 0)
}

// post asks the servers, one after the other until one answers; held is how long
// it was asked to wait with that. The error is an *AnswerError, *RefusedError or
// *DoubledError where one did, and the last one's trouble otherwise.
func (c *Client) post(ctx context.Context, path string, in, out any, held time.Duration) (err error) {
	said := saying{in: in}
	for range c.servers {
		at := c.current.Load()
		err = c.ask(ctx, c.servers[at%int64(len(c.servers))], path, &said, out, held+patience)
		var answer *AnswerError
		if err == nil || ctx.Err() != nil || errors.As(err, new(*RefusedError)) || errors.As(err, new(*DoubledError)) ||
			errors.As(err, &answer) && answer.Status < 500 {
			return err
		}
		c.current.CompareAndSwap(at, at+1) // unless another request has moved on
	}
	return err
}

// ask asks one server. One that cannot read what others at its address could is asked
// again in the form that all understand: servers are brought to a new version in turn.
func (c *Client) ask(ctx context.Context, to server, path string, said *saying, out any, within time.Duration) error {
	form := wire.TypeJSON
	if to.packs.Load() && said.packs() {
		form = wire.TypePacked
	}
	body, err := said.as(form)
	if err != nil {
		return err
	}
	err = c.postTo(ctx, to, path, form, body, out, within)
	var answer *AnswerError
	if form == wire.TypeJSON || !errors.As(err, &answer) || answer.Status >= 500 || to.packs.Load() {
		return err
	}
	if body, err = said.as(wire.TypeJSON); err != nil {
		return err
	}
	return c.postTo(ctx, to, path, wire.TypeJSON, body, out, within)
}

// saying is what a request says, compressed, in the forms that were asked for so far.
type saying struct {
	in    any
	forms map[string][]byte
}

// packs says whether there is a packed form of it.
func (s *saying) packs() bool {
	_, is := s.in.(wire.Batch)
	return is
}

func (s *saying) as(form string) ([]byte, error) {
	if body, has := s.forms[form]; has {
		return body, nil
	}
	text, err := wire.Write(form, s.in)
	if err != nil {
		return nil, err
	}
	if s.forms == nil {
		s.forms = map[string][]byte{}
	}
	s.forms[form] = text
	return text, nil
}

// exchange reads what an answer says of the time.
func exchange(header string) (clock.Exchange, bool) {
	var received, answered, wrong int64
	if n, err := fmt.Sscanf(header, "%d %d %d", &received, &answered, &wrong); n != 3 || err != nil {
		return clock.Exchange{}, false
	}
	return clock.Exchange{
		Received: time.UnixMicro(received), Answered: time.UnixMicro(answered), Error: time.Duration(wrong) * time.Microsecond,
	}, true
}

func (c *Client) postTo(ctx context.Context, to server, path, form string, body []byte, out any, within time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.url+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	sent := c.Count()
	req = req.WithContext(httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { sent = c.Count() }}))
	req.Header.Set("Authorization", "Bearer "+c.Token)
	req.Header.Set("Content-Type", form)
	req.Header.Set("Content-Encoding", "gzip")
	resp, err := c.HTTP.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	to.packs.Store(strings.Contains(resp.Header.Get("Accept"), wire.TypePacked))
	if x, ok := exchange(resp.Header.Get(wire.HeaderClock)); ok {
		x.Sent, x.Arrived = sent, c.Count()
		c.Heard(x)
	}
	const most = 64 << 20
	text, err := io.ReadAll(io.LimitReader(resp.Body, most))
	if err != nil {
		return err
	}
	if resp.StatusCode == http.StatusOK {
		return json.Unmarshal(text, out)
	}
	var problem struct {
		Detail string `json:"detail"`
	}
	if json.Unmarshal(text, &problem) != nil || problem.Detail == "" {
		problem.Detail = strings.TrimSpace(string(text[:min(200, len(text))]))
	}
	switch resp.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden:
		return &RefusedError{resp.StatusCode, problem.Detail}
	case http.StatusConflict:
		return &DoubledError{problem.Detail}
	}
	return &AnswerError{resp.StatusCode, problem.Detail}
}
