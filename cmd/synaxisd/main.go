// Command synaxisd is the service behind the desk.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // zones must be the same everywhere

	"github.com/spf13/cobra"

	"synaxis/internal/service"
	"synaxis/internal/version"
)

func main() {
	o := service.Options{}
	cmd := &cobra.Command{
		Use:   "synaxisd --data DIR --listen ADDR",
		Short: "The Synaxis service: agents, API and console on one address",
		Example: `  synaxisd --data /var/lib/synaxisd --listen 127.0.0.1:7800
  synaxisd --data /var/lib/synaxisd --listen 0.0.0.0:7800 --tls-auto --tls-name desk.example`,
		Args: cobra.NoArgs, Version: version.String(), SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
			o.Started = func(address, tokenFile, pin string, first bool) {
				o.Log.Info("listening", "address", address)
				if first {
					o.Log.Info(
						"first start: the admin's API token was written; it is the key to everything",
						"file",
						tokenFile,
					)
				}
				if pin != "" {
					o.Log.Info("agents and the command line pin this fingerprint", "pin", pin)
				}
			}
			return service.Run(ctx, o)
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.Data, "data", "", "folder for everything that is kept")
	f.StringVar(&o.Listen, "listen", "127.0.0.1:7800", "address and port to listen on")
	f.StringVar(&o.TLSCert, "tls-cert", "", "certificate chain, PEM")
	f.StringVar(&o.TLSKey, "tls-key", "", "private key, PEM")
	f.BoolVar(&o.TLSAuto, "tls-auto", false, "make an authority in the data folder and print its fingerprint to pin")
	f.StringSliceVar(&o.TLSNames, "tls-name", nil, "a further name for the certificate of --tls-auto")
	f.StringVar(
		&o.Agents,
		"agents",
		"",
		"folder of the agents that are served to hosts that join (default: agents beside this program)",
	)
	f.BoolVar(
		&o.NoHostReading,
		"no-host-reading",
		false,
		"let nobody read lines of logs on hosts; they may hold what masks would take",
	)
	f.BoolVar(&o.Insecure, "insecure", false, "allow plain HTTP off loopback")
	cmd.MarkFlagsMutuallyExclusive("tls-auto", "tls-cert")
	cmd.MarkFlagsRequiredTogether("tls-cert", "tls-key")
	_ = cmd.MarkFlagRequired("data")
	if err := cmd.ExecuteContext(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "synaxisd:", err)
		os.Exit(1)
	}
}
