package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) trialCmd() *cobra.Command {
	cmd := group("trial", "A draft beside what hosts run, on the records that come, which sends nothing")
	cmd.AddCommand(a.trialStartCmd(), a.trialShowCmd(), a.trialListCmd(), a.trialStopCmd())
	return cmd
}

func (a *app) trialStartCmd() *cobra.Command {
	var hosts string
	var long time.Duration
	var detach bool
	cmd := &cobra.Command{
		Use: "start DRAFT", Short: "Let hosts try a draft, and tell what would be different", Args: cobra.ExactArgs(1),
		Long: `Lets hosts treat the records that come by a draft too, beside what they run, and sends nothing. It tells for each
source what would be different: what is read, not parsed, dropped and masked, what goes to each destination, which
fields appear, vanish or change their type, and examples of records both ways, masked.

A trial takes a tenth of a core of a host at most; what is more it passes over, and says so. Without --hosts some of the
hosts try it that the draft changes. It ends by itself, and when the command is interrupted.`,
		Example: "  synaxis trial start 3 --hosts 'labels.site == \"northpier\"' --for 5m",
		RunE: func(cmd *cobra.Command, args []string) error {
			draft, err := strconv.Atoi(args[0])
			if err != nil || draft < 1 {
				return usagef("%q is not the number of a draft", args[0])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			seconds := int(long.Seconds())
			t, raw, err := answer[contract.Trial](c.StartTrial(cmd.Context(), contract.NewTrial{Draft: draft,
				Hosts: given(hosts), Seconds: &seconds}))
			if err != nil {
				return err
			}
			if detach {
				return a.show(raw, func() {
					a.printf("Trial %d runs on %s until %s: synaxis trial show %d\n", t.Id, plural(len(t.Hosts),
						"host", "hosts"),
						when(&t.Until), t.Id)
				})
			}
			return a.followTrial(cmd.Context(), c, t)
		},
	}
	cmd.Flags().DurationVar(&long, "for", time.Minute, "how long")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	hostsFlag(cmd, &hosts)
	return cmd
}

// followTrial waits for the end of a trial, which it ends when it is interrupted.
func (a *app) followTrial(ctx context.Context, c *contract.Client, t contract.Trial) error {
	if a.output == "table" {
		a.printf("Trial %d runs on %s until %s\n", t.Id, plural(len(t.Hosts), "host", "hosts"), when(&t.Until))
	}
	for !t.Ended {
		select {
		case <-ctx.Done():
			late, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
			defer cancel()
			_, _, err := answer[contract.Trial](c.EndTrial(late, t.Id))
			return err
		case <-time.After(time.Second):
		}
		next, _, err := answer[contract.Trial](c.GetTrial(ctx, t.Id))
		if ctx.Err() != nil {
			continue
		}
		if err != nil {
			return err
		}
		t = next
	}
	return a.showTrial(ctx, t.Id)
}

func (a *app) showTrial(ctx context.Context, id int) error {
	return ask(
		a,
		func(c *contract.Client) (*http.Response, error) { return c.GetTrial(ctx, id) },
		func(t contract.Trial) { a.trial(t) },
	)
}

func (a *app) trialShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show TRIAL", Short: "What a trial has found by now", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.Atoi(args[0])
			if err != nil {
				return usagef("%q is not the number of a trial; synaxis trial list shows them", args[0])
			}
			return a.showTrial(cmd.Context(), id)
		},
	}
}

func (a *app) trialStopCmd() *cobra.Command {
	return &cobra.Command{
		Use: "stop TRIAL", Short: "End a trial", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.Atoi(args[0])
			if err != nil {
				return usagef("%q is not the number of a trial; synaxis trial list shows them", args[0])
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.EndTrial(cmd.Context(), id) },
				func(t contract.Trial) { a.trial(t) },
			)
		},
	}
}

func (a *app) trialListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List trials, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListTrials(cmd.Context(), nil) },
				func(l contract.TrialList) {
					if len(l.Items) == 0 {
						a.printf("No trial since the service started. Begin one: synaxis trial start DRAFT\n")
						return
					}
					var rows [][]string
					for _, t := range l.Items {
						state := "runs"
						if t.Ended {
							state = "ended"
						}
						rows = append(rows, []string{fmt.Sprint(t.Id), fmt.Sprint(t.Draft), state,
							when(&t.Started), t.By,
							plural(len(t.Hosts), "host", "hosts")})
					}
					a.table([]string{"trial", "draft", "state", "started", "by", "on"}, rows, 5)
				},
			)
		},
	}
}

