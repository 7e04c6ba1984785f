package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

// rolloutOrder is the order in which states of hosts are told.
var rolloutOrder = []string{
	"refused",
	"timed out",
	"waiting",
	"offered",
	"applying",
	"applied",
	"deferred",
	"left out",
	"confirmed",
}

func stateCounts(m map[string]int) string {
	var parts []string
	for _, s := range rolloutOrder {
		if m[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", m[s], s))
		}
	}
	if len(parts) == 0 {
		return "no hosts"
	}
	return strings.Join(parts, ", ")
}

func (a *app) rolloutCmd() *cobra.Command {
	cmd := group("rollout", "Bring hosts to a revision")
	cmd.AddCommand(a.rolloutPreviewCmd(), a.rolloutStartCmd(), a.rolloutShowCmd(), a.rolloutWatchCmd(),
		a.rolloutListCmd())
	for _, x := range []struct{ verb, short string }{
		{"pause", "Tell no more hosts until it is resumed"},
		{"resume", "Go on with a rollout that was paused or stopped"},
		{"stop", "End a rollout where it stands"},
		{"approve", "Let the wave that asks begin, or pass without evidence"},
		{"skip-soak", "End the soak of the wave at work"},
		{"retry", "Tell hosts again that refused or did not answer"},
		{"leave-out", "Leave a host out that has not confirmed"},
	} {
		cmd.AddCommand(a.rolloutActCmd(x.verb, x.short))
	}
	cmd.AddCommand(a.rolloutBackCmd())
	return cmd
}

// rolloutFlags are what says which rollout is to start.
type rolloutFlags struct {
	revision, draft          int
	plan, hosts, first, only string
}

func (f *rolloutFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().IntVar(&f.revision, "revision", 0, "a revision (default: the newest)")
	cmd.Flags().StringVar(&f.plan, "plan", "",
		"a plan of the revision, usual or one-wave (default: the one for what changes)")
	cmd.Flags().StringVar(&f.hosts, "hosts", "",
		"for chosen hosts only, which keep it until they are let go: a condition, or KEY=VALUE")
	cmd.Flags().StringVar(&f.first, "first", "", "a host of the first wave")
	cmd.Flags().StringVar(&f.only, "only", "",
		"for one cause only: revision, labels, settings, system, renderer or \"secret NAME\"")
	_ = cmd.RegisterFlagCompletionFunc("first", a.completeHosts())
}

func (f *rolloutFlags) body() contract.NewRollout {
	text := func(s string) *string {
		if s == "" {
			return nil
		}
		return &s
	}
	b := contract.NewRollout{Plan: text(f.plan), Hosts: text(f.hosts), First: text(f.first), Only: text(f.only)}
	if f.revision > 0 {
		b.Revision = &f.revision
	}
	if f.draft > 0 {
		b.Draft = &f.draft
	}
	return b
}

func (a *app) rolloutStartCmd() *cobra.Command {
	var f rolloutFlags
	var watch, dry bool
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "start", Short: "Start a rollout of the newest revision, or of another one",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dry {
				return a.rolloutPreview(cmd.Context(), f.body())
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, raw, err := answer[contract.Rollout](c.StartRollout(cmd.Context(), f.body()))
			if err != nil {
				return err
			}
			if watch {
				return a.watch(cmd.Context(), c, r.Id, timeout)
			}
			return a.show(raw, func() {
				a.printf(
					"Rollout %d of revision %d to %s by plan %s: %s\nFollow it: synaxis rollout watch %d\n",
					r.Id,
					r.Revision,
					plural(len(r.Hosts), "host", "hosts"),
					r.Plan.Name,
					stateCounts(r.Counts),
					r.Id,
				)
			})
		},
	}
	f.add(a, cmd)
	cmd.Flags().BoolVar(&dry, "dry-run", false, "tell what it would do, as rollout preview does")
	cmd.Flags().BoolVar(&watch, "watch", false, "follow it to its end")
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "with --watch: how long to wait")
	return cmd
}

