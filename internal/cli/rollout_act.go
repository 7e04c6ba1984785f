package cli

import (
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

// rolloutActCmd is a decision of a person.
func (a *app) rolloutActCmd(verb, short string) *cobra.Command {
	var reason string
	use, args := verb+" ROLLOUT", cobra.ExactArgs(1)
	switch verb {
	case "retry":
		use, args = use+" [HOST]", cobra.RangeArgs(1, 2)
	case "leave-out":
		use, args = use+" HOST", cobra.ExactArgs(2)
	}
	cmd := &cobra.Command{
		Use: use, Short: short, Args: args, ValidArgsFunction: a.completeRollouts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := rolloutArg(args[0])
			if err != nil {
				return err
			}
			body := contract.RolloutAction{Action: contract.RolloutActionAction(verb)}
			if reason != "" {
				body.Reason = &reason
			}
			if len(args) > 1 {
				body.Host = &args[1]
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ActOnRollout(cmd.Context(), id, body) },
				func(r contract.Rollout) {
					last := r.Decisions[len(r.Decisions)-1]
					a.printf("Rollout %d is %s; %s: %s\n", r.Id, r.State, last.What, last.Why)
				},
			)
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	return cmd
}

func (a *app) rolloutBackCmd() *cobra.Command {
	var reason string
	var watch, dry bool
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "back ROLLOUT", Short: "Bring the hosts that a rollout has changed back to what was in force before",
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
			if dry {
				return ask(
					a,
					func(c *contract.Client) (*http.Response, error) { return c.GetRollout(cmd.Context(), id) },
					func(r contract.Rollout) {
						if r.Back == nil {
							a.printf("Rollout %d cannot be taken back\n", id)
							return
						}
						a.printf("Goes back to revision %d on %s; %d away\n", r.Back.Revision, plural(r.Back.Hosts,
							"host", "hosts"),
							r.Back.Away)
					},
				)
			}
			body := contract.Reason{}
			if reason != "" {
				body.Reason = &reason
			}
			r, raw, err := answer[contract.Rollout](c.TakeBackRollout(cmd.Context(), id, body))
			if err != nil {
				return err
			}
			if watch {
				return a.watch(cmd.Context(), c, r.Id, timeout)
			}
			return a.show(raw, func() {
				a.printf("Rollout %d takes rollout %d back: revision %d on %s\nFollow it: synaxis rollout watch %d\n", r.Id, id,
					r.Revision, plural(len(r.Hosts), "host", "hosts"), r.Id)
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "tell what it would do")
	cmd.Flags().BoolVar(&watch, "watch", false, "follow it to its end")
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "with --watch: how long to wait")
	return cmd
}
