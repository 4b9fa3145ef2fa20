package agent

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"kestite/agent/wire"
)

// Client speaks to the server for an agent.
type Client struct {
	Server string // URL without a trailing slash
	Token  string
	HTTP   *http.Client
}

// NewClient returns a client for the server at url.
func NewClient(url, token string) *Client {
	return &Client{Server: strings.TrimRight(url, "/"), Token: strings.TrimSpace(token), HTTP: &http.Client{Timeout: time.Minute}}
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
func (c *Client) Assignments(ctx context.Context, rep wire.Report) (out wire.Assignments, err error) {
	return out, c.post(ctx, wire.PathAssignments, rep, &out)
}

// Deliver hands a batch over.
func (c *Client) Deliver(ctx context.Context, b wire.Batch) (out wire.Receipt, err error) {
	return out, c.post(ctx, wire.PathBatches, b, &out)
}

// TrialResult reports a trial.
func (c *Client) TrialResult(ctx context.Context, id string, r wire.Result) error {
	return c.post(ctx, wire.PathTrials+"/"+id, r, &struct{}{})
}

func (c *Client) post(ctx context.Context, path string, in, out any) error {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	if err := json.NewEncoder(z).Encode(in); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.Server+path, &buf)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Content-Encoding", "gzip")
	resp, err := c.HTTP.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
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
	if resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden {
		return &RefusedError{resp.StatusCode, problem.Detail}
	}
	if resp.StatusCode == http.StatusConflict {
		return &DoubledError{problem.Detail}
	}
	return fmt.Errorf("the server answers %d: %s", resp.StatusCode, problem.Detail)
}
