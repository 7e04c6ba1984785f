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

func verdictLine(v contract.Verdict) string {
	s := stateMark(v.State)
	if v.Reason != nil {
		s += " · " + *v.Reason
	}
	return s
}

func counts(c contract.Counts) string {
	var parts []string
	for _, p := range []struct {
		n    int
		word string
	}{{c.Failing, "failing"}, {c.Offline, "offline"}, {c.Degraded, "degraded"}, {c.Waiting, "waiting"}, {c.Healthy,
		"healthy"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

func revisionName(n int) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprintf("revision %d", n)
}

func (a *app) hostCmd() *cobra.Command {
	cmd := group("host", "The hosts of the fleet")
	cmd.AddCommand(
		a.hostListCmd(),
		a.hostShowCmd(),
		a.hostConfigCmd(),
		a.hostExplainCmd(),
		a.hostLinesCmd(),
		a.hostUncollectedCmd(),
		a.hostImportCmd(),
		a.hostExportCmd(),
		a.hostRetireCmd(),
		a.hostHistoryCmd(),
		a.hostLetGoCmd(),
		a.hostEditCmd("label [HOST] KEY=VALUE... [KEY-...]", "Set labels, or remove them with KEY-", "labels"),
		a.hostEditCmd(
			"set [HOST] NAME=VALUE... [NAME-...]",
			"Set settings of a host, or remove them with NAME-",
			"settings",
		),
	)
	return cmd
}

func (a *app) completeHosts() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		limit := 1000
		l, _, _ := answer[contract.HostList](c.ListHosts(cmd.Context(), &contract.ListHostsParams{Limit: &limit}))
		return names(l.Items, func(h contract.HostSummary) string { return h.Name })
	})
}

// worthSaying is how long a record must have waited to be told of.
const worthSaying = 10 * time.Second

// maxPage is the largest page of a list.
const maxPage = 1000

// hostOrders are by what hosts can be ordered.
var hostOrders = []string{"name", "state", "revision", "read", "acknowledged", "lastRecord", "lastSeen"}

