package cli

import (
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) unclaimedCmd() *cobra.Command {
	var hosts, since string
	cmd := &cobra.Command{
		Use: "unclaimed [SOURCE]", Short: "What no format read and what no route took, with examples",
		Args: cobra.MaximumNArgs(1),
		Long: `Lists for each source how many of its records its format did not read, and how many no entry of send took, with examples:
the newest of each shape, without private data. The hosts are asked for them, those with most first.`,
		Example: "  synaxis unclaimed\n  synaxis unclaimed kiosk-sales --hosts site=northpier --since 6h",
		RunE: func(cmd *cobra.Command, args []string) error {
			p := &contract.ListUnclaimedParams{Hosts: given(hosts), Since: given(since)}
			if len(args) > 0 {
				p.Source = &args[0]
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListUnclaimed(cmd.Context(), p) },
				func(l contract.UnclaimedList) { a.unclaimed(l) },
			)
		},
	}
	hostsFlag(cmd, &hosts)
	cmd.Flags().StringVar(&since, "since", "24h", "how far back it is counted")
	return cmd
}

func (a *app) unclaimed(l contract.UnclaimedList) {
	if len(l.Items) == 0 {
		a.printf("Nothing. Every record was read by its format and taken by a route.\n")
	}
	for i, u := range l.Items {
		if i > 0 {
			a.printf("\n")
		}
		what := "not read by its format"
		if u.Reason == contract.NoRoute {
			what = "taken by no route"
		}
		a.printf("▲ %s: %s %s, %s\n", u.Source, plural(int(u.Records), "record", "records"), what, fmt.Sprintf("%.1f %%", 100*u.Share))
		for _, e := range u.Examples {
			where := e.Host
			if e.Hosts > 1 {
				where += " and " + plural(e.Hosts-1, "other", "others")
			}
			a.printf("    %s  %s\n      %s\n", when(&e.At), where, e.Text)
		}
		if len(u.Examples) == 0 {
			a.printf("    no example is left: agents keep them until they restart\n")
		}
	}
	for _, s := range l.Silent {
		a.printf("▲ %s could not be asked: %s\n", s.Host, s.Reason)
	}
	if l.More != nil {
		a.printf("%s not asked for examples; choose them with --hosts\n", plural(*l.More, "more host was", "more hosts were"))
	}
}
