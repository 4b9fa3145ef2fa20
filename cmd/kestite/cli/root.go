// Package cli is the command line of the kestite binary: one file a command.
package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// Exit statuses.
const (
	statusDone = iota
	statusFailed
	statusRefused
)

// Run runs a command line, prints what goes wrong, and returns the exit status: 0
// done, 1 something went wrong, 2 refused input, such as a flag that there is not.
func Run(args []string, in io.Reader, out, say io.Writer) int {
	out, say = &terminal{Writer: out}, &terminal{Writer: say}
	root := Root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(say)
	err := root.Execute()
	var quiet *Quiet
	var refused *Refused
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &quiet):
		return statusFailed
	case strings.HasPrefix(err.Error(), "unknown command"):
		err = &Refused{err}
	}
	fmt.Fprintln(say, "kestite:", err)
	if !errors.As(err, &refused) {
		return statusFailed
	}
	if slices.Contains(args, tryCommand().Name()) && (slices.Contains(args, "--json") || slices.Contains(args, "--json=true")) {
		// Whoever reads JSON gets it then too.
		json.NewEncoder(out).Encode(map[string]string{"refused": refused.Err.Error()})
	}
	return statusRefused
}

// exactly refuses another number of arguments than those named.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return &Refused{fmt.Errorf("%d arguments are given, and needed are %d: %s", len(args), len(names), strings.Join(append([]string{cmd.CommandPath()}, names...), " "))}
		}
		return nil
	}
}

// Refused is input that was read and found wrong; the exit status is 2.
type Refused struct{ Err error }

func (r *Refused) Error() string { return "refused: " + r.Err.Error() }

// Unwrap returns what was wrong.
func (r *Refused) Unwrap() error { return r.Err }

// Quiet is an outcome that was printed already; only the exit status, 1, is still to tell it.
type Quiet struct{ Err error }

func (q *Quiet) Error() string { return q.Err.Error() }

// Root returns the command tree.
func Root() *cobra.Command {
	root := &cobra.Command{
		Use:           "kestite",
		Short:         "Measure services, account for every millisecond, publish the report",
		Version:       Version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &Refused{err} })
	root.AddCommand(serveCommand(), agentCommand(), demoCommand(), migrateCommand(), openAPICommand(), accountCommand(),
		tryCommand(), echoCommand(), reportInCommand(), peopleCommand(), keysCommand(), publishCommand(), verifyCommand())
	return root
}
