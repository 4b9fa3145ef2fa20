package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"kestite/agent"
	"kestite/agent/store"
)

func agentCommand() *cobra.Command {
	var server, tokenFile, dir, roots, echo string
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
				if err == nil && u.Host != "" && (u.Scheme == "http" || u.Scheme == "https") {
					continue
				}
				return fmt.Errorf("--server %q is no URL; write it as https://kestite.example.org, several separated by commas", one)
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
			a := &agent.Agent{Client: agent.NewClient(server, string(token)), Version: Version, Log: logger}
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
	log.add(f)
	cmd.MarkFlagRequired("token-file")
	cmd.MarkFlagRequired("data")
	return cmd
}
