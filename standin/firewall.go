package standin

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// firewall keeps hosts from answering ping: the kernel answers for all of
// 127.0.0.0/8, so an nftables table of our own drops the requests on their way
// in. It needs root, or sudo without a question.
type firewall struct{}

const table = "kestite_standin"

// silence makes exactly these addresses silent.
func (firewall) silence(ctx context.Context, addrs []string) error {
	// Adding before deleting makes the deletion work whether the table was there or not.
	script := fmt.Sprintf("add table inet %s\ndelete table inet %s\n", table, table)
	if len(addrs) > 0 {
		script += fmt.Sprintf(`table inet %s {
	chain input {
		type filter hook input priority -10;
		ip daddr { %s } icmp type echo-request drop
	}
}
`, table, strings.Join(addrs, ", "))
	}
	argv := []string{"nft", "-f", "-"}
	if os.Geteuid() != 0 {
		argv = append([]string{"sudo", "-n"}, argv...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("the firewall rule could not be set (it needs the package nftables, and root or sudo without a question): %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}
