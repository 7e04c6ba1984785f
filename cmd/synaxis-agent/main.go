// Command synaxis-agent collects logs on one host and delivers them, as the service says.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/signal"
	"runtime"
	"syscall"
	"time"
	_ "time/tzdata" // zones must be the same on every host

	"github.com/spf13/cobra"

	"synaxis/internal/agent/control"
	"synaxis/internal/agent/run"
	"synaxis/internal/version"
)

func main() {
	var o run.Options
	cmd := &cobra.Command{
		Use:   "synaxis-agent --service URL --state DIR",
		Short: "Collects logs on this host and delivers them, as the service says",
		Long: `Joins the service with a join token, takes the config of this host from it, and collects.
The join token is needed once. It is read from SYNAXIS_JOIN_TOKEN or a file, since a command line can be read by everybody on the host.
The last good config is kept in the state folder; the agent starts from it when the service is away.`,
		Example: "  SYNAXIS_JOIN_TOKEN=TOKEN synaxis-agent --service https://desk.example:7443 --pin sha256:… " +
			"--state /var/lib/synaxis-agent",
		Args:         cobra.NoArgs,
		Version:      version.String(),
		SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			o.Version, o.JoinToken = version.String(), os.Getenv("SYNAXIS_JOIN_TOKEN")
			o.Log, o.Alone = slog.New(slog.NewTextHandler(os.Stderr, nil)), true
			a, err := run.New(o)
			if err != nil {
				return err
			}
			a.Run(ctx)
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.Service, "service", "", "address of the service")
	f.StringVar(&o.Pin, "pin", "", "fingerprint of the service's authority, sha256:…")
	f.StringVar(&o.StateDir, "state", "", "folder for positions, the last good config and the credential")
	f.StringVar(&o.Name, "name", "", "name of this host (default: the system's)")
	f.StringVar(
		&o.HostID,
		"host-id",
		"",
		"id of this machine, by which copies of it are told apart (default: made from its machine id)",
	)
	f.DurationVar(&o.Report, "report", 30*time.Second, "how often to report numbers")
	f.StringVar(&o.TokenFile, "join-token-file", "", "file that holds the join token; removed once it was used")
	f.BoolVar(
		&o.Reread,
		"reread",
		false,
		"when the positions are damaged: read every file from its start; nothing is lost, and what was delivered "+
			"comes twice",
	)
	cmd.AddCommand(needsCmd())
	_ = cmd.MarkFlagRequired("service")
	_ = cmd.MarkFlagRequired("state")
	if err := cmd.ExecuteContext(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "synaxis-agent:", err)
		os.Exit(1)
	}
}

// needsCmd is for the script that installs the agent.
func needsCmd() *cobra.Command {
	var o control.Options
	var name string
	cmd := &cobra.Command{
		Use: "needs --service URL", Short: "Ask the service what this host would need, before it joins",
		Args: cobra.NoArgs,
		Long: "Prints a line for each need: low-ports=WHY, reads-tmp=WHY, writes=FOLDER, cpu=SHARE, memory=BYTES. " +
			"The join token is read from SYNAXIS_JOIN_TOKEN.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.JoinToken = os.Getenv("SYNAXIS_JOIN_TOKEN")
			if name == "" {
				var err error
				if name, err = os.Hostname(); err != nil {
					return err
				}
			}
			text, err := control.Needs(
				cmd.Context(),
				o,
				url.Values{"name": {name}, "os": {runtime.GOOS}, "arch": {runtime.GOARCH}},
			)
			if err == nil {
				_, err = os.Stdout.WriteString(text)
			}
			return err
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.Service, "service", "", "address of the service")
	f.StringVar(&o.Pin, "pin", "", "fingerprint of the service's authority, sha256:…")
	f.StringVar(&name, "name", "", "name of this host (default: the system's)")
	_ = cmd.MarkFlagRequired("service")
	return cmd
}
