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

func (a *app) status(s contract.Status) {
	published := revisionName(s.Published)
	switch {
	case s.Published > s.InForce && s.RolledOut:
		published += fmt.Sprintf(" — was rolled out, and revision %d again after it", s.InForce)
	case s.Published > s.InForce && s.Rollout != nil && s.Rollout.TakesBack != nil:
		published += fmt.Sprintf(" — rollout %d was taken back by rollout %d", *s.Rollout.TakesBack, s.Rollout.Id)
	case s.Published > s.InForce && s.Rollout != nil && s.Rollout.Revision == s.Published:
		published += fmt.Sprintf(" — see synaxis rollout show %d", s.Rollout.Id)
	case s.Published > s.InForce:
		published += " — not rolled out yet: synaxis rollout start"
	}
	roll := "none"
	if r := s.Rollout; r != nil {
		roll = fmt.Sprintf("%d of revision %d: %s, %s", r.Id, r.Revision, rolloutState(*r), stateCounts(r.Counts))
	}
	var drafts []string
	for _, d := range s.Drafts {
		drafts = append(drafts, fmt.Sprintf("%d %q", d.Id, d.Title))
	}
	if len(drafts) == 0 {
		drafts = []string{"none"}
	}
	pending := ""
	if n := len(s.PendingInventory); n > 0 {
		pending = fmt.Sprintf(
			"inventory changed on %s: %s; goes out with the next rollout",
			plural(n, "host", "hosts"),
			some(s.PendingInventory),
		)
	}
	newcomers := ""
	if s.Newcomers > 0 {
		newcomers = plural(s.Newcomers, "agent waits", "agents wait") + " for approval: synaxis newcomer list"
	}
	if t := s.Trouble; t != nil {
		a.wrapped("▲ ", fmt.Sprintf("Since %s %s", when(&t.Since), t.Reason))
		a.wrapped("  → ", t.Todo+"\n")
	}
	volume, ends, changed := "", "", ""
	if v := s.Volume; v != nil {
		usual := "a day is not known yet"
		if v.Usual > 0 {
			usual = "usually " + size(v.Usual)
		}
		volume = fmt.Sprintf("%s read; %s", size(v.Day), usual)
	}
	if n := len(s.Expires); n > 0 {
		ends = s.Expires[0].Words
		if n > 1 {
			ends += fmt.Sprintf("; and %d more", n-1)
		}
	}
	if n := len(s.Changes) + s.MoreChanges; n > 0 {
		c := s.Changes[0]
		changed = fmt.Sprintf("%s in 24 h, the last %s: %s %s by %s", plural(n, "change", "changes"), ago(&c.At),
			c.Action,
			c.Object, c.Who)
	}
	quiet := ""
	if n := len(s.Maintenance); n > 0 {
		m := s.Maintenance[0]
		quiet = fmt.Sprintf("nothing is told of %s until %s, by %s", m.Hosts, when(&m.Until), m.Who)
		if n > 1 {
			quiet += fmt.Sprintf("; and %d more", n-1)
		}
	}
	a.facts(
		"in force",
		revisionName(s.InForce),
		"published",
		published,
		"drafted",
		strings.Join(drafts, ", "),
		"rollout",
		roll,
		"pending",
		pending,
		"newcomers",
		newcomers,
		"maintenance",
		quiet,
		"hosts",
		counts(s.Hosts),
		"sources",
		counts(s.Sources),
		"last 24 h",
		volume,
		"expires",
		ends,
		"changed",
		changed,
	)
	if s.Hosts == (contract.Counts{}) {
		a.printf("\nNo host has joined yet: synaxis join-token create\n")
		return
	}
	a.causes(s.Causes)
	if s.MoreCauses > 0 {
		a.printf("  and %s: synaxis why\n", plural(s.MoreCauses, "more cause", "more causes"))
	}
}

func some(list []string) string {
	if len(list) <= 4 {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:3], ", ") + fmt.Sprintf(" and %d more", len(list)-3)
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

