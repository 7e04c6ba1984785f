package cli

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) costCmd() *cobra.Command {
	var since string
	var draft int
	cmd := &cobra.Command{
		Use: "cost", Short: "What sources cost destinations a day, before and after their steps, against budgets",
		Args: cobra.NoArgs,
		Long: `Makes a day from what was measured in a span: for each source what its hosts read, and what each destination gets of it
after the steps, before compression; in money where a destination has a price. Destinations are held against their
budgets, and the sources of a label against those of its label-key. With --draft the last trial of a draft tells what it
would make of that.`,
		Example: "  synaxis cost --since 7d\n  synaxis cost --draft 3",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p := &contract.GetCostParams{Since: given(since)}
			if draft > 0 {
				p.Draft = &draft
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetCost(cmd.Context(), p) },
				func(c contract.Cost) { a.cost(c) },
			)
		},
	}
	cmd.Flags().StringVar(&since, "since", "24h", "from which span a day is made")
	cmd.Flags().IntVar(&draft, "draft", 0, "a draft that was tried")
	_ = cmd.RegisterFlagCompletionFunc("draft", a.completeDrafts())
	return cmd
}

func (a *app) cost(c contract.Cost) {
	if len(c.Sources) == 0 {
		a.printf("Nothing was counted in this span.\n")
		return
	}
	a.printf("A day, made from %s of what was measured:\n\n",
		(time.Duration(c.Seconds) * time.Second).Round(time.Second))
	forecast := c.Trial != nil
	head := []string{"source", "read", "destination", "sent"}
	if forecast {
		head = append(head, "by the draft")
	}
	head = append(head, "money")
	var rows [][]string
	for _, s := range c.Sources {
		row := []string{s.Source, size(int64(s.Read))}
		if len(s.To) == 0 {
			row = append(row, "–", "", "")
			rows = append(rows, row[:min(len(row), len(head))])
		}
		for i, t := range s.To {
			if i > 0 {
				row = []string{"", ""}
			}
			row = append(row, t.Destination, size(int64(t.Sent)))
			if forecast {
				then := ""
				if t.Then != nil {
					then = size(int64(*t.Then))
				}
				row = append(row, then)
			}
			rows = append(rows, append(row, money(t.Money, t.Currency)))
		}
	}
	for i := range rows {
		for len(rows[i]) < len(head) {
			rows[i] = append(rows[i], "")
		}
	}
	a.table(head, rows, 0)
	a.printf("\n")
	a.costSums("destination", c.Destinations, forecast)
	for _, l := range c.Labels {
		a.printf("\n")
		a.costSums("label "+l.Key, l.Values, forecast)
	}
}

func (a *app) costSums(what string, list []contract.CostSum, forecast bool) {
	head := []string{what, "sent", "budget", "money"}
	if forecast {
		head = []string{what, "sent", "by the draft", "budget", "money"}
	}
	var rows [][]string
	for _, s := range list {
		name := s.Name
		if name == "" {
			name = "(without it)"
		}
		row := []string{name, size(int64(s.Sent))}
		if forecast {
			then := ""
			if s.Then != nil {
				then = size(int64(*s.Then))
			}
			row = append(row, then)
		}
		budget := ""
		if s.Budget != nil {
			budget = size(int64(*s.Budget))
			if s.Exceeds {
				budget = "▲ over " + budget
			}
		}
		rows = append(rows, append(row, budget, money(s.Money, s.Currency)))
	}
	a.table(head, rows, 0)
}

// money writes what something costs; "" for nothing.
func money(amount float64, currency *string) string {
	if amount == 0 || currency == nil {
		return ""
	}
	return strings.TrimSpace(fmt.Sprintf("%.2f %s", amount, *currency))
}