func (a *app) rolloutPreviewCmd() *cobra.Command {
	var f rolloutFlags
	cmd := &cobra.Command{
		Use: "preview", Short: "Tell what a rollout would do: which host is in which wave, and why hosts change",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.rolloutPreview(cmd.Context(), f.body()) },
	}
	f.add(a, cmd)
	cmd.Flags().IntVar(&f.draft, "draft", 0, "a draft, as if it were published now")
	return cmd
}

func (a *app) rolloutPreview(ctx context.Context, body contract.NewRollout) error {
	return ask(
		a,
		func(c *contract.Client) (*http.Response, error) { return c.PreviewRollout(ctx, body) },
		func(p contract.RolloutPreview) {
			a.facts(
				"revision", revisionWords(p),
				"plan", fmt.Sprintf("%s: %s", p.Plan.Name, p.Why),
				"soak", p.Plan.Soak,
				"stops when", str(p.Plan.StopWhen),
				"then", map[string]string{"hold": "waits for a person",
					"go-back": "takes it back by itself"}[p.Plan.OnStop],
				"changes", plural(p.Changes, "host", "hosts")+"; "+plural(p.Same, "host runs",
					"hosts run")+" it already",
			)
			a.printf("\n")
			var rows [][]string
			for _, w := range p.Waves {
				note := ""
				if len(w.Away) > 0 {
					note = fmt.Sprintf("%d away", len(w.Away))
				}
				if w.Approve != nil && *w.Approve {
					note = strings.TrimPrefix(note+", waits for a person", ", ")
				}
				rows = append(rows, []string{fmt.Sprint(w.Wave), w.Says, fmt.Sprint(len(w.Hosts)), someOf(w.Hosts),
					note})
			}
			if len(rows) > 0 {
				a.table([]string{"wave", "says", "hosts", "which", "note"}, rows, 3)
			} else {
				a.printf("No host would change\n")
			}
			for _, cause := range slices.Sorted(maps.Keys(p.Causes)) {
				a.printf("%s for %s\n", plural(p.Causes[cause], "host changes", "hosts change"), cause)
			}
			for _, why := range slices.Sorted(maps.Keys(p.Left)) {
				a.printf("%s: %s\n", plural(p.Left[why], "host is left as it is", "hosts are left as they are"), why)
			}
			if p.Problem != nil {
				a.printf("\nIt cannot start now: %s\n", *p.Problem)
			}
		},
	)
}

func revisionWords(p contract.RolloutPreview) string {
	if p.Before == nil {
		return fmt.Sprintf("%d; nothing is in force yet", p.Revision)
	}
	return fmt.Sprintf("%d; in force is %d", p.Revision, *p.Before)
}

// someOf names the first of many.
func someOf(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// phaseWords tells what a rollout does for the wave at work.
func phaseWords(phase contract.RolloutPhase, until *time.Time, asks *string) string {
	by := ""
	if until != nil {
		by = fmt.Sprintf(" until %s (%s)", until.Local().Format("15:04:05"), ahead(*until))
	}
	switch phase {
	case contract.RolloutPhaseSoaking:
		return "soaks" + by
	case contract.RolloutPhaseProving:
		return "waits for evidence" + by + ": " + str(asks)
	case contract.RolloutPhaseAsking:
		return "asks a person: " + str(asks)
	case contract.RolloutPhaseClosed:
		return "waits for its window" + by
	}
	return "changes hosts"
}

func ahead(t time.Time) string {
	d := time.Until(t).Round(time.Second)
	if d < 0 {
		return "now"
	}
	return "in " + d.String()
}

func rolloutArg(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, usagef("%q is not the number of a rollout; synaxis rollout list shows them", s)
	}
	return n, nil
}

func (a *app) completeRollouts() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.RolloutList](c.ListRollouts(cmd.Context()))
		return names(l.Items, func(r contract.RolloutSummary) string {
			return fmt.Sprintf("%d\trevision %d, %s", r.Id, r.Revision, r.State)
		})
	})
}

