package cli

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

// hostsFlag is the condition over hosts of a command.
func hostsFlag(cmd *cobra.Command, into *string) {
	cmd.Flags().StringVar(into, "hosts", "", "which hosts: all, KEY=VALUE pairs, or a condition")
}

func (a *app) completeDestinations() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.DestinationList](c.ListDestinations(cmd.Context()))
		return names(l.Items, func(d contract.DestinationState) string { return d.Name })
	})
}

func (a *app) destinationCmd() *cobra.Command {
	cmd := group("destination", "Where records go: what waits for each, and how it answers")
	cmd.AddCommand(a.destinationListCmd(), a.destinationShowCmd())
	return cmd
}

// backlog is what waits for a destination, in words.
func backlog(n contract.DestinationNumbers) string {
	waits := n.OnDisk + n.InMemory
	if waits == 0 {
		return "-"
	}
	s := number(waits)
	if n.DiskBytes > 0 && n.OnDisk > 0 {
		s += ", " + size(n.DiskBytes)
	}
	if n.Oldest != nil {
		s += ", " + strings.TrimSuffix(ago(n.Oldest), " ago")
	}
	return s
}

// fullIn says when a buffer is full.
func fullIn(seconds *int64) string {
	if seconds == nil || *seconds == 0 {
		return "-"
	}
	d := time.Duration(*seconds) * time.Second
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("in %d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("in %d min", int(d.Minutes()))
	case d < 72*time.Hour:
		return fmt.Sprintf("in %d h", int(d.Hours()))
	}
	return fmt.Sprintf("in %d days", int(d.Hours()/24))
}

// troubleMark is the state of a destination in short.
func troubleMark(troubled, hosts int) string {
	switch {
	case hosts == 0:
		return "◌ no host"
	case troubled == 0:
		return "● healthy"
	}
	return fmt.Sprintf("▲ %d of %d", troubled, hosts)
}

func (a *app) destinationListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List destinations: what waits, rejects, how fast they take records", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListDestinations(cmd.Context()) },
				func(l contract.DestinationList) {
					if len(l.Items) == 0 {
						a.printf("No destination yet: define one, and load it with synaxis draft load\n")
						return
					}
					var rows [][]string
					for _, d := range l.Items {
						rows = append(rows, []string{d.Name, troubleMark(d.Troubled, d.Hosts), backlog(d.Numbers),
							fullIn(d.FullIn), number(d.Rejects), fmt.Sprintf("%.0f/s", d.Rate),
							number(d.Numbers.Acknowledged)})
					}
					a.table([]string{"destination", "hosts in trouble", "waits", "full", "rejects", "rate",
						"acknowledged"},
						rows, 2)
				},
			)
		},
	}
}

// answered are what a destination answered, the most often first.
func answered(all map[string]int64) string {
	kinds := slices.Collect(maps.Keys(all))
	slices.SortFunc(kinds, func(a, b string) int {
		if all[a] != all[b] {
			return int(all[b] - all[a])
		}
		return strings.Compare(a, b)
	})
	var parts []string
	for _, k := range kinds {
		parts = append(parts, number(all[k])+" × "+k)
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

func (a *app) destinationShowCmd() *cobra.Command {
	var every bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "A destination: backlog, rejects, answers, and the hosts that feed it",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDestinations(),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetDestination(cmd.Context(), args[0]) },
				func(d contract.DestinationDetail) { a.destination(d, every) },
			)
		},
	}
	cmd.Flags().BoolVar(&every, "every-host", false, "all hosts, not only the first 20")
	return cmd
}

// shownHosts is how many hosts a table has unless all are asked for.
const shownHosts = 20

