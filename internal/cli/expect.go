package cli

import (
	"net/http"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) expectCmd() *cobra.Command {
	cmd := group("expect", "What is normal for a source, learned from what it read")
	cmd.AddCommand(&cobra.Command{
		Use: "suggest SOURCE", Short: "Write the expectation that the last four weeks of a source come to",
		Args: cobra.ExactArgs(1),
		Long: `Learns from the last four weeks how many records of a source come in each hour of the week, and writes the key expect
that this comes to, to be put into its definition. Each hour of the day must have been seen in two weeks.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetUsual(cmd.Context(), args[0]) },
				func(u contract.Usual) {
					a.wrapped("# ", u.Words)
					if u.Suggestion != nil {
						a.printf("%s\n", *u.Suggestion)
						return
					}
					a.wrapped("# ", "no suggestion yet: "+str(u.Why))
				},
			)
		},
	})
	return cmd
}