func (a *app) rolloutShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show ROLLOUT", Short: "One rollout with the state of every host", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeRollouts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := rolloutArg(args[0])
			if err != nil {
				return err
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetRollout(cmd.Context(), id) },
				func(r contract.Rollout) { a.rollout(r) },
			)
		},
	}
}

func (a *app) rollout(r contract.Rollout) {
	ended := "-"
	if r.Ended != nil {
		ended = fmt.Sprintf("%s, after %s", when(r.Ended), r.Ended.Sub(r.Started).Round(100*time.Millisecond))
	}
	state := string(r.State) + ": " + stateCounts(r.Counts)
	now := "-"
	if r.State == contract.RolloutStateRunning {
		now = fmt.Sprintf("wave %d of %d %s", r.Wave, r.Waves, phaseWords(r.Phase, r.Until, r.Asks))
	}
	of := fmt.Sprintf("%d of revision %d", r.Id, r.Revision)
	if r.TakesBack != nil {
		of += fmt.Sprintf(", takes back rollout %d", *r.TakesBack)
	}
	if r.TakenBackBy != nil {
		of += fmt.Sprintf(", taken back by rollout %d", *r.TakenBackBy)
	}
	if r.Chosen != nil {
		of += ", for " + *r.Chosen
	}
	gate, lacks, back := "", "", ""
	if r.Gate != nil {
		gate, lacks = gateWords(r), str(r.Gate.Missing)
	}
	if r.Back != nil {
		a.facts("back", fmt.Sprintf("to revision %d on %s; %d away", r.Back.Revision, plural(r.Back.Hosts, "host",
			"hosts"),
			r.Back.Away))
	}
	a.facts(
		"rollout", of,
		"state", state,
		"plan", planWords(r.Plan),
		"now", now,
		"started", when(&r.Started)+" by "+r.Author,
		"ended", ended,
		"gate", gate,
		"lacks", lacks,
		"goes back", back,
	)
	a.printf("\n")
	var rows [][]string
	for _, w := range r.WaveList {
		rows = append(rows, []string{fmt.Sprint(w.Wave), w.Says, fmt.Sprint(w.Hosts), stateCounts(w.Counts)})
	}
	a.table([]string{"wave", "says", "hosts", "state"}, rows, 3)
	a.printf("\n")
	rows = nil
	for _, h := range r.Hosts {
		wave := "-"
		if h.Wave > 0 {
			wave = fmt.Sprint(h.Wave)
		}
		rows = append(rows, []string{h.Host, wave, h.State, ago(&h.Since), str(h.Reason)})
	}
	a.table([]string{"host", "wave", "state", "since", "reason"}, rows, 4)
	a.printf("\n")
	for _, d := range r.Decisions {
		who := ""
		if d.Who != nil {
			who = " (" + *d.Who + ")"
		}
		a.printf("%s  %s: %s%s\n", when(&d.At), d.What, d.Why, who)
	}
}

// onStop tells what a plan does when it stops.
var onStop = map[string]string{"hold": "waits for a person", "go-back": "takes it back by itself"}

// planWords is a plan in a line.
func planWords(p contract.RolloutPlan) string {
	out := fmt.Sprintf("%s: %s; soak %s", p.Name, strings.Join(p.Waves, ", "), p.Soak)
	if p.StopWhen != nil {
		out += fmt.Sprintf("; stops when %s, and then %s", *p.StopWhen, onStop[p.OnStop])
	}
	if p.Window != nil {
		out += "; window " + *p.Window
	}
	return out
}

// gateWords are the numbers that the plan of a rollout looks at.
func gateWords(r contract.Rollout) string {
	var parts []string
	for _, name := range numberName.FindAllString(str(r.Plan.StopWhen), -1) {
		if name == "true" || name == "false" {
			continue
		}
		words := name + " not known"
		if v, ok := r.Gate.Numbers[name]; ok {
			words = fmt.Sprintf("%s %.3g", name, v)
		}
		if !slices.Contains(parts, words) {
			parts = append(parts, words)
		}
	}
	return strings.Join(parts, ", ")
}