// trial prints what a trial found, what differs first.
func (a *app) trial(t contract.Trial) {
	state := "runs until " + when(&t.Until)
	if t.Ended {
		state = "ended"
	}
	var names []string
	for _, h := range t.Hosts {
		names = append(names, h.Host)
	}
	a.facts("trial", fmt.Sprintf("%d of draft %d, by %s: %s", t.Id, t.Draft, t.By, state), "hosts", some(names))
	if t.Skipped > 0 {
		a.facts("sample", fmt.Sprintf("%s were passed over, to take no more than a tenth of a core", size(t.Skipped)))
	}
	for _, h := range t.Hosts {
		if h.Reason != nil {
			a.wrapped("✖ ", h.Host+": "+*h.Reason)
		}
	}
	for _, s := range t.Sources {
		a.printf("\n")
		a.trialSource(s)
	}
}

func (a *app) trialSource(s contract.TrialSource) {
	mark, words := "●", "all records come out the same"
	switch {
	case s.Now == nil:
		mark, words = "+", "is new"
	case s.Then == nil:
		mark, words = "-", "goes away"
	case s.Differ > 0:
		mark, words = "▲", plural(int(s.Differ), "record comes out differently", "records come out differently")
	case s.Now.Read == 0:
		mark, words = "○", "no record came"
	}
	a.wrapped(mark+" ", fmt.Sprintf("source %s: %s", s.Name, words))
	for _, n := range s.Notes {
		a.wrapped("  ", n)
	}
	if s.Now == nil && s.Then == nil {
		return
	}
	var rows [][]string
	row := func(name string, get func(x contract.TrialSide) string) {
		now, then := "-", "-"
		if s.Now != nil {
			now = get(*s.Now)
		}
		if s.Then != nil {
			then = get(*s.Then)
		}
		if now != then || name == "read" {
			rows = append(rows, []string{"  " + name, now, then})
		}
	}
	number := func(n int64) string { return strconv.FormatInt(n, 10) }
	row("read", func(x contract.TrialSide) string { return number(x.Read) })
	row("unparsed", func(x contract.TrialSide) string { return number(x.Unparsed) })
	row("dropped", func(x contract.TrialSide) string { return number(x.Dropped) })
	row("masked", func(x contract.TrialSide) string { return number(x.Masked) })
	row("without a zone", func(x contract.TrialSide) string { return number(x.NoZone) })
	row("conditions that failed", func(x contract.TrialSide) string { return number(x.Failed) })
	for _, to := range bothKeys(s,
		func(x contract.TrialSide) map[string]contract.TrialSent { return x.Destinations }) {
		row("to "+to, func(x contract.TrialSide) string {
			d := x.Destinations[to]
			return fmt.Sprintf("%d, %s", d.Records, size(d.Bytes))
		})
	}
	for _, level := range bothKeys(s, func(x contract.TrialSide) map[string]int64 { return x.Levels }) {
		name := level
		if name == "" {
			name = "without a level"
		}
		row(name, func(x contract.TrialSide) string { return number(x.Levels[level]) })
	}
	row("µs of a core each", func(x contract.TrialSide) string { return fmt.Sprintf("%.1f", x.MicrosecondsEach) })
	a.table([]string{"  ", "now", "then"}, rows, 0)
	for _, f := range s.Fields {
		switch f.Change {
		case contract.Appears:
			a.wrapped("  + ", fmt.Sprintf("field %s appears: %s", f.Name, types(f.Then)))
		case contract.Vanishes:
			a.wrapped("  - ", fmt.Sprintf("field %s vanishes: %s", f.Name, types(f.Now)))
		default:
			a.wrapped("  ▲ ", fmt.Sprintf("field %s changes its type: %s, then %s", f.Name, types(f.Now),
				types(f.Then)))
		}
	}
	for _, e := range s.Examples {
		a.printf("\n")
		a.trialExample(e)
	}
}

// trialExample prints a record with what differs, or the one way in which it is there.
func (a *app) trialExample(e contract.TrialExample) {
	switch {
	case e.Now == "":
		a.printf("  only then: %s\n", strings.TrimSpace(e.Then))
	case e.Then == "":
		a.printf("  only now: %s\n", strings.TrimSpace(e.Now))
	case e.Body == nil:
		a.printf("  now   %s\n  then  %s\n", strings.TrimSpace(e.Now), strings.TrimSpace(e.Then))
	default:
		a.wrapped("  ", *e.Body)
		for _, d := range e.Differs {
			a.wrapped("    ", fmt.Sprintf("%s: %s → %s", d.Part, orNone(d.Now), orNone(d.Then)))
		}
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func bothKeys[V any](s contract.TrialSource, of func(contract.TrialSide) map[string]V) []string {
	names := map[string]bool{}
	for _, x := range []*contract.TrialSide{s.Now, s.Then} {
		if x != nil {
			for name := range of(*x) {
				names[name] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// types are how many values there are of each type.
func types(of map[string]int64) string {
	var parts []string
	for _, t := range slices.Sorted(maps.Keys(of)) {
		parts = append(parts, fmt.Sprintf("%s %d times", t, of[t]))
	}
	return strings.Join(parts, ", ")
}
