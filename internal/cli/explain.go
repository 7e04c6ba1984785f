package cli

import (
	"net/http"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) numbersExplainCmd() *cobra.Command {
	var p contract.ExplainNumbersParams
	var source, destination, hosts, since string
	cmd := &cobra.Command{
		Use: "explain NUMBER", Short: "Where a number changes: since when, on which hosts, what came before it",
		Args: cobra.ExactArgs(1),
		Long: `Finds the moment at which a number goes to another height, tells on which hosts it does so and which label tells them
from the others, and what came shortly before: revisions, rollouts, configs, states.`,
		Example: "  synaxis numbers explain unparsed --source gate-scans --since 24h",
		RunE: func(cmd *cobra.Command, args []string) error {
			p.Number, p.Source, p.Destination = args[0], given(source), given(destination)
			p.Hosts, p.Since = given(hosts), given(since)
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ExplainNumbers(cmd.Context(), &p) },
				func(e contract.Explained) {
					a.wrapped("", e.Words)
					if !e.Changes {
						return
					}
					a.printf("\n")
					if len(e.Hosts) > 0 {
						a.wrapped("on      ", someOf(e.Hosts))
					}
					for _, c := range e.Common {
						a.printf("common  %s=%s: %d of %d\n", c.Label, c.Value, c.Changed, c.All)
					}
					for _, m := range e.Marks {
						a.wrapped("before  ", when(&m.At)+"  "+m.Words)
					}
				},
			)
		},
	}
	f := cmd.Flags()
	f.StringVar(&source, "source", "", "of one source")
	f.StringVar(&destination, "destination", "", "of one destination")
	hostsFlag(cmd, &hosts)
	f.StringVar(&since, "since", "24h", "how far back to look")
	return cmd
}
