package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

// rolloutOrder is the order in which states of hosts are told.
var rolloutOrder = []string{
	"refused",
	"timed out",
	"waiting",
	"offered",
	"applying",
	"applied",
	"deferred",
	"left out",
	"confirmed",
}

func stateCounts(m map[string]int) string {
	var parts []string
	for _, s := range rolloutOrder {
		if m[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", m[s], s))
		}
	}
	if len(parts) == 0 {
		return "no hosts"
	}
	return strings.Join(parts, ", ")
}

func (a *app) rolloutCmd() *cobra.Command {
	cmd := group("rollout", "Bring hosts to a revision")
	cmd.AddCommand(a.rolloutStartCmd(), a.rolloutShowCmd(), a.rolloutWatchCmd(), a.rolloutListCmd())
	return cmd
}

func (a *app) rolloutStartCmd() *cobra.Command {
	var revision int
	var watch bool
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "start", Short: "Start a rollout of the newest revision, or of an earlier one to go back",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			body := contract.NewRollout{}
			if revision > 0 {
				body.Revision = &revision
			}
			r, raw, err := answer[contract.Rollout](c.StartRollout(cmd.Context(), body))
			if err != nil {
				return err
			}
			if watch {
				return a.watch(cmd.Context(), c, r.Id, timeout)
			}
			return a.show(raw, func() {
				a.printf(
					"Rollout %d of revision %d to %s: %s\nFollow it: synaxis rollout watch %d\n",
					r.Id,
					r.Revision,
					plural(len(r.Hosts), "host", "hosts"),
					stateCounts(r.Counts),
					r.Id,
				)
			})
		},
	}
	cmd.Flags().IntVar(&revision, "revision", 0, "a revision (default: the newest)")
	cmd.Flags().BoolVar(&watch, "watch", false, "follow it to its end")
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "with --watch: how long to wait")
	return cmd
}

func rolloutArg(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, usagef("%q is not the number of a rollout; synaxis rollout list shows them", s)
	}
	return n, nil
}

func (a *app) completeRollouts() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.RolloutList](c.ListRollouts(cmd.Context()))
		return names(l.Items, func(r contract.RolloutSummary) string {
			return fmt.Sprintf("%d\trevision %d, %s", r.Id, r.Revision, r.State)
		})
	})
}

func (a *app) rolloutShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show ROLLOUT", Short: "One rollout with the state of every host", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeRollouts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := rolloutArg(args[0])
			if err != nil {
				return err
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetRollout(cmd.Context(), id) },
				func(r contract.Rollout) { a.rollout(r) },
			)
		},
	}
}

func (a *app) rollout(r contract.Rollout) {
	ended := "-"
	if r.Ended != nil {
		ended = fmt.Sprintf("%s, after %s", when(r.Ended), r.Ended.Sub(r.Started).Round(100*time.Millisecond))
	}
	a.facts(
		"rollout",
		fmt.Sprintf("%d of revision %d", r.Id, r.Revision),
		"state",
		string(r.State)+": "+stateCounts(r.Counts),
		"wave",
		fmt.Sprintf("%d of %d", r.Wave, r.Waves),
		"started",
		when(&r.Started)+" by "+r.Author,
		"ended",
		ended,
	)
	a.printf("\n")
	var rows [][]string
	for _, h := range r.Hosts {
		rows = append(rows, []string{h.Host, h.State, ago(&h.Since), str(h.Reason)})
	}
	a.table([]string{"host", "state", "since", "reason"}, rows, 3)
	a.printf("\n")
	for _, d := range r.Decisions {
		a.printf("%s  %s: %s\n", when(&d.At), d.What, d.Why)
	}
}

func (a *app) rolloutWatchCmd() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "watch ROLLOUT", Short: "Follow a rollout to its end; exits with 4 when it is stopped",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeRollouts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := rolloutArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.watch(cmd.Context(), c, id, timeout)
		},
	}
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "how long to wait")
	return cmd
}

// watch follows a rollout. As JSON and YAML only the end is printed.
func (a *app) watch(ctx context.Context, c *contract.Client, id int, timeout time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	last := ""
	for {
		r, raw, err := answer[contract.Rollout](c.GetRollout(ctx, id))
		if err != nil {
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return coded{code: exitTimedOut, err: fmt.Errorf("rollout %d has not ended in %s", id, timeout)}
			}
			return err
		}
		line := fmt.Sprintf("rollout %d of revision %d: %s", r.Id, r.Revision, stateCounts(r.Counts))
		if line != last && a.output == "table" {
			a.printf("%s  %s\n", time.Now().Format("15:04:05"), line)
			last = line
		}
		if r.State != contract.RolloutStateRunning {
			if a.output != "table" {
				if err := a.show(raw, nil); err != nil {
					return err
				}
			} else {
				a.printf("%s\n", strings.ToUpper(string(r.State[:1]))+string(r.State[1:]))
			}
			if r.State == contract.RolloutStateStopped {
				for _, h := range r.Hosts {
					if a.output == "table" && slices.Contains([]string{"refused", "timed out"}, h.State) {
						a.printf("  %s %s: %s\n", h.Host, h.State, str(h.Reason))
					}
				}
				return coded{code: exitStopped, err: fmt.Errorf("rollout %d is stopped", id), silent: true}
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return coded{
				code: exitTimedOut,
				err:  fmt.Errorf("rollout %d has not ended in %s; it goes on", id, timeout),
			}
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a *app) rolloutListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List rollouts, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListRollouts(cmd.Context()) },
				func(l contract.RolloutList) {
					if len(l.Items) == 0 {
						a.printf("No rollout yet. Publish a draft first, then: synaxis rollout start\n")
						return
					}
					var rows [][]string
					for _, r := range l.Items {
						rows = append(
							rows,
							[]string{
								fmt.Sprint(r.Id),
								fmt.Sprint(r.Revision),
								string(r.State),
								when(&r.Started),
								r.Author,
								stateCounts(r.Counts),
							},
						)
					}
					a.table([]string{"rollout", "revision", "state", "started", "by", "hosts"}, rows, 5)
				},
			)
		},
	}
}
