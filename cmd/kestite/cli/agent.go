package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/instrument"
)

func agentCommand() *cobra.Command {
	var server, tokenFile, dir, roots, echo string
	var allow, forbid []string
	var plain bool
	var log logFlags
	cmd := &cobra.Command{
		Use:   "agent",
		Short: "Measure at a location",
		Long: "Asks the server what to measure, measures, and delivers. It only ever dials out. What was measured is kept in\n" +
			"--data until the server has it. Pinging needs CAP_NET_RAW or a group in net.ipv4.ping_group_range.",
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fromEnvironment(cmd.Flags()); err != nil {
				return err
			}
			for _, one := range strings.Split(server, ",") {
				u, err := url.Parse(strings.TrimSpace(one))
				if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
					return fmt.Errorf("--server %q is no URL; write it as https://kestite.example.org, several separated by commas", one)
				}
				if u.Scheme == "http" && !onThisMachine(u.Hostname()) && !plain {
					return fmt.Errorf("--server %s would send the token, and the secrets of checks, in "+
						"the clear; use https, or say --plain-http where the way is safe", one)
				}
			}
			policy, err := policyOf(allow, forbid)
			if err != nil {
				return err
			}
			token, err := os.ReadFile(tokenFile)
			if err != nil {
				return fmt.Errorf("--token-file: %w; make a token under Set-up, Locations, and put it into that file", err)
			}
			if strings.TrimSpace(string(token)) == "" {
				return fmt.Errorf("--token-file: %s is empty", tokenFile)
			}
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return fmt.Errorf("--data: %w", err)
			}
			logger, err := log.logger(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			a := &agent.Agent{Client: agent.NewClient(server, string(token)), Version: Version, Log: logger, Policy: policy}
			if open := openToOthers(tokenFile); open != "" {
				logger.Warn(open)
			}
			if plain {
				logger.Warn("what is said to the server may go in the clear: the token, the secrets of checks, what is measured")
			}
			if roots != "" {
				if a.Roots, err = rootsFrom(roots); err != nil {
					return fmt.Errorf("--roots: %w", err)
				}
			}
			kept, err := store.Open(dir, store.Max)
			if err != nil {
				return err
			}
			defer kept.Close()
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			a.Store = kept
			if echo != "" {
				conn, err := listenEcho(echo)
				if err != nil {
					return fmt.Errorf("--echo: %w", err)
				}
				go respondUntil(ctx, conn)
			}
			err = a.Run(ctx)
			var refused *agent.RefusedError
			if errors.As(err, &refused) {
				return fmt.Errorf("%w (token from %s)", err, tokenFile)
			}
			return err
		},
	}
	f := cmd.Flags()
	f.StringVar(&server, "server", "http://127.0.0.1:8480",
		"URL of the server; of several, separated by commas, the agent takes the next when one does not answer")
	f.StringVar(&tokenFile, "token-file", "", "file that holds the agent's token (required)")
	f.StringVar(&dir, "data", "", "directory for what waits to be delivered (required)")
	f.StringVar(&roots, "roots", "", "PEM file of the roots that targets' certificates have to lead to, instead of the system's")
	f.StringVar(&echo, "echo", "", "address to answer UDP echo checks of other agents on, such as :8481; without it none are answered")
	f.StringSliceVar(&allow, "allow", nil, "range of addresses that may be measured, such as 127.0.0.0/8; "+
		"the longest prefix decides, and forbidding before allowing")
	f.StringSliceVar(&forbid, "forbid", nil, "range of addresses that may not; without either: all but "+
		"loopback, link-local, multicast and metadata addresses")
	f.BoolVar(&plain, "plain-http", false, "take http:// for a server on another machine: whoever is on the way can read the token")
	log.add(f)
	cmd.MarkFlagRequired("token-file")
	cmd.MarkFlagRequired("data")
	return cmd
}

// policyOf is what the owner of an agent lets it measure.
func policyOf(allow, forbid []string) (*instrument.Policy, error) {
	for _, list := range []struct {
		flag  string
		texts []string
	}{{"allow", allow}, {"forbid", forbid}} {
		if _, err := instrument.NewPolicy(list.texts, nil); err != nil {
			return nil, fmt.Errorf("--%s: %w", list.flag, err)
		}
	}
	return instrument.NewPolicy(allow, forbid)
}

// onThisMachine says whether a host is this machine.
func onThisMachine(host string) bool {
	addr, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && addr.Unmap().IsLoopback()
}
