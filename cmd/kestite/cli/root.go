// Package cli is the command line of the kestite binary: one file a command.
package cli

import "github.com/spf13/cobra"

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
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.AddCommand(serveCommand(), agentCommand(), demoCommand(), migrateCommand(), openAPICommand(), accountCommand(), tryCommand(), echoCommand(), reportInCommand())
	return root
}
