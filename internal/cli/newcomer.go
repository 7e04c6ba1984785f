package cli

import (
	"github.com/spf13/cobra"
	"net/http"

	"synaxis/internal/contract"
)

func (a *app) newcomerCmd() *cobra.Command {
	cmd := group("newcomer", "Agents that carry the identity of another host and wait for approval")
	list := &cobra.Command{
		Use: "list", Short: "List those that wait", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListNewcomers(cmd.Context()) },
				func(l contract.NewcomerList) {
					if len(l.Items) == 0 {
						a.printf("No newcomer waits.\n")
						return
					}
					var rows [][]string
					for _, n := range l.Items {
						rows = append(rows, []string{n.Id, n.Host, str(n.Name), n.Origin, ago(&n.Since), n.Why})
					}
					a.table([]string{"id", "host", "says it is", "from", "since", "why"}, rows, 5)
					a.printf("\nIt collects nothing until: synaxis newcomer approve ID NAME, or deny ID\n")
				},
			)
		},
	}
	var set []string
	ids := a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.NewcomerList](c.ListNewcomers(cmd.Context()))
		return names(l.Items, func(n contract.Newcomer) string { return n.Id + "\t" + n.Host })
	})
	approve := &cobra.Command{
		Use: "approve ID NAME", Short: "Let it join as a host of its own", Args: cobra.ExactArgs(2),
		ValidArgsFunction: ids,
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := pairs(set)
			if err != nil {
				return err
			}
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.ApproveNewcomer(cmd.Context(), args[0], contract.Approval{Name: args[1], Labels: &m})
			}, func(h contract.Host) {
				a.printf("%s may join as %s; it takes its credential when it calls next\n", args[0], h.Name)
			})
		},
	}
	approve.Flags().StringArrayVar(&set, "label", nil, "KEY=VALUE (repeated)")
	deny := &cobra.Command{
		Use: "deny ID", Short: "Turn it away", Args: cobra.ExactArgs(1), ValidArgsFunction: ids,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.DenyNewcomer(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.showValue(
				map[string]string{"id": args[0], "state": "denied"},
				func() { a.printf("%s is turned away\n", args[0]) },
			)
		},
	}
	cmd.AddCommand(list, approve, deny)
	return cmd
}
