package cli

import (
	"encoding/csv"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/series"
)

func (a *app) numbersCmd() *cobra.Command {
	var p contract.GetNumbersParams
	var numbers []string
	var source, destination, host, hosts, by, since, step, as string
	cmd := &cobra.Command{
		Use: "numbers", Short: "What was counted over time, with a line that shows its course", Args: cobra.NoArgs,
		Long: `Tells what hosts counted over time: the sum, the average rate, and the course as a line of bars. Without --by it
is one line for each number, else one for each source, sender, destination, host, or value of a label.

Numbers are read, bytes, unparsed, dropped, dropped:REASON, masked, masked:MASK, no-zone, acknowledged, sent (bytes),
rejected, discarded, and as of a moment waiting (records), disk (bytes of buffers) and lag (seconds). dropped:* is
each reason, masked:* each mask. Of senders that are known by their name there are read, bytes, unparsed, dropped,
masked, acknowledged, sent, rejected, waiting and lag, with reasons and masks; of one alone read@SENDER and so on. A
step in which nothing was heard of a host is a gap and shown as a dot.

Steps of 30 seconds are kept for a day, of five minutes for a month, of an hour for 400 days.`,
		Example: "  synaxis numbers --by sender --source weighbridges --number read,'dropped:*',lag\n" +
			"  synaxis numbers --by site --source gate-scans --since 24h\n" +
			"  synaxis numbers --host gate-a --number read,lag --since 1h\n" +
			"  synaxis numbers --by destination --number sent --since 30d --as csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if host != "" {
				if hosts != "" {
					return usagef("say --host or --hosts, not both")
				}
				hosts = fmt.Sprintf("host.name == %q", host)
			}
			if as != "" && as != "csv" && as != "openmetrics" {
				return usagef("--as: expected csv or openmetrics")
			}
			if len(numbers) > 0 {
				p.Number = &numbers
			}
			p.Source, p.Destination, p.Hosts = given(source), given(destination), given(hosts)
			p.By, p.Since, p.Step = given(by), given(since), given(step)
			if as != "" {
				c, err := a.client()
				if err != nil {
					return err
				}
				n, _, err := answer[contract.NumbersOverTime](c.GetNumbers(cmd.Context(), &p))
				if err != nil {
					return err
				}
				return a.numbersAs(n, as, by)
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetNumbers(cmd.Context(), &p) },
				func(n contract.NumbersOverTime) {
					if by != "" && len(numbers) == 0 { // what did not happen anywhere is no line of each
						n.Lines = only(n.Lines, func(l contract.NumberLine) bool {
							return l.Sum > 0 || l.Number == series.Read
						})
					}
					a.numbersTable(n, by)
				},
			)
		},
	}
	f := cmd.Flags()
	f.StringSliceVar(&numbers, "number", nil, "which numbers (default: read,unparsed,dropped,acknowledged,rejected)")
	f.StringVar(&source, "source", "", "of one source")
	f.StringVar(&destination, "destination", "", "of one destination")
	f.StringVar(&host, "host", "", "of one host")
	hostsFlag(cmd, &hosts)
	f.StringVar(&by, "by", "", "a line for each source, sender, destination, host, or value of a label such as site")
	f.StringVar(&since, "since", "24h", "how far back: 30m, 24h, 30d")
	f.StringVar(&step, "step", "", "length of a step, such as 30s, 5m or 1h (default: one that fits)")
	f.StringVar(&as, "as", "", "csv or openmetrics instead of the table")
	_ = cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	_ = cmd.RegisterFlagCompletionFunc("destination", a.completeDestinations())
	_ = cmd.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"source", "sender", "destination", "host", "site"},
		cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"csv", "openmetrics"},
		cobra.ShellCompDirectiveNoFileComp))
	cmd.AddCommand(a.numbersExplainCmd())
	return cmd
}

// barsWide is how many bars a course has at most.
const barsWide = 32

