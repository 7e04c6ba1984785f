package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

// causes prints what is wrong, a cause at a time.
func (a *app) causes(list []contract.Cause) {
	if len(list) == 0 {
		a.printf("\nNothing is wrong.\n")
		return
	}
	a.printf("\nWrong now:\n")
	for _, c := range list {
		words := c.Words
		if c.Where != "" {
			words = c.Where + ": " + words
		}
		if c.Since != nil {
			words += "; since " + when(c.Since)
		}
		a.wrapped(fmt.Sprintf("  %-11s ", stateMark(c.State)), words)
		if c.Todo != "" {
			a.wrapped("              → ", c.Todo)
		}
	}
}

func (a *app) statusCmd() *cobra.Command {
	var short, strict bool
	cmd := &cobra.Command{
		Use: "status", Short: "What is in force, what waits, what is wrong", Args: cobra.NoArgs,
		Long: `Tells what is in force, what waits and what is wrong, a line a cause, twelve at most.

With --short it is one line, and exits with 1 when something fails or is offline. With --strict it does so also for what
is degraded.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, raw, err := answer[contract.Status](c.GetStatus(cmd.Context()))
			if err != nil {
				return err
			}
			err = a.show(raw, func() {
				if short {
					a.printf("%s\n", shortStatus(s))
				} else {
					a.status(s)
				}
			})
			wrong := s.Hosts.Failing + s.Hosts.Offline
			if strict {
				wrong += s.Hosts.Degraded
			}
			if err == nil && (short || strict) && (wrong > 0 || s.Trouble != nil) {
				return coded{code: exitFailed, err: fmt.Errorf("something is wrong"), silent: true}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&short, "short", false, "one line; exits with 1 when something fails")
	cmd.Flags().BoolVar(&strict, "strict", false, "exit with 1 also for what is degraded")
	return cmd
}

// shortStatus is the state of the fleet in a line.
func shortStatus(s contract.Status) string {
	line := fmt.Sprintf("revision %d in force; hosts: %s", s.InForce, counts(s.Hosts))
	if s.Trouble != nil {
		return line + "; " + s.Trouble.Reason
	}
	if len(s.Causes) > 0 {
		c := s.Causes[0]
		line += "; " + strings.TrimPrefix(c.Where+": ", ": ") + c.Words
		if more := len(s.Causes) - 1 + s.MoreCauses; more > 0 {
			line += fmt.Sprintf("; and %s", plural(more, "more cause", "more causes"))
		}
	}
	return string(visible([]byte(line)))
}

func (a *app) whyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "why [HOST|SOURCE|DESTINATION|SENDER]", Short: "Why something is not well: causes, and what is behind them",
		Args: cobra.MaximumNArgs(1),
		Long: `Tells what is wrong with a host, source, destination or sender, or with all, by cause: since when, on which hosts, how long
records wait, when buffers are full, and what to do.`,
		Example: "  synaxis why harbour-archive\n  synaxis why gate-northpier-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			of := ""
			if len(args) > 0 {
				of = args[0]
			}
			p, kind, err := a.about(cmd.Context(), c, of)
			if err != nil {
				return err
			}
			l, raw, err := answer[contract.CauseList](c.ListCauses(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				if len(l.Items) == 0 && of != "" {
					a.printf("Nothing is wrong with %s %s.\n", kind, of)
					return
				}
				a.causes(l.Items)
				if of == "" {
					return
				}
				for _, x := range l.Items {
					if x.Hosts > 1 {
						a.wrapped("\non ", strings.Join(x.Some[:min(20, len(x.Some))], ", "))
					}
					if len(x.Sources) > 1 || x.Kind == "destination" && len(x.Sources) > 0 {
						a.wrapped("sources ", strings.Join(x.Sources, ", "))
					}
				}
			})
		},
	}
}

// about finds out what a name is the name of.
func (a *app) about(ctx context.Context, c *contract.Client, name string) (*contract.ListCausesParams, string, error) {
	p := &contract.ListCausesParams{}
	if name == "" {
		return p, "", nil
	}
	if resp, err := c.GetHost(ctx, name); err == nil {
		resp.Body.Close()
		if resp.StatusCode == http.StatusOK {
			p.Host = &name
			return p, "host", nil
		}
	}
	l, _, err := answer[contract.DefinitionList](c.ListDefinitions(ctx, &contract.ListDefinitionsParams{}))
	if err != nil {
		return nil, "", err
	}
	for _, d := range l.Items {
		switch {
		case d.Name != name:
		case d.Kind == "source":
			p.Source = &name
			return p, d.Kind, nil
		case d.Kind == "destination":
			p.Destination = &name
			return p, d.Kind, nil
		}
	}
	if s, err := a.findSenders(ctx, c, name); err == nil && len(s.Items) > 0 {
		one := s.Items[0]
		heard := "was never heard"
		if one.Last != nil {
			heard = "was heard last " + ago(one.Last)
		}
		if a.output != "json" && a.output != "yaml" {
			a.wrapped("", fmt.Sprintf("Sender %s (%s) sends to %s on %s, and %s.", senderName(one), one.Address,
				one.Source, one.Host,
				heard))
		}
		p.Source, p.Host = &one.Source, &one.Host
		return p, "what takes the records of", nil
	}
	return nil, "", usagef("there is no host, source, destination or sender %s", name)
}

func (a *app) waitCmd() *cobra.Command {
	var state, hosts string
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "wait", Short: "Wait until all hosts, or chosen ones, are in a state", Args: cobra.NoArgs,
		Long: `Waits until all hosts, or those that --hosts chooses, are in a state, and exits with 0. Exits with 6 when they are
not in time, and names some that are not.`,
		Example: "  synaxis wait --for healthy --hosts site=northpier --timeout 10m",
		RunE: func(cmd *cobra.Command, _ []string) error {
			states := []string{"healthy", "degraded", "failing", "waiting", "offline"}
			if !slices.Contains(states, state) {
				return usagef("--for: expected %s", strings.Join(states, ", "))
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			ctx, stop := context.WithTimeout(cmd.Context(), timeout)
			defer stop()
			why := "no host has joined"
			for {
				l, _, err := answer[contract.HostList](c.ListHosts(ctx,
					&contract.ListHostsParams{Hosts: given(hosts)}))
				if err != nil && ctx.Err() == nil {
					return err
				}
				if err == nil {
					left := l.Total - inState(l.States, contract.State(state))
					if l.Total > 0 && left == 0 {
						a.printf("%s %s\n", plural(l.Total, "host is", "hosts are"), state)
						return nil
					}
					if l.Total == 0 && hosts != "" {
						return usagef("no host is chosen by %s%s", hosts, strings.TrimSuffix("; "+str(l.Hint), "; "))
					}
					if left > 0 {
						why = fmt.Sprintf("%d of %s: %s", left, plural(l.Total, "host", "hosts"), someNot(l.Items,
							state))
					}
				}
				select {
				case <-ctx.Done():
					return coded{code: exitTimedOut, err: fmt.Errorf("not %s after %s: %s", state, timeout, why)}
				case <-time.After(time.Second):
				}
			}
		},
	}
	cmd.Flags().StringVar(&state, "for", "healthy", "the state: healthy, degraded, failing, waiting or offline")
	hostsFlag(cmd, &hosts)
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "how long to wait")
	return cmd
}

// inState is how many of counted hosts are in a state.
func inState(c contract.Counts, state contract.State) int {
	return map[contract.State]int{contract.Healthy: c.Healthy, contract.Degraded: c.Degraded,
		contract.Failing: c.Failing, contract.Waiting: c.Waiting, contract.Offline: c.Offline}[state]
}

// someNot names some hosts that are not in a state.
func someNot(list []contract.HostSummary, state string) string {
	var out []string
	for _, h := range list {
		if string(h.Verdict.State) != state {
			out = append(out, h.Name)
		}
	}
	return some(out)
}
