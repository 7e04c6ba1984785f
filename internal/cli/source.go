package cli

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/workbench"
)

func (a *app) sourceCmd() *cobra.Command {
	cmd := group("source", "What is read, and what becomes of it")
	cmd.AddCommand(a.sourceTryCmd(), a.sourceDraftCmd())
	return cmd
}

func (a *app) sourceTryCmd() *cobra.Command {
	var from, zone, begin, host string
	var draft int
	var reveal, changed bool
	cmd := &cobra.Command{
		Use: "try SOURCE LOG|-", Short: "Take a log through a whole source, and show what comes of every record",
		Args: cobra.ExactArgs(2),
		Long: `Reads the log as a host would and tells of every record what came in, what each step did, what was masked, and which
destinations would get it; at the end it counts. SOURCE is one of the newest revision, of a draft (--draft), or of a file or folder
of definitions (--from, which needs no service). What masks take is shown by the mask's name; --reveal shows it in the clear. Nothing
is sent anywhere and nothing is kept. Exits with 1 when the format reads none of the records.`,
		Example: "  synaxis source try gate-scans lane-1.log\n  synaxis source try gate-scans lane-1.log --draft 3 " +
			"--changed\n  synaxis source try gate-scans lane-1.log --from catalogue/",
		RunE: func(cmd *cobra.Command, args []string) error {
			if zone != "" {
				if err := format.CheckZone(zone); err != nil {
					return usagef("--zone: %v", err)
				}
			}
			if from != "" && draft != 0 {
				return usagef("--from and --draft exclude each other")
			}
			data, modified, err := a.readLog(args[1])
			if err != nil {
				return err
			}
			var r workbench.Result
			if from != "" {
				r, err = trySource(
					from,
					args[0],
					data,
					workbench.Options{Zone: zone, Begin: begin, Observed: modified},
				)
			} else {
				r, err = a.tryAtService(cmd, contract.TryLog{Bytes: &data, Source: &args[0], Modified: &modified,
					Draft: orNil(draft), Zone: orNil(zone), Begin: orNil(begin), Host: orNil(host)})
			}
			if err != nil {
				return err
			}
			if len(r.Problems) > 0 {
				p := r.Problems[0]
				return fmt.Errorf("%s", strings.TrimSuffix(fmt.Sprintf("%s; %s", p.Reason, p.Fix), "; "))
			}
			if err := a.showValue(r, func() { a.showCourse(r, reveal, changed) }); err != nil {
				return err
			}
			if r.Looks != "" {
				fmt.Fprintf(
					a.errOut,
					"The log looks like %s; the source reads it otherwise: read: {encoding: %s}\n",
					r.Looks,
					r.Looks,
				)
			}
			if r.Read == 0 && r.Unread > 0 {
				return coded{
					code:   exitFailed,
					err:    errors.New("the format reads none of the records"),
					silent: a.output != "table",
				}
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&from, "from", "", "a file or folder of definitions, in place of the service")
	f.IntVar(&draft, "draft", 0, "a draft that is not published yet")
	f.StringVar(
		&host,
		"host",
		"",
		"the host whose settings and labels count; by default the first that the source chooses",
	)
	f.StringVar(&zone, "zone", "", "the named zone of times that have none, such as Europe/Lisbon")
	f.StringVar(&begin, "begin", "", "an expression (RE2): a record of several lines begins at a line that it finds")
	f.BoolVar(&reveal, "reveal", false, "show private data in the clear")
	f.BoolVar(&changed, "changed", false, "show only the records to which something is done")
	return cmd
}

// orNil is nil for nothing.
func orNil[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// catalogueIn reads a file or folder of definitions.
func catalogueIn(path string) (*catalogue.Catalogue, error) {
	files, _, err := readFiles(path)
	if err != nil {
		return nil, err
	}
	var defs []*catalogue.Definition
	for _, f := range files {
		d, problems := catalogue.Parse(f.Path, []byte(f.Text))
		if len(problems) > 0 {
			return nil, problems[0]
		}
		defs = append(defs, d...)
	}
	cat, dup := catalogue.New(defs)
	if len(dup) > 0 {
		return nil, dup[0]
	}
	return cat, nil
}

func trySource(from, name string, data []byte, o workbench.Options) (workbench.Result, error) {
	cat, err := catalogueIn(from)
	if err != nil {
		return workbench.Result{}, err
	}
	if cat.Get("source", name) == nil {
		return workbench.Result{}, fmt.Errorf(
			"%s has no source %s; it has %s",
			from,
			name,
			strings.Join(cat.Names("source"), ", "),
		)
	}
	return workbench.Source(cat, name, data, o), nil
}

func (a *app) tryAtService(cmd *cobra.Command, t contract.TryLog) (workbench.Result, error) {
	c, err := a.client()
	if err != nil {
		return workbench.Result{}, err
	}
	if len(*t.Bytes) > workbench.MaxLog {
		return workbench.Result{}, fmt.Errorf("the log is larger than %d MiB; try a part of it", workbench.MaxLog>>20)
	}
	r, _, err := answer[workbench.Result](c.TryLog(cmd.Context(), t))
	return r, err
}

// showCourse tells of every record what became of it.
func (a *app) showCourse(r workbench.Result, reveal, changed bool) {
	for _, x := range r.Records {
		if x.Course == nil || changed && len(x.Effects) == 0 && x.Read {
			continue
		}
		head := fmt.Sprintf("%5d  ", x.Line)
		a.wrapped(head, a.masked(x.Original, x.Private, reveal))
		if !x.Read {
			a.printf("       ✖ not read by the format\n")
		}
		for _, e := range x.Effects {
			a.wrapped("       ", a.effect(e, x.Course))
		}
		when := x.Time
		if x.TimeNote != "" {
			when += " (" + x.TimeNote + ")"
		}
		where := "→ " + strings.Join(x.To, ", ")
		switch {
		case x.Dropped == "no-route":
			where = "✖ no entry of send takes it"
		case x.Dropped == "unparsed":
			where = "✖ dropped, since unparsed is drop"
		case x.Dropped != "":
			where = "✖ dropped by " + x.Dropped
		case len(x.To) == 0:
			where = "→ nowhere: the source has no send"
		}
		if x.Weight > 0 {
			where += fmt.Sprintf("  (stands for %g)", x.Weight)
		}
		a.wrapped("       ", strings.TrimSpace(strings.Join([]string{where, when, x.Level}, "  ")))
	}
	if len(r.Records) > 0 {
		a.printf("\n")
	}
	a.printf(
		"%s read, %d not read, %s skipped\n",
		plural(int(r.Read), "record", "records"),
		r.Unread,
		plural(int(r.Blank), "blank line", "blank lines"),
	)
	for _, reason := range slices.Sorted(maps.Keys(r.DropReasons)) {
		a.printf("%s dropped: %s\n", number(r.DropReasons[reason]), reason)
	}
	for _, to := range slices.Sorted(maps.Keys(r.Destinations)) {
		a.printf("%s to %s\n", number(r.Destinations[to]), to)
	}
	if r.Host != "" {
		a.printf("With the settings and labels of %s\n", r.Host)
	}
	if r.Masked > 0 {
		a.printf("Private data was masked in %s\n", plural(int(r.Masked), "record", "records"))
	}
	if r.Failed > 0 {
		a.printf(
			"%s could not be computed; their records went on\n",
			plural(int(r.Failed), "condition or value", "conditions and values"),
		)
	}
	if r.NoZone > 0 {
		a.printf(
			"The times of %s have no zone, so that the time of reading stands in: name one with --zone, and in the "+
				"source\n",
			plural(r.NoZone, "record", "records"),
		)
	}
}

// masked shows a text with the names of masks in the places of what they take; with reveal what they take, on a
// terminal in colour.
func (a *app) masked(line string, private []workbench.Mark, reveal bool) string {
	var b strings.Builder
	at := 0
	for _, m := range private {
		if m.Start < at || m.End > len(line) {
			continue
		}
		what := "[" + m.Mask + "]"
		if reveal {
			what = line[m.Start:m.End]
		}
		what = a.paint(yellow, what)
		b.WriteString(line[at:m.Start] + what)
		at = m.End
	}
	b.WriteString(line[at:])
	return strings.ReplaceAll(b.String(), "\n", "⏎")
}

// effect says in words what a step did. What was there before is not shown: it may be private.
func (a *app) effect(e workbench.Effect, c *workbench.Course) string {
	name := fmt.Sprintf("%d %s", e.Step, e.Kind)
	if e.Step == 0 {
		name = "guards"
	}
	var parts []string
	for _, ch := range e.Changes {
		switch {
		case e.Kind == "mask" || e.Kind == "guards":
			what := ch.Name
			var by []string
			for _, m := range c.Marks {
				if m.In == ch.Name && !slices.Contains(by, m.Mask) {
					by = append(by, m.Mask)
				}
			}
			if len(by) > 0 {
				what += " by " + strings.Join(by, ", ")
			}
			parts = append(parts, what)
		case ch.After == nil:
			parts = append(parts, "without "+ch.Name)
		default:
			parts = append(parts, ch.Name+"="+strings.ReplaceAll(*ch.After, "\n", "⏎"))
		}
	}
	if e.Failed > 0 {
		parts = append(parts, fmt.Sprintf("%d could not be computed, and did nothing", e.Failed))
	}
	if e.Drops {
		parts = append(parts, "ends the record here")
	}
	return strings.TrimSuffix(name+": "+strings.Join(parts, "; "), ": ")
}