func (a *app) hostListCmd() *cobra.Command {
	var label []string
	var retired bool
	var reverse bool
	var state, q, after, hosts, sort string
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List hosts with their state", Args: cobra.NoArgs,
		Long: `Lists hosts, ordered by name or as --sort says. A table has the first 100, or as many as --limit says; -o json and -o yaml have all of
them, unless --limit is given.`,
		Example: "  synaxis host list --label site=northpier --state failing\n  synaxis host list --hosts " +
			"'labels.role == \"gate\" && observed.arch == \"arm64\"'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			every := a.output != "table" && !cmd.Flags().Changed("limit") && after == ""
			if every {
				limit = maxPage
			}
			p := &contract.ListHostsParams{Limit: &limit}
			if sort != "" {
				by := contract.ListHostsParamsSort(sort)
				if !by.Valid() {
					return usagef("--sort %s: expected %s", sort, strings.Join(hostOrders, ", "))
				}
				p.Sort = &by
			}
			if reverse {
				p.Reverse = &reverse
			}
			if len(label) > 0 {
				p.Label = &label
			}
			if state != "" {
				s := contract.State(state)
				if !s.Valid() {
					return usagef("--state %s: expected healthy, degraded, failing, waiting or offline", state)
				}
				p.State = &s
			}
			if q != "" {
				p.Q = &q
			}
			if hosts != "" {
				p.Hosts = &hosts
			}
			if retired {
				p.Retired = &retired
			}
			if after != "" {
				p.After = &after
			}
			l, raw, err := answer[contract.HostList](c.ListHosts(cmd.Context(), p))
			if err != nil {
				return err
			}
			if every && l.Next != nil {
				for l.Next != nil {
					p.After = l.Next
					more, _, err := answer[contract.HostList](c.ListHosts(cmd.Context(), p))
					if err != nil {
						return err
					}
					l.Items, l.Next = append(l.Items, more.Items...), more.Next
				}
				return a.showValue(l, func() {})
			}
			return a.show(raw, func() {
				if len(l.Items) == 0 && retired {
					a.printf("No host is retired.\n")
					return
				}
				if len(l.Items) == 0 {
					if l.Hint != nil {
						a.printf("No host fits: %s\n", *l.Hint)
						return
					}
					a.printf("No host fits, or none has joined yet: synaxis join-token create\n")
					return
				}
				if l.Hint != nil {
					fmt.Fprintf(a.errOut, "Note: %s\n", *l.Hint)
				}
				var rows [][]string
				for _, h := range l.Items {
					rev := fmt.Sprint(h.Revision)
					if h.Revision == 0 {
						rev = "-"
					}
					if h.Pending != nil {
						rev += " +" + *h.Pending
					}
					if h.Pinned != nil {
						rev += " pinned"
					}
					rows = append(
						rows,
						[]string{
							h.Name,
							stateMark(h.Verdict.State),
							rev,
							number(h.Read),
							number(h.Acknowledged),
							ago(h.LastRecord),
							labels(h.Labels),
						},
					)
				}
				a.table([]string{"host", "state", "rev", "read", "acknowledged", "last record", "labels"}, rows, 6)
				a.printf("\n%s\n", counts(l.States))
				if l.Next != nil {
					a.printf(
						"%s are shown of %s: --limit, or go on with --after %s\n",
						number(int64(len(l.Items))),
						number(int64(l.Total)),
						*l.Next,
					)
				}
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&hosts, "hosts", "", "which hosts: all, KEY=VALUE pairs, or a condition")
	f.StringArrayVar(&label, "label", nil, "KEY=VALUE, repeated: all must hold")
	f.StringVar(&state, "state", "", "only hosts in this state")
	f.StringVar(&q, "name", "", "only hosts whose name has this part")
	f.BoolVar(&retired, "retired", false, "the retired hosts instead of those of the fleet")
	f.IntVar(&limit, "limit", 100, "how many at the most")
	f.StringVar(&after, "after", "", "go on behind the page that gave this")
	f.StringVar(&sort, "sort", "", "by "+strings.Join(hostOrders, ", ")+" (default name)")
	f.BoolVar(&reverse, "reverse", false, "the other way round")
	_ = cmd.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions(hostOrders, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc(
		"state",
		cobra.FixedCompletions(
			[]string{"healthy", "degraded", "failing", "waiting", "offline"},
			cobra.ShellCompDirectiveNoFileComp,
		),
	)
	return cmd
}

func (a *app) hostShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show HOST", Short: "One host: state, labels, settings, what was observed, sources",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetHost(cmd.Context(), args[0]) },
				func(h contract.Host) { a.host(h) },
			)
		},
	}
}