// course draws points as bars, the highest as a full one; gaps are dots.
func course(points []*int64, level bool) string {
	wide := min(barsWide, len(points))
	values, heard := make([]float64, wide), make([]bool, wide)
	top := 0.0
	for i, p := range points {
		j := i * wide / len(points)
		if p == nil {
			continue
		}
		heard[j] = true
		if level {
			values[j] = max(values[j], float64(*p))
		} else {
			values[j] += float64(*p)
		}
	}
	for _, v := range values {
		top = max(top, v)
	}
	bars := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for j, v := range values {
		switch {
		case !heard[j]:
			b.WriteRune('·')
		case top == 0:
			b.WriteRune(bars[0])
		default:
			b.WriteRune(bars[int(math.Round(v/top*float64(len(bars)-1)))])
		}
	}
	return b.String()
}

// amount writes a number with its unit.
func amount(name string, v int64) string {
	if of, _, ok := series.CutSender(name); ok {
		name = of
	}
	switch name {
	case series.Bytes, series.Sent, series.Disk:
		return size(v)
	case series.Lag:
		return (time.Duration(v) * time.Second).String()
	}
	return number(v)
}

func (a *app) numbersTable(n contract.NumbersOverTime, by string) {
	if len(n.Lines) == 0 {
		a.printf("Nothing was counted from %s to %s.\n", when(&n.From), when(&n.To))
		return
	}
	var rows [][]string
	for _, l := range n.Lines {
		row := []string{l.Number, amount(l.Number, l.Sum), rateOf(l, n.Step), course(l.Points, l.Level)}
		if by != "" {
			group := l.Group
			if group == "" {
				group = "-"
			}
			row = append([]string{group}, row...)
		}
		rows = append(rows, row)
	}
	head := []string{"number", "sum or most", "rate", "course"}
	if by != "" {
		head = append([]string{by}, head...)
	}
	a.table(head, rows, len(head)-1)
	a.printf("\n%s to %s, steps of %s\n", when(&n.From), when(&n.To), time.Duration(n.Step)*time.Second)
	for _, m := range n.Marks {
		a.printf("%s  %s\n", when(&m.At), m.Words)
	}
}

// rateOf is how much came in an hour, on average over the steps that were heard; of a level how much there is now.
func rateOf(l contract.NumberLine, step int64) string {
	heard, last := int64(0), int64(0)
	for _, p := range l.Points {
		if p != nil {
			heard++
			last = *p
		}
	}
	switch {
	case heard == 0:
		return "-"
	case l.Level:
		return "now " + amount(l.Number, last)
	}
	return amount(l.Number, int64(math.Round(float64(l.Sum)*3600/float64(heard*step)))) + "/h"
}

// numbersAs writes lines for other programs: a row or a sample for each step that was heard.
func (a *app) numbersAs(n contract.NumbersOverTime, as, by string) error {
	if by == "" {
		by = "group"
	}
	each := func(write func(l contract.NumberLine, at time.Time, v int64)) {
		for _, l := range n.Lines {
			for i, p := range l.Points {
				if p != nil {
					write(l, n.From.Add(time.Duration(int64(i)*n.Step)*time.Second), *p)
				}
			}
		}
	}
	if as == "csv" {
		w := csv.NewWriter(a.out)
		_ = w.Write([]string{"from", by, "number", "value"})
		each(func(l contract.NumberLine, at time.Time, v int64) {
			_ = w.Write([]string{at.UTC().Format(time.RFC3339), l.Group, l.Number, strconv.FormatInt(v, 10)})
		})
		w.Flush()
		return w.Error()
	}
	a.printf("# TYPE synaxis_step gauge\n# HELP synaxis_step What was counted in the %d seconds until then; of a level "+
		"the most.\n", n.Step)
	each(func(l contract.NumberLine, at time.Time, v int64) {
		a.printf("synaxis_step{number=%q,%s=%q} %d %d\n", l.Number, metricLabel(by), l.Group, v, at.Unix()+n.Step)
	})
	a.printf("# EOF\n")
	return nil
}

// metricLabel makes a label of a host into a name of a label of OpenMetrics.
func metricLabel(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '_'
	}, s)
}
