package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kestite/server/inward"
)

func reportInCommand() *cobra.Command {
	var r inward.Report
	var numbers []string
	cmd := &cobra.Command{
		Use:   "report-in URL [-- COMMAND …]",
		Short: "Report in to a check",
		Long: "Tells a report-in check that something was done. With a command, runs it and reports ok when its exit status\n" +
			"is 0, failed with the last line that it wrote otherwise, and ends with the same status.",
		Example: "  kestite report-in http://127.0.0.1:8480/in/kesr_… --number bookings=4\n  kestite report-in http://127.0.0.1:8480/in/kesr_… -- ./nightly-copy.sh",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if u, err := url.Parse(args[0]); err != nil || u.Host == "" {
				return &Refused{fmt.Errorf("%q is no address to report in to; it is shown when it is made, on the check's page", args[0])}
			}
			r.Numbers = map[string]float64{}
			for _, n := range numbers {
				name, text, _ := strings.Cut(n, "=")
				v, err := strconv.ParseFloat(text, 64)
				if err != nil {
					return &Refused{fmt.Errorf("--number %s: write it as name=4", n)}
				}
				r.Numbers[name] = v
			}
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			var failed error
			if len(args) > 1 {
				failed = runReported(ctx, cmd, args[1:], &r)
			}
			if err := reportIn(ctx, args[0], r); err != nil {
				return errors.Join(err, failed)
			}
			return failed
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.Outcome, "outcome", "ok", "ok, degraded or failed")
	f.StringVar(&r.Detail, "detail", "", "what there is to say")
	f.StringArrayVar(&numbers, "number", nil, "a number that the check knows, as name=4; may be given several times")
	return cmd
}

// runReported runs a command and takes the report from how it ends.
func runReported(ctx context.Context, cmd *cobra.Command, args []string, r *inward.Report) error {
	var last bytes.Buffer
	run := exec.CommandContext(ctx, args[0], args[1:]...)
	run.Stdin, run.Stdout, run.Stderr = cmd.InOrStdin(), io.MultiWriter(asItIs(cmd.OutOrStdout()), &last),
		io.MultiWriter(asItIs(cmd.ErrOrStderr()), &last)
	err := run.Run()
	if err == nil {
		return nil
	}
	r.Outcome = "failed"
	lines := strings.Split(strings.TrimSpace(last.String()), "\n")
	const most = 1000
	r.Detail = fmt.Sprintf("%.*s (%v)", most, lines[len(lines)-1], err)
	return &Quiet{fmt.Errorf("%s: %w", args[0], err)}
}

// withoutAddress is an error of a request without the address, which is a secret.
func withoutAddress(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

func reportIn(ctx context.Context, address string, r inward.Report) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("the report was not delivered: %w", withoutAddress(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusOK {
		return nil
	}
	const most = 4096
	text, _ := io.ReadAll(io.LimitReader(resp.Body, most))
	var problem struct {
		Detail string `json:"detail"`
	}
	if json.Unmarshal(text, &problem) == nil && problem.Detail != "" {
		text = []byte(problem.Detail)
	}
	return &Refused{fmt.Errorf("%s (%s)", strings.TrimSpace(string(text)), resp.Status)}
}