func (a *app) host(h contract.Host) {
	a.wrapped(h.Name+"  ", verdictLine(h.Verdict))
	if h.Verdict.Todo != nil {
		a.wrapped(strings.Repeat(" ", len([]rune(h.Name)))+"  → ", *h.Verdict.Todo)
	}
	a.printf("\n")
	config := "none assigned"
	if h.AssignedHash != nil {
		config = fmt.Sprintf(
			"revision %d, assigned %.12s, running %.12s",
			h.Revision,
			str(h.AssignedHash),
			str(h.RunningHash),
		)
	}
	pending := ""
	if h.Pending != nil {
		pending = *h.Pending + "; see synaxis host config " + h.Name
	}
	pinned := ""
	if h.Pinned != nil {
		pinned = fmt.Sprintf("by rollout %d, and left out of others; synaxis host let-go %s", *h.Pinned, h.Name)
	}
	agent := str(h.AgentVersion) + " over " + str(h.Transport)
	if h.CpuShare != nil {
		agent += fmt.Sprintf(", uses %.1f %% of a core", *h.CpuShare*100)
	}
	a.facts(
		"labels",
		labels(h.Labels),
		"own settings",
		labels(h.Settings),
		"settings in effect",
		labels(h.EffectiveSettings),
		"config",
		config,
		"pending",
		pending,
		"pinned",
		pinned,
		"refused because",
		str(h.ConfigReason),
		"system",
		h.Observed["os.description"]+" "+h.Observed["os.type"]+"/"+h.Observed["host.arch"],
		"addresses",
		h.Observed["host.ip"],
		"agent",
		agent,
		"last seen",
		when(h.LastSeen),
		"joined",
		when(h.JoinedAt),
	)
	if len(h.Sources) == 0 {
		a.printf("\nNo source is assigned to this host.\n")
		return
	}
	a.printf("\n")
	var rows [][]string
	for _, s := range h.Sources {
		n := s.Numbers
		rows = append(
			rows,
			[]string{
				s.Name,
				stateMark(s.Verdict.State),
				number(n.Read),
				number(n.Acknowledged),
				number(n.Dropped),
				number(n.Masked),
				number(n.Unparsed),
				number(n.Refused),
				ago(n.LastRecord),
				str(s.Verdict.Reason),
			},
		)
	}
	a.table(
		[]string{"source", "state", "read", "ack.", "dropped", "masked", "unparsed", "refused", "last", "reason"},
		rows,
		9,
	)
	a.buffers(h)
	for _, s := range h.Sources {
		var why []string
		for _, reason := range slices.Sorted(maps.Keys(s.Numbers.DropReasons)) {
			why = append(why, fmt.Sprintf("%s by %s", number(s.Numbers.DropReasons[reason]), reason))
		}
		if s.Numbers.Failed > 0 {
			why = append(
				why,
				number(s.Numbers.Failed)+" conditions and values could not be computed, and their records went on",
			)
		}
		if len(why) > 0 {
			a.printf("\n%s dropped: %s\n", s.Name, strings.Join(why, ", "))
		}
		if s.Numbers.Oldest != nil && time.Since(*s.Numbers.Oldest) > worthSaying {
			a.printf(
				"\n%s: the oldest record that waits was written %s; %s wait to be read\n",
				s.Name,
				ago(s.Numbers.Oldest),
				size(s.Numbers.Unread),
			)
		}
		for _, n := range s.Notes {
			a.wrapped("\n"+s.Name+": ", n)
		}
	}
	for _, d := range h.Destinations {
		switch {
		case d.Code != nil:
			a.wrapped("\ndestination "+d.Name+": ", str(d.Reason))
			if d.Todo != nil {
				a.wrapped("  → ", *d.Todo)
			}
		case d.Refusal != nil:
			a.wrapped("\ndestination "+d.Name+" refused records last with: ", *d.Refusal)
		}
	}
}

func (a *app) hostConfigCmd() *cobra.Command {
	var which string
	cmd := &cobra.Command{
		Use: "config HOST", Short: "The config assigned to a host against the one that it runs", Args: cobra.ExactArgs(
			1), ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetHostConfig(cmd.Context(), args[0]) },
				func(h contract.HostConfig) {
					switch {
					case which == "assigned":
						a.printf("%s", h.Assigned)
					case which == "effective":
						a.printf("%s", h.Running)
					case h.AssignedHash == nil:
						a.printf("No config is assigned to %s: nothing is in force yet.\n", args[0])
					case h.Same:
						a.printf("# assigned and effective are the same: %s\n%s", str(h.AssignedHash), h.Assigned)
					default:
						a.printf("# The host does not run what it is assigned (- effective, + assigned):\n")
						a.diff(h.Diff, "")
					}
					if h.Pending != nil && which == "" {
						a.printf("\n# pending: %s. The next rollout would change:\n", *h.Pending)
						a.diff(h.PendingDiff, "")
					}
				},
			)
		},
	}
	cmd.Flags().StringVar(&which, "only", "", "print one side as it is: assigned or effective")
	_ = cmd.RegisterFlagCompletionFunc(
		"only",
		cobra.FixedCompletions([]string{"assigned", "effective"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return cmd
}

// maxShown bounds long lists in tables; JSON has all of them.
const maxShown = 40
