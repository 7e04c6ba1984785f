package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) probeCmd() *cobra.Command {
	var host, hosts, line string
	var fields []string
	var all bool
	var long time.Duration
	cmd := &cobra.Command{
		Use: "probe SOURCE", Short: "Send a marked record along the path of a source, and see where it gets",
		Args: cobra.ExactArgs(1),
		Long: `Sends one record along the real path of a source on a host: a file of its own in the agent's folder, which the source reads
beside its own files, its steps, its buffers and its destinations, which get it as any other record, with the label
synaxis-probe. It tells hop by hop when the record was read, what the steps made of it, and which destination took it, or
where it is stuck and why. No file of another program is written to.

Without --line the agent makes a line for json, keyvalue, syslog and raw, with --field for the first two; for other formats
it copies the newest line of the source. A destination that has a look-up address is asked whether it has the record.`,
		Example: "  synaxis probe gate-scans --host gate-northpier-1\n  synaxis probe kiosk-sales --host kiosk-northpier-1 --field " +
			"lane:int=4 --field note=test\n  synaxis probe gate-scans --all-hosts",
		RunE: func(cmd *cobra.Command, args []string) error {
			seconds := int(long.Round(time.Second) / time.Second)
			q := contract.ProbeRequest{Source: args[0], Host: given(host), Hosts: given(hosts), Line: given(line),
				Seconds: &seconds}
			if all {
				q.Hosts = given("all")
			}
			if (host != "") == (hosts != "" || all) || hosts != "" && all {
				return usagef("say where: --host NAME, --hosts CHOICE, or --all-hosts")
			}
			made, err := probeFields(fields)
			if err != nil {
				return err
			}
			if len(made) > 0 {
				q.Fields = &made
			}
			stream, err := a.stream(cmd.Context(), long, func(ctx context.Context, c *contract.Client) (*http.Response,
				error) {
				return c.Probe(ctx, q)
			})
			if err != nil {
				return err
			}
			defer stream.Close()
			p := probes{a: a, one: host != "", source: args[0]}
			if err := events(cmd.Context(), a, stream, p.take); err != nil {
				return err
			}
			return p.end(cmd.Context())
		},
	}
	f := cmd.Flags()
	f.StringVar(&host, "host", "", "the host")
	hostsFlag(cmd, &hosts)
	f.BoolVar(&all, "all-hosts", false, "all hosts that run the source, as a table")
	f.StringVar(&line, "line", "", "the line, as a program would write it")
	f.StringArrayVar(&fields, "field", nil, "a field of the line, NAME=VALUE or NAME:TYPE=VALUE with int, float, bool or text; "+
		"may be repeated")
	f.DurationVar(&long, "for", 30*time.Second, "how long to follow it, at most 10m")
	_ = cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	return cmd
}

// probeFields reads fields with their types.
func probeFields(list []string) (map[string]any, error) {
	out := map[string]any{}
	for _, f := range list {
		name, text, ok := strings.Cut(f, "=")
		name, kind, _ := strings.Cut(name, ":")
		if !ok || name == "" {
			return nil, usagef("--field %s: expected NAME=VALUE, or NAME:TYPE=VALUE", f)
		}
		var err error
		switch kind {
		case "", "text":
			out[name] = text
		case "int":
			out[name], err = strconv.ParseInt(text, 10, 64)
		case "float":
			out[name], err = strconv.ParseFloat(text, 64)
		case "bool":
			out[name], err = strconv.ParseBool(text)
		default:
			return nil, usagef("--field %s: %q is no type; there are int, float, bool and text", f, kind)
		}
		if err != nil {
			return nil, usagef("--field %s: %q is not %s", f, text, kind)
		}
	}
	return out, nil
}

// probes shows records on their way: the hops of one host as they come, or a table of many at the end.
type probes struct {
	a      *app
	one    bool
	source string
	told   int // hops of the one host
	last   []contract.ProbeEvent
	bad    int
	over   bool
}

