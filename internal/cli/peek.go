package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/workbench"
)

func (a *app) peekCmd() *cobra.Command {
	var hosts, where string
	var long time.Duration
	var rate float32
	var unmasked bool
	cmd := &cobra.Command{
		Use: "peek [HOST] SOURCE", Short: "Look at records of a source as they come, before and after their steps",
		Args: cobra.RangeArgs(1, 2),
		Long: `Shows some of the records of a source as its hosts treat them: each line as it came in, what the steps did, and what
leaves for which destination. What a step dropped is struck through, with the step. Private data is covered wherever it
would show: in the line as it came in, on its way, and in what was dropped before its masks. --unmasked shows it, which
is a right of its own. Every look is in the audit.

Without a host, some of all hosts that run the source are looked at, each as often as the others. A look is bounded in
rate and time, and ends with the command. -o json writes the events of the API as they come, one a line.`,
		Example: "  synaxis peek gate-northpier-1 gate-scans\n" +
			"  synaxis peek gate-scans --hosts site=northpier --where 'fields.weight > 30000' --for 5m",
		RunE: func(cmd *cobra.Command, args []string) error {
			seconds := int(long.Round(time.Second) / time.Second)
			q := contract.PeekRequest{Source: args[len(args)-1], Hosts: given(hosts), Where: given(where),
				Seconds: &seconds, Rate: &rate}
			if len(args) == 2 {
				if hosts != "" {
					return usagef("name a host or choose some with --hosts, not both")
				}
				q.Host = &args[0]
			}
			stream, err := a.stream(cmd.Context(), long, func(ctx context.Context, c *contract.Client) (*http.Response,
				error) {
				if unmasked {
					return c.PeekUnmasked(ctx, q)
				}
				return c.Peek(ctx, q)
			})
			if err != nil {
				return err
			}
			defer stream.Close()
			return a.followPeek(cmd.Context(), stream, q)
		},
		ValidArgsFunction: a.completeHosts(),
	}
	f := cmd.Flags()
	hostsFlag(cmd, &hosts)
	f.StringVar(&where, "where", "", "a condition over a record as it leaves, such as 'level >= WARN'")
	f.DurationVar(&long, "for", time.Minute, "how long, at most 10m")
	f.Float32Var(&rate, "rate", 20, "records a second over all hosts, at most 100")
	f.BoolVar(&unmasked, "unmasked", false, "show private data")
	return cmd
}

// stream makes a call whose answer is a stream that ends after so long.
func (a *app) stream(
	ctx context.Context, long time.Duration, call func(context.Context, *contract.Client) (*http.Response, error),
) (io.ReadCloser, error) {
	if a.output == "yaml" {
		return nil, usagef("--output: a stream is a table or json")
	}
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	c.Client.(*http.Client).Timeout = long + answerWithin
	resp, err := call(ctx, c)
	if err != nil {
		return nil, unreachable(err)
	}
	if resp.StatusCode != http.StatusOK {
		defer resp.Body.Close()
		raw, _ := io.ReadAll(resp.Body) // what cannot be read is said by the status
		return nil, refusal(resp, raw)
	}
	return resp.Body, nil
}

// events reads a stream to its end, or prints it as it comes.
func events[E any](ctx context.Context, a *app, stream io.Reader, take func(e E)) error {
	in := json.NewDecoder(stream)
	for {
		var raw json.RawMessage
		err := in.Decode(&raw)
		switch {
		case ctx.Err() != nil, errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("the stream was cut off: %w", err)
		}
		if a.output == "json" {
			a.printf("%s\n", legible(raw))
		}
		var e E
		if err := json.Unmarshal(raw, &e); err != nil {
			return fmt.Errorf("the service answered something else than expected: %w", err)
		}
		take(e)
	}
}

// peekEvent is an event with its record in the form of the workbench.
type peekEvent struct {
	contract.PeekEvent
	Record *workbench.Record `json:"record"`
}

// followPeek shows the events of a look as they come.
func (a *app) followPeek(ctx context.Context, stream io.Reader, q contract.PeekRequest) error {
	return events(ctx, a, stream, func(e peekEvent) {
		if a.output == "json" {
			return
		}
		switch e.Kind {
		case contract.PeekEventKindBegin:
			a.peekBegins(e.PeekEvent, q)
		case contract.PeekEventKindRecord:
			if e.Record != nil && e.Record.Course != nil {
				a.peeked(value(e.Host), *e.Record)
			}
		case contract.PeekEventKindHost:
			a.printf("▲ %s\n", value(e.Reason))
		case contract.PeekEventKindEnd:
			a.peekEnds(e.PeekEvent, q)
		}
	})
}

func (a *app) peekBegins(e contract.PeekEvent, q contract.PeekRequest) {
	names := value(e.Hosts)
	a.printf("%s on %s until %s", q.Source, some(names), e.Until.Local().Format(time.TimeOnly))
	if n := value(e.Away); n > 0 {
		a.printf("; %s away", plural(n, "host is", "hosts are"))
	}
	if n := value(e.Left); n > 0 {
		a.printf("; %s not looked at", plural(n, "more is", "more are"))
	}
	a.printf("\n")
}

func (a *app) peekEnds(e contract.PeekEvent, q contract.PeekRequest) {
	a.printf("\n%s shown of %s that came", plural(int(value(e.Shown)), "record", "records"), number(value(e.Passed)))
	if value(e.Looked) < value(e.Passed) {
		a.printf("; looked at %s", number(value(e.Looked)))
	}
	if value(q.Where) != "" {
		a.printf("; %s met the condition", number(value(e.Met)))
	}
	a.printf("\n")
}

// peeked shows a record: as it came in, what was done, and what leaves.
func (a *app) peeked(host string, r workbench.Record) {
	c := r.Course
	a.printf("\n%s  %s\n", a.paint(faint, host), a.masked(c.Original, c.Private, len(c.Private) > 0 && !covered(c)))
	for _, e := range c.Effects {
		if e.Drops || e.Failed > 0 || len(e.Changes) > 0 && e.Kind != "parse" {
			a.printf("    %s\n", a.effect(e, c))
		}
	}
	var in []string
	if r.Level != "" {
		in = append(in, r.Level)
	}
	if r.Time != "" {
		in = append(in, r.Time)
	}
	marks := func(name string) (out []workbench.Mark) {
		for _, m := range c.Marks {
			if m.In == name {
				out = append(out, m)
			}
		}
		return out
	}
	if body := a.masked(r.Body, marks("body"), false); body != a.masked(c.Original, c.Private, false) {
		in = append(in, body)
	}
	for _, name := range slices.Sorted(maps.Keys(r.Fields)) {
		in = append(in, name+"="+a.masked(fmt.Sprint(r.Fields[name]), marks(name), false))
	}
	line := strings.Join(in, " ")
	switch {
	case c.Dropped != "" && a.colour():
		a.printf("  ✖ %s  (%s)\n", a.paint(struck, line), c.Dropped)
	case c.Dropped != "":
		a.printf("  ✖ dropped (%s): %s\n", c.Dropped, line)
	case !r.Read:
		a.printf("  ▲ not read by its format → %s\n", strings.Join(c.To, ", "))
	default:
		a.printf("  → %s  %s\n", strings.Join(c.To, ", "), line)
	}
}

// covered tells whether the marks stand over stars already.
func covered(c *workbench.Course) bool {
	for _, m := range c.Private {
		if m.End > len(c.Original) || strings.Trim(c.Original[m.Start:m.End], "*") != "" {
			return false
		}
	}
	return true
}
