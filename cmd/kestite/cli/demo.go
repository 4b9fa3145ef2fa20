package cli

import (
	"fmt"
	"hash/fnv"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"kestite/demo"
)

func demoCommand() *cobra.Command {
	var dir, listen, at string
	var where bool
	var log logFlags
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run everything with the Skerry Line scenario",
		Args:  exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fromEnvironment(cmd.Flags()); err != nil {
				return err
			}
			logger, err := log.logger(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			binary, err := os.Executable()
			if err != nil {
				return err
			}
			if dir, err = reachable(dir); err != nil {
				return err
			}
			if where {
				fmt.Fprintln(cmd.OutOrStdout(), dir)
				return nil
			}
			o := demo.Options{Dir: dir, Listen: listen, Binary: binary, Version: Version, Out: cmd.OutOrStdout(), Log: logger}
			if at != "" {
				if o.At, err = time.Parse(time.RFC3339, at); err != nil {
					return fmt.Errorf("--at is %q: say an instant with its offset, such as 2028-02-29T10:30:00+01:00", at)
				}
			}
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			return demo.Run(ctx, o)
		},
	}
	f := cmd.Flags()
	f.StringVar(&dir, "data", ".run/demo", "directory of the demo's database, agents and logs")
	f.StringVar(&listen, "listen", "127.0.0.1:8480", "address to listen on")
	f.StringVar(&at, "at", "", "begin at another instant than now (RFC 3339); with data that was loaded before, at a later one")
	f.BoolVar(&where, "where", false, "only print the directory of the data")
	log.add(f)
	f.Lookup("log-level").DefValue = "warn"
	log.level = "warn"
	return cmd
}

// reachable returns the absolute path of dir, or of a directory below /var/tmp
// where the system user postgres, who runs the database for root, cannot get to dir.
func reachable(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil || os.Geteuid() != 0 {
		return dir, err
	}
	for parent := filepath.Dir(dir); ; parent = filepath.Dir(parent) {
		if _, err := os.Stat(parent); err == nil {
			check := exec.Command("runuser", "-u", "postgres", "--", "test", "-x", parent)
			check.Dir = "/"
			if check.Run() == nil {
				return dir, nil
			}
			h := fnv.New32a()
			h.Write([]byte(dir))
			return fmt.Sprintf("/var/tmp/kestite-%08x", h.Sum32()), nil
		}
	}
}