func (a *app) hostEditCmd(use, short, what string) *cobra.Command {
	var hosts string
	var dry bool
	cmd := &cobra.Command{
		Use: use, Short: short, Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeHosts(),
		Long: short + `.

With --hosts, of all hosts that it chooses, in one change: all, KEY=VALUE pairs, or a condition such as
labels.site == "northpier" && observed.os == "linux". --dry-run tells what would change.`,
		Example: "  synaxis host " + use[:strings.IndexByte(use, ' ')] + " gate-np-01 tier=2\n  synaxis host " +
			use[:strings.IndexByte(use, ' ')] + ` --hosts 'labels.role == "gate"' tier=2 --dry-run`,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if hosts == "" {
				if len(args) < 2 {
					return usagef("say what to change: %s", use)
				}
				name, args = args[0], args[1:]
			}
			edit, err := mapEdit(args)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if hosts != "" || dry {
				return a.editHosts(cmd, c, hosts, name, what, edit, dry)
			}
			var h contract.Host
			var raw []byte
			if what == "labels" {
				h, raw, err = answer[contract.Host](c.EditHostLabels(cmd.Context(), name, nil, edit))
			} else {
				h, raw, err = answer[contract.Host](c.EditHostSettings(cmd.Context(), name, nil, edit))
			}
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				m := h.Labels
				if what == "settings" {
					m = h.Settings
				}
				a.printf("%s of %s: %s\n", what, h.Name, labels(m))
				a.printf(
					"What it should run is rendered anew; if that differs it is shown as pending, and goes out with " +
						"the next rollout.\n",
				)
			})
		},
	}
	cmd.Flags().StringVar(&hosts, "hosts", "", "which hosts: all, KEY=VALUE pairs, or a condition")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	return cmd
}

// mapEdit reads KEY=VALUE and KEY- arguments.
func mapEdit(args []string) (contract.MapEdit, error) {
	set, remove := map[string]string{}, []string{}
	for _, s := range args {
		if k, v, ok := strings.Cut(s, "="); ok && k != "" {
			set[k] = v
		} else if k, ok := strings.CutSuffix(s, "-"); ok && k != "" {
			remove = append(remove, k)
		} else {
			return contract.MapEdit{}, usagef("%q: expected KEY=VALUE, or KEY- to remove it", s)
		}
	}
	return contract.MapEdit{Set: &set, Remove: &remove}, nil
}

func (a *app) editHosts(
	cmd *cobra.Command,
	c *contract.Client,
	hosts, name, what string,
	edit contract.MapEdit,
	dry bool,
) error {
	body := contract.HostsEdit{Hosts: hosts, DryRun: &dry}
	if name != "" {
		body.Names = &[]string{name}
	}
	if what == "labels" {
		body.Labels = &edit
	} else {
		body.Settings = &edit
	}
	r, raw, err := answer[contract.HostsEdited](c.EditHosts(cmd.Context(), body))
	if err != nil {
		return err
	}
	return a.show(raw, func() {
		if r.Chosen == 0 {
			a.printf("No host is chosen by %s\n", hosts)
			if r.Hint != nil {
				a.printf("→ %s\n", *r.Hint)
			}
			return
		}
		for i, ch := range r.Changes {
			if i == maxShown {
				a.printf("  … and %s more\n", number(int64(len(r.Changes)-maxShown)))
				break
			}
			a.wrapped("  "+ch.Host+"  ", strings.TrimSpace(edits("", ch.Labels)+edits("setting ", ch.Settings)))
		}
		if r.DryRun {
			a.printf(
				"Dry run: %s chosen, %s would change\n",
				plural(r.Chosen, "host", "hosts"),
				number(int64(r.Changed)),
			)
			a.effects(r.Effects)
		} else {
			a.printf("%s chosen, %s changed. Where what they should run differs now it is pending, and goes out "+
				"with the next rollout.\n", plural(r.Chosen, "host", "hosts"), number(int64(r.Changed)))
		}
	})
}

// effects tells what an edit would do to the configs of hosts.
func (a *app) effects(list *[]contract.HostsEffect) {
	if list == nil || len(*list) == 0 {
		a.printf("No host would run anything else by the revision in force\n")
		return
	}
	for _, e := range *list {
		var parts []string
		switch {
		case e.Only && len(e.Loses) == 1:
			parts = append(parts, "would lose their only source, "+e.Loses[0])
		case e.Only:
			parts = append(parts, "would lose all their sources: "+strings.Join(e.Loses, ", "))
		case len(e.Loses) > 0:
			parts = append(parts, "would lose "+strings.Join(e.Loses, ", "))
		}
		if len(e.Gains) > 0 {
			parts = append(parts, "would gain "+strings.Join(e.Gains, ", "))
		}
		if len(e.Changes) > 0 {
			parts = append(parts, "would run another "+strings.Join(e.Changes, ", "))
		}
		mark := "▲ "
		if len(parts) == 0 {
			mark, parts = "● ", []string{"would get another config with the same sources"}
		}
		a.wrapped(mark, someOf(e.Hosts)+" "+strings.Join(parts, "; "))
	}
}

// maxShown bounds long lists in tables; JSON has all of them.
const maxShown = 40