func (p *probes) take(e contract.ProbeEvent) {
	a := p.a
	table := a.output == "table"
	switch e.Kind {
	case contract.ProbeEventKindBegin:
		if table {
			a.printf("Probe %s of %s on %s", value(e.Id), p.source, some(value(e.Hosts)))
			if n := value(e.Away); n > 0 {
				a.printf("; %s away", plural(n, "host is", "hosts are"))
			}
			a.printf("\n")
		}
	case contract.ProbeEventKindHost:
		over := value(e.State) != contract.ProbeEventStateUnderWay
		if over {
			p.last = append(p.last, e)
		}
		if !p.one || !table {
			return
		}
		hops := value(e.Hops)
		for _, h := range hops[min(p.told, len(hops)):] {
			a.hop(h, hops[0].At)
		}
		p.told = len(hops)
		if over && value(e.Reason) != "" {
			a.wrapped("  ✖ stuck: ", value(e.Reason))
		}
	case contract.ProbeEventKindEnd:
		p.bad, p.over = value(e.Stuck), true
		if !p.one && table {
			a.probeTable(p.last)
		}
	}
}

// end is the result of the command.
func (p *probes) end(ctx context.Context) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case !p.over:
		return errors.New("the stream ended before the probe did")
	case p.bad > 0:
		return coded{code: exitFailed, err: errors.New("a record did not arrive"), silent: true}
	}
	return nil
}

// hop shows one thing that happened.
func (a *app) hop(h contract.ProbeHop, began time.Time) {
	mark := "●"
	switch h.Hop {
	case contract.ProbeHopHopDropped, contract.ProbeHopHopRefused, contract.ProbeHopHopDiscarded,
		contract.ProbeHopHopMissing:
		mark = "✖"
	}
	what := string(h.Hop)
	if to := value(h.Destination); to != "" {
		what += " by " + to
		if h.Hop == contract.ProbeHopHopFound {
			what = "found at " + to
		}
		if h.Hop == contract.ProbeHopHopQueued || h.Hop == contract.ProbeHopHopBuffered {
			what = string(h.Hop) + " for " + to
		}
	}
	words := value(h.Words)
	if r := h.Record; r != nil {
		var parts []string
		if words != "" {
			parts = append(parts, words)
		}
		for _, e := range value(r.Effects) {
			if value(e.Drops) {
				parts = append(parts, fmt.Sprintf("step %d, %s", e.Step, e.Kind))
			}
		}
		if level := value(r.Level); level != "" {
			parts = append(parts, level)
		}
		parts = append(parts, r.Body)
		if to := value(r.To); len(to) > 0 {
			parts = append(parts, "→ "+strings.Join(to, ", "))
		}
		words = strings.Join(parts, "  ")
	}
	a.printf("  %s %+8s  %-32s %s\n", mark, took(h.At.Sub(began)), what, words)
}

// took is how long something took, as short as it can be said.
func took(d time.Duration) string { return fmt.Sprintf("%.2f s", max(0, d.Seconds())) }

// probeTable shows how far the records of many hosts came.
func (a *app) probeTable(all []contract.ProbeEvent) {
	var rows [][]string
	for _, e := range all {
		var by []string
		read := "–"
		hops := value(e.Hops)
		for _, h := range hops {
			switch h.Hop {
			case contract.ProbeHopHopRead, contract.ProbeHopHopDropped:
				read = took(h.At.Sub(hops[0].At))
			case contract.ProbeHopHopAcknowledged:
				by = append(by, fmt.Sprintf("%s %s", value(h.Destination), took(h.At.Sub(hops[0].At))))
			case contract.ProbeHopHopRefused, contract.ProbeHopHopDiscarded, contract.ProbeHopHopMissing:
				by = append(by, "✖ "+value(h.Destination)+" "+string(h.Hop))
			}
		}
		mark := map[contract.ProbeEventState]string{contract.ProbeEventStateArrived: "● arrived",
			contract.ProbeEventStateDropped: "✖ dropped", contract.ProbeEventStateStuck: "✖ stuck"}[value(e.State)]
		text := strings.Join(by, ", ")
		if r := value(e.Reason); r != "" {
			text = r
		}
		rows = append(rows, []string{value(e.Host), mark, read, text})
	}
	a.table([]string{"host", "state", "read after", "acknowledged by"}, rows, 3)
}
