// Command synaxis-demo runs a whole made-up fleet on loopback: the service, the hosts of a ferry line with real
// agents, programs that write logs, and receivers that count.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
	_ "time/tzdata" // zones must be the same everywhere

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"synaxis/internal/fleetsim"
	"synaxis/internal/version"
)

func main() {
	var dir, listen string
	var once, verbose bool
	var records int
	cmd := &cobra.Command{
		Use:   "synaxis-demo",
		Short: "A whole made-up ferry line on loopback: service, agents, log writers, receivers",
		Long: `Starts the service, a dozen and more hosts with real agents, programs that write logs, and receivers that count;
loads examples/ferry-line, rolls it out, and prints a link to the console. It runs until Ctrl-C.

With --once it tells the whole story and ends: it exits with 0 only when for every host the records that were written,
those that the service says were acknowledged, and those that arrived at the receivers are the same number.`,
		Args: cobra.NoArgs, Version: version.String(), SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			log := slog.New(slog.DiscardHandler)
			if verbose {
				log = slog.New(slog.NewTextHandler(os.Stderr, nil))
			}
			if dir == "" {
				tmp, err := os.MkdirTemp("", "synaxis-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(tmp)
				dir = tmp
			}
			if once {
				listen = "127.0.0.1:0"
			}
			d, err := fleetsim.Start(ctx, fleetsim.Options{Dir: dir, Listen: listen, Log: log, Out: os.Stdout})
			if err != nil {
				return err
			}
			defer d.Close()
			if once {
				return tell(ctx, d, records)
			}
			link, err := d.SignInLink(ctx)
			if err != nil {
				return err
			}
			token, err := d.Token()
			if err != nil {
				return err
			}
			fmt.Printf(
				"\nConsole (signs in once):  %s\nCommand line:             export SYNAXIS_URL=%s "+
					"SYNAXIS_TOKEN=%s\nEverything is in %s. Ctrl-C ends the demo.\n",
				link,
				d.URL(),
				token,
				dir,
			)
			d.Live(ctx)
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&dir, "dir", "", "folder for everything, kept afterwards (default: a temporary one)")
	f.StringVar(&listen, "listen", "127.0.0.1:7800", "address of the service")
	f.BoolVar(&once, "once", false, "tell the whole story, print a table and end")
	f.IntVar(&records, "records", 400, "with --once: records for each log")
	f.BoolVar(&verbose, "verbose", false, "show what service and agents log")
	cmd.AddCommand(simulateCmd(), lookCmd(), rehearseCmd())
	if err := cmd.ExecuteContext(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "synaxis-demo:", err)
		os.Exit(1)
	}
}

// rehearseCmd tells how a change hurts nobody.
func rehearseCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "rehearse",
		Short: "A trial, a preflight, a bad revision that is taken back by itself, and a vessel that catches up",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			dir, err := os.MkdirTemp("", "synaxis-demo-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			d, err := fleetsim.Start(ctx, fleetsim.Options{Dir: dir, Listen: "127.0.0.1:0",
				Log: slog.New(slog.DiscardHandler), Out: os.Stdout})
			if err != nil {
				return err
			}
			defer d.Close()
			_, err = d.Rehearse(ctx)
			return err
		},
	}
}

// simulateCmd lets a large fleet of light hosts go through all that a rollout may meet.
func simulateCmd() *cobra.Command {
	var o fleetsim.SimulationOptions
	cmd := &cobra.Command{
		Use:   "simulate",
		Short: "A large fleet with real connections and no data path, and the built service in a process of its own",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			self, err := os.Executable()
			if err != nil {
				return err
			}
			o.Bin, o.Out = filepath.Dir(self), os.Stdout
			missed := 0
			err = fleetsim.Simulate(ctx, o, func(m fleetsim.Measure) {
				mark := "●"
				if !m.Met {
					mark = "✖"
					missed++
				}
				fmt.Printf("%s %-44s aim: %-62s seen: %s\n", mark, m.What, m.Aim, m.Seen)
			})
			if err == nil && missed > 0 {
				err = fmt.Errorf("%d aims are missed", missed)
			}
			return err
		},
	}
	cmd.Flags().IntVar(&o.Hosts, "hosts", 10_000, "how many hosts")
	cmd.Flags().IntVar(&o.Kills, "kills", 20, "in how many rollouts the service is killed")
	cmd.Flags().DurationVar(&o.Report, "report", 30*time.Second, "how often hosts report")
	cmd.Flags().DurationVar(&o.Rest, "rest", time.Minute, "how long the fleet is watched at rest")
	return cmd
}

// lookCmd times answers of the service, for a simulation.
func lookCmd() *cobra.Command {
	return &cobra.Command{
		Use:    "look ADDRESS...",
		Short:  "Ask for addresses again and again, and tell how many microseconds each answer took",
		Hidden: true,
		Args:   cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return fleetsim.Look(ctx, args, os.Stdout)
		},
	}
}

// tell runs the story and prints its table.
func tell(ctx context.Context, d *fleetsim.Demo, records int) error {
	rows, err := d.Once(ctx, records)
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	style := table.StyleLight
	style.Options = table.Options{SeparateFooter: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	t.AppendHeader(table.Row{"host", "sources", "written", "dropped", "acknowledged", "received", "masked", "state"})
	var sum fleetsim.Row
	bad := 0
	for _, r := range rows {
		state := r.State
		if !r.Agrees() {
			state += "  ✖ the numbers differ"
			bad++
		}
		t.AppendRow(table.Row{r.Host, r.Sources, r.Written, r.Dropped, r.Acknowledged, r.Received, r.Masked, state})
		sum.Written += r.Written
		sum.Dropped += r.Dropped
		sum.Masked += r.Masked
		sum.Acknowledged += r.Acknowledged
		sum.Received += r.Received
		sum.Duplicates += r.Duplicates
	}
	t.AppendFooter(table.Row{"all", "", sum.Written, sum.Dropped, sum.Acknowledged, sum.Received, sum.Masked, ""})
	t.Render()
	if bad > 0 {
		return fmt.Errorf("the numbers of %d hosts differ", bad)
	}
	if err == nil && len(rows) > 0 {
		fmt.Printf(
			"What was written was dropped by a rule or acknowledged, and that is what was received, %d twice.\n",
			sum.Duplicates,
		)
		off, known, berr := d.Books(ctx)
		if berr != nil {
			return berr
		}
		if off != 0 || sum.Duplicates != 0 {
			return fmt.Errorf("the books do not account for %d records, and %d were received twice", off,
				sum.Duplicates)
		}
		fmt.Printf("The books of every source and destination balance. %d records came again, since answers were lost, "+
			"and were known by their ids.\n", known)
	}
	private, leaks := d.Private()
	if len(leaks) > 0 {
		return fmt.Errorf("private data has left its host %d times, such as %q", len(leaks), leaks[0])
	}
	if err == nil && private == 0 {
		err = fmt.Errorf("no private data was written, so that nothing is proven")
	}
	if err == nil {
		fmt.Printf("%d pieces of private data were written on the hosts; none arrived at a receiver.\n", private)
	}
	return err
}