var numberName = regexp.MustCompile(`[a-z]+(_[a-z]+)*`)

func (a *app) rolloutWatchCmd() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{
		Use: "watch ROLLOUT", Short: "Follow a rollout to its end; exits with 4 when it is stopped",
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
			return a.watch(cmd.Context(), c, id, timeout)
		},
	}
	cmd.Flags().DurationVar(&timeout, "timeout", 10*time.Minute, "how long to wait")
	return cmd
}

// watch follows a rollout. As JSON and YAML only the end is printed.
func (a *app) watch(ctx context.Context, c *contract.Client, id int, timeout time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	last := ""
	bar := a.progress(fmt.Sprintf("rollout %d", id))
	defer bar.end()
	for {
		r, raw, err := answer[contract.Rollout](c.GetRollout(ctx, id))
		if err != nil {
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return coded{code: exitTimedOut, err: fmt.Errorf("rollout %d has not ended in %s", id, timeout)}
			}
			return err
		}
		line := fmt.Sprintf("rollout %d of revision %d: %s", r.Id, r.Revision, stateCounts(r.Counts))
		if r.State == contract.RolloutStateRunning && (r.Waves > 1 || r.Phase != contract.RolloutPhaseChanging) {
			line += fmt.Sprintf("; wave %d of %d %s", r.Wave, r.Waves, phaseWords(r.Phase, nil, r.Asks))
		}
		bar.set(r)
		if line != last && a.output == "table" {
			a.printf("%s  %s\n", time.Now().Format("15:04:05"), line)
			last = line
		}
		if r.State == contract.RolloutStateDone || r.State == contract.RolloutStateStopped {
			bar.end()
			if a.output != "table" {
				if err := a.show(raw, nil); err != nil {
					return err
				}
			} else {
				d := r.Decisions[len(r.Decisions)-1]
				a.printf("%s%s: %s\n", strings.ToUpper(d.What[:1]), d.What[1:], d.Why)
			}
			if r.State == contract.RolloutStateStopped {
				for _, h := range r.Hosts {
					if a.output == "table" && slices.Contains([]string{"refused", "timed out"}, h.State) {
						a.printf("  %s %s: %s\n", h.Host, h.State, str(h.Reason))
					}
				}
				return coded{code: exitStopped, err: fmt.Errorf("rollout %d is stopped", id), silent: true}
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return coded{
				code: exitTimedOut,
				err:  fmt.Errorf("rollout %d has not ended in %s; it goes on", id, timeout),
			}
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// rolloutState is the state of a rollout in a list.
func rolloutState(r contract.RolloutSummary) string {
	switch {
	case r.TakenBackBy != nil:
		return fmt.Sprintf("taken back by %d", *r.TakenBackBy)
	case r.State == contract.RolloutSummaryStateRunning:
		return fmt.Sprintf("wave %d of %d %s", r.Wave, r.Waves, r.Phase)
	}
	words := string(r.State)
	if r.TakesBack != nil {
		words += fmt.Sprintf(", takes back %d", *r.TakesBack)
	}
	if r.Chosen != nil {
		words += ", for some hosts"
	}
	return words
}

func (a *app) rolloutListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List rollouts, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListRollouts(cmd.Context()) },
				func(l contract.RolloutList) {
					if len(l.Items) == 0 {
						a.printf("No rollout yet. Publish a draft first, then: synaxis rollout start\n")
						return
					}
					var rows [][]string
					for _, r := range l.Items {
						rows = append(
							rows,
							[]string{
								fmt.Sprint(r.Id),
								fmt.Sprint(r.Revision),
								rolloutState(r),
								when(&r.Started),
								r.Author,
								stateCounts(r.Counts),
							},
						)
					}
					a.table([]string{"rollout", "revision", "state", "started", "by", "hosts"}, rows, 5)
				},
			)
		},
	}
}
