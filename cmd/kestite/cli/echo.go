package cli

import (
	"context"
	"fmt"
	"net"

	"github.com/spf13/cobra"

	"kestite/instrument"
)

func echoCommand() *cobra.Command {
	var listen string
	cmd := &cobra.Command{
		Use:   "echo",
		Short: "Answer UDP echo checks, without a server",
		Long:  "Listens on a UDP port and sends back what comes (RFC 862), with times noted in the packets of Kestite's\nUDP echo checks. It never sends more than it received. kestite agent --echo does the same beside measuring.",
		Args:  exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			conn, err := listenEcho(listen)
			if err != nil {
				return &Refused{err}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "answering UDP echo checks on %s; Ctrl-C stops\n", conn.LocalAddr())
			return respondUntil(ctx, conn)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", fmt.Sprintf(":%d", instrument.EchoPort), "address to listen on")
	return cmd
}

func listenEcho(listen string) (net.PacketConn, error) {
	conn, err := net.ListenPacket("udp", listen)
	if err != nil {
		return nil, fmt.Errorf("listen for UDP echo checks on %s: %w", listen, err)
	}
	return conn, nil
}

// respondUntil answers until ctx ends.
func respondUntil(ctx context.Context, conn net.PacketConn) error {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	return instrument.Respond(conn)
}