func (a *app) destination(d contract.DestinationDetail, every bool) {
	s := d.State
	where := s.Kind
	if s.Address != nil {
		where += " to " + *s.Address
	}
	room := ""
	if s.Room != nil {
		room = size(s.Numbers.DiskBytes) + " of " + size(*s.Room) + " on all hosts"
	}
	rejects := "none"
	if s.Rejects > 0 {
		rejects = fmt.Sprintf("%s, %s: synaxis reject list %s", number(s.Rejects), size(s.RejectBytes), s.Name)
	}
	discarded := ""
	if s.Numbers.Discarded > 0 {
		discarded = number(s.Numbers.Discarded) + " records"
	}
	a.facts("destination", s.Name, "delivers", where, "hosts", troubleMark(s.Troubled, s.Hosts), "sources",
		strings.Join(s.Sources, ", "), "waits", backlog(s.Numbers), "buffers", room, "full", fullIn(s.FullIn),
		"acknowledged", fmt.Sprintf("%s, %.0f a second now", number(s.Numbers.Acknowledged), s.Rate),
		"discarded", discarded, "rejects", rejects, "answers in 5 min", answered(s.Answers))
	for _, t := range s.States {
		a.printf("\n")
		a.wrapped(fmt.Sprintf("▲ %s: ", plural(t.Hosts, "host", "hosts")), t.Reason)
		if t.Todo != nil {
			a.wrapped("  → ", *t.Todo)
		}
		a.wrapped("  ", some(t.Examples))
	}
	if len(d.Items) == 0 {
		return
	}
	var rows [][]string
	for i, h := range d.Items {
		if i == shownHosts && !every {
			break
		}
		state := "● healthy"
		switch {
		case !h.Connected:
			state = "○ offline"
		case h.Code != nil:
			state = "▲ " + *h.Code
		}
		rows = append(rows, []string{h.Host, state, backlog(h.Numbers), fullIn(h.FullIn), number(h.Rejects),
			number(h.Numbers.Acknowledged)})
	}
	a.printf("\n")
	a.table([]string{"host", "state", "waits", "full", "rejects", "acknowledged"}, rows, 2)
	if n := len(d.Items) - len(rows); n > 0 {
		a.printf("and %s: --every-host shows them\n", plural(n, "more host", "more hosts"))
	}
}

// buffers shows what waits on the disk of a host.
func (a *app) buffers(h contract.Host) {
	var rows [][]string
	for _, s := range h.Sources {
		for _, d := range s.Numbers.Destinations {
			if d.OnDisk+d.InMemory+d.Discarded > 0 {
				rows = append(rows, []string{d.Destination, s.Name, number(d.OnDisk), size(d.DiskBytes),
					number(d.InMemory),
					ago(d.Oldest), number(d.Discarded)})
			}
		}
	}
	if len(rows) > 0 {
		a.printf("\n")
		a.table([]string{"buffer of", "source", "on disk", "bytes", "in memory", "oldest read", "discarded"}, rows, 1)
	}
}

func (a *app) booksCmd() *cobra.Command {
	var hosts string
	cmd := &cobra.Command{
		Use: "books", Short: "What became of every record, by source and destination", Args: cobra.NoArgs,
		Long: `Tells what became of every record that was read, by source and destination:

  read = dropped + elsewhere + acknowledged + rejected + discarded + on disk + in memory

"elsewhere" are records that go to other destinations only. The difference is what this does not account for; it is zero,
and the exit code is 1 when it is not.`,
		Example: "  synaxis books\n  synaxis books --hosts 'labels.site == \"northpier\"'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			off := int64(0)
			p := &contract.GetBooksParams{}
			if hosts != "" {
				p.Hosts = &hosts
			}
			err := ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetBooks(cmd.Context(), p) },
				func(b contract.Books) { off = b.Off; a.books(b) },
			)
			if err == nil && off != 0 {
				return fmt.Errorf("the books do not account for %s records", number(off))
			}
			return err
		},
	}
	hostsFlag(cmd, &hosts)
	return cmd
}

func (a *app) books(b contract.Books) {
	if len(b.Items) == 0 {
		a.printf("No host has counted anything yet.\n")
		return
	}
	var rows [][]string
	last := ""
	for _, l := range b.Items {
		n, source := l.Numbers, l.Source
		if source == last {
			source = ""
		}
		last = l.Source
		rows = append(rows, []string{source, n.Destination, number(n.Read), number(n.Dropped), number(n.Elsewhere),
			number(n.Acknowledged), number(n.Refused), number(n.Discarded), number(n.OnDisk), number(n.InMemory),
			number(l.Difference)})
	}
	a.table([]string{"source", "destination", "read", "dropped", "else-\nwhere", "acknow-\nledged", "rejec-\nted",
		"discar-\nded", "on\ndisk", "in me-\nmory", "diffe-\nrence"}, rows, 1)
	for _, l := range b.Items {
		if len(l.Unbalanced) > 0 {
			a.printf("▲ %s to %s: the books do not balance on %s\n", l.Source, l.Numbers.Destination,
				some(l.Unbalanced))
		}
	}
}
