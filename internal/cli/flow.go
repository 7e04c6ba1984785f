package cli

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) flowCmd() *cobra.Command {
	var since string
	var sites bool
	cmd := &cobra.Command{
		Use: "flow", Short: "What went from sites through sources to destinations", Args: cobra.NoArgs,
		Long: `Tells for each source and destination how many records and bytes went that way in a span, the most first, with how the
source and the destination are. --by-site parts it by the label site of the hosts.`,
		Example: "  synaxis flow --since 24h",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.GetFlow(cmd.Context(), &contract.GetFlowParams{Since: given(since)})
				},
				func(f contract.Flow) { a.flow(f, sites) },
			)
		},
	}
	cmd.Flags().StringVar(&since, "since", "1h", "how far back")
	cmd.Flags().BoolVar(&sites, "by-site", false, "a line for each site too")
	return cmd
}

func (a *app) flow(f contract.Flow, sites bool) {
	type key struct{ site, source, destination string }
	sums := map[key]contract.FlowEdge{}
	for _, e := range f.Edges {
		k := key{e.Site, e.Source, e.Destination}
		if !sites {
			k.site = ""
		}
		s := sums[k]
		s.Records, s.Bytes, s.Dropped, s.Rejected = s.Records+e.Records, s.Bytes+e.Bytes, s.Dropped+e.Dropped,
			s.Rejected+e.Rejected
		sums[k] = s
	}
	var keys []key
	for k := range sums {
		keys = append(keys, k)
	}
	if len(keys) == 0 {
		a.printf("Nothing was counted in this span.\n")
		return
	}
	read := func(k key) int64 { return sums[key{k.site, k.source, ""}].Records }
	slices.SortFunc(keys, func(x, y key) int {
		return cmp.Or(cmp.Compare(read(y), read(x)), strings.Compare(x.source, y.source), strings.Compare(x.site,
			y.site),
			strings.Compare(x.destination, y.destination))
	})
	marks := map[string]string{}
	for _, n := range f.Nodes {
		marks[string(n.Kind)+n.Name] = strings.Fields(stateMark(n.State))[0]
	}
	var rows [][]string
	for _, k := range keys {
		e := sums[k]
		row := []string{k.site, marks["source"+k.source] + " " + k.source, "", number(e.Records), size(e.Bytes),
			zero(e.Dropped)}
		if k.destination != "" {
			row = []string{"", "", "→ " + marks["destination"+k.destination] + " " + k.destination, number(e.Records),
				size(e.Bytes),
				zero(e.Rejected)}
		}
		if !sites {
			row = row[1:]
		}
		rows = append(rows, row)
	}
	head := []string{"site", "source", "destination", "records", "bytes", "dropped or refused"}
	if !sites {
		head = head[1:]
	}
	a.table(head, rows, len(head)-4)
}

// zero writes a number, and nothing for none.
func zero(n int64) string {
	if n == 0 {
		return ""
	}
	return number(n)
}
