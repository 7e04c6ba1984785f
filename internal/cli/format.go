package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/workbench"
	"synaxis/internal/core/yamldoc"
)

func (a *app) formatCmd() *cobra.Command {
	cmd := group("format", "How lines are read")
	cmd.AddCommand(a.formatGuessCmd(), a.formatTryCmd())
	return cmd
}

// maxLog bounds a log that is tried, in bytes.
const maxLog = 64 << 20

// readLog reads a log from a file, or from standard input for -; one that gzip packed is unpacked. modified is when
// the file was last written, or now.
func (a *app) readLog(path string) (data []byte, modified time.Time, err error) {
	in := a.in
	modified = time.Now()
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, modified, err
		}
		defer f.Close()
		in = f
		if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
			modified = info.ModTime()
		}
	}
	if data, err = io.ReadAll(io.LimitReader(in, maxLog+1)); err != nil {
		return nil, modified, err
	}
	data, more, err := workbench.Unpack(data, maxLog)
	if err != nil {
		return nil, modified, fmt.Errorf("%s: %w", path, err)
	}
	if more {
		return nil, modified, fmt.Errorf("%s is larger than %d MiB; try a part of it", path, maxLog>>20)
	}
	return data, modified, nil
}

// encodingFlag asks how the bytes of a log are characters.
func encodingFlag(cmd *cobra.Command, encoding *string) {
	cmd.Flags().
		StringVar(encoding, "encoding", "", "how its bytes are characters: "+strings.Join(lines.Encodings, ", ")+
			" (default utf-8)")
	_ = cmd.RegisterFlagCompletionFunc(
		"encoding",
		cobra.FixedCompletions(lines.Encodings, cobra.ShellCompDirectiveNoFileComp),
	)
}

// checkEncoding tells what is wrong with that answer, or notes that the log looks otherwise.
func (a *app) checkEncoding(encoding string, data []byte) error {
	if encoding != "" && !slices.Contains(lines.Encodings, encoding) {
		return usagef("--encoding: known are %s", strings.Join(lines.Encodings, ", "))
	}
	if looks := lines.Looks(data, encoding); looks != "" {
		fmt.Fprintf(
			a.errOut,
			"The log looks like %s: --encoding %s reads it so, and in the source read: {encoding: %s}\n",
			looks,
			looks,
			looks,
		)
	}
	return nil
}

func (a *app) formatTryCmd() *cobra.Command {
	var zone, begin, encoding string
	var unread bool
	cmd := &cobra.Command{
		Use: "try FORMAT|FILE.yaml LOG|-", Short: "Read a log by a format and show what comes of every record",
		Args: cobra.ExactArgs(2),
		Long: `FORMAT is a built-in format, or one of the catalogue of the service; FILE.yaml holds one of your own, with those that it
names. The log is read as a host would read it. Built-in formats and files need no service. Exits with 1 when no line is read.`,
		Example: "  synaxis format try web-combined access.log\n  synaxis format try gate.yaml lane-1.log " +
			"--zone Europe/Lisbon\n  journal | synaxis format try syslog - --unread",
		ValidArgsFunction: namesOrFiles(format.Kinds),
		RunE: func(cmd *cobra.Command, args []string) error {
			spec, other, err := a.findFormat(cmd, args[0])
			if err != nil {
				return err
			}
			if zone != "" {
				if err := format.CheckZone(zone); err != nil {
					return usagef("--zone: %v", err)
				}
			}
			data, modified, err := a.readLog(args[1])
			if err != nil {
				return err
			}
			if err := a.checkEncoding(encoding, data); err != nil {
				return err
			}
			t, err := pipeline.Compile(
				pipeline.Source{Begin: begin, Encoding: encoding, Time: format.Time{Zone: zone}},
				spec,
				pipeline.Parts{Formats: other},
			)
			if err != nil {
				return err
			}
			records, counts := t.Try(data, modified)
			if err := a.showTried(spec, records, counts, unread); err != nil {
				return err
			}
			if counts.Read > 0 && counts.Unparsed == counts.Read {
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
	f.StringVar(&zone, "zone", "", "the named zone of times that have none, such as Europe/Lisbon")
	f.StringVar(&begin, "begin", "", "an expression (RE2): a record of several lines begins at a line that it finds")
	encodingFlag(cmd, &encoding)
	f.BoolVar(&unread, "unread", false, "show only the records that the format does not read")
	return cmd
}

// namesOrFiles completes a first argument that is one of some names or a file, and files after it.
func namesOrFiles(names []string) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return names, cobra.ShellCompDirectiveDefault
	}
}

// findFormat finds a format by its name or in a file, and the ones that it names.
func (a *app) findFormat(cmd *cobra.Command, name string) (format.Spec, format.Other, error) {
	if spec, ok := format.BuiltIn(name); ok {
		return spec, nil, nil
	}
	text, err := os.ReadFile(name)
	if err == nil {
		defs, problems := catalogue.Parse(name, text)
		if len(problems) > 0 {
			return format.Spec{}, nil, problems[0]
		}
		return formatOf(name, defs)
	}
	if !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(name, "/.") {
		return format.Spec{}, nil, err
	}
	c, err := a.client()
	if err != nil {
		return format.Spec{}, nil, fmt.Errorf(
			"%q is no built-in format and no file (built in are %s): %w",
			name,
			strings.Join(format.Kinds, ", "),
			err,
		)
	}
	return a.formatFromService(cmd, c, name)
}

// formatFromService reads a format of the newest revision, and those that it names.
func (a *app) formatFromService(
	cmd *cobra.Command,
	c *contract.Client,
	name string,
) (format.Spec, format.Other, error) {
	var defs []*catalogue.Definition
	for wanted := []string{name}; len(wanted) > 0; wanted = wanted[1:] {
		if _, ok := format.BuiltIn(wanted[0]); ok || len(defs) > 100 {
			continue
		}
		d, _, err := answer[contract.Definition](c.GetDefinition(cmd.Context(), "format", wanted[0], nil))
		if err != nil {
			return format.Spec{}, nil, err
		}
		more, problems := catalogue.Parse(d.File, []byte(d.Text))
		if len(problems) > 0 || len(more) == 0 {
			return format.Spec{}, nil, fmt.Errorf(
				"format %s cannot be read by this program; is the service of another version?",
				wanted[0],
			)
		}
		defs = append(defs, more...)
		wanted = append(wanted, more[0].Format.FirstOf...)
	}
	return formatOf(name, defs)
}

// formatOf picks the first format of some definitions; the others are those that it may name.
func formatOf(where string, defs []*catalogue.Definition) (format.Spec, format.Other, error) {
	cat, dup := catalogue.New(defs)
	if len(dup) > 0 {
		return format.Spec{}, nil, dup[0]
	}
	i := slices.IndexFunc(defs, func(d *catalogue.Definition) bool { return d.Format != nil })
	if i < 0 {
		return format.Spec{}, nil, yamldoc.Problem{
			File:   where,
			Line:   1,
			Column: 1,
			Reason: "there is no format here",
			Fix:    "begin a document with format: NAME",
		}
	}
	return *defs[i].Format, cat.Format, nil
}

func (a *app) showTried(spec format.Spec, records []pipeline.Tried, c pipeline.Counts, unread bool) error {
	out := struct {
		Format  string             `json:"format"`
		Records []workbench.Record `json:"records"`
		Read    int64              `json:"read"`
		Unread  int64              `json:"unread"`
		Blank   int64              `json:"blank"`
	}{spec.Name, triedRecords(records, unread), c.Read - c.Unparsed, c.Unparsed, c.Blank}
	noZone := 0
	for _, r := range records {
		if r.TimeNote == record.TimeNoZone {
			noZone++
		}
	}
	return a.showValue(out, func() {
		for _, r := range records {
			if !unread || !r.Read {
				a.triedRecord(r)
			}
		}
		a.printf(
			"\n%s read, %d not read, %s skipped\n",
			plural(int(c.Read-c.Unparsed), "record", "records"),
			c.Unparsed,
			plural(int(c.Blank), "blank line", "blank lines"),
		)
		if noZone > 0 {
			a.printf(
				"The times of %s have no zone, so that the time of reading stands in: name one with --zone, and in "+
					"the format or source\n",
				plural(noZone, "record", "records"),
			)
		}
	})
}

// triedRecords are records in the form of JSON; with unread only those that were not read.
func triedRecords(records []pipeline.Tried, unread bool) []workbench.Record {
	out := []workbench.Record{}
	for i := range records {
		if !unread || !records[i].Read {
			out = append(out, workbench.Show(&records[i], false))
		}
	}
	return out
}

func (a *app) formatGuessCmd() *cobra.Command {
	var zone, name string
	cmd := &cobra.Command{
		Use: "guess LOG|-", Short: "Find out how a log is written, and propose a format", Args: cobra.ExactArgs(1),
		Long: `Tries the formats that exist, proposes a template where none fits, and ranks what it found. Needs no service. As JSON it gives
the candidates, and for the best one its definition and every record.`,
		Example: "  synaxis format guess /srv/gate/lane-1.log\n  synaxis format guess lane-1.log --zone " +
			"Europe/Lisbon --name gate-scan > gate-scan.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			if zone != "" {
				if err := format.CheckZone(zone); err != nil {
					return usagef("--zone: %v", err)
				}
			}
			data, modified, err := a.readLog(args[0])
			if err != nil {
				return err
			}
			if len(strings.TrimSpace(string(data))) == 0 {
				return fmt.Errorf("%s holds no lines to guess from", args[0])
			}
			all, shown := workbench.Guess(data, name, zone, modified, nil)
			return a.showGuess(all, shown, name, zone)
		},
	}
	cmd.Flags().StringVar(&zone, "zone", "", "the named zone of times that have none, such as Europe/Lisbon")
	cmd.Flags().StringVar(&name, "name", "guessed", "the name of the format that is proposed")
	return cmd
}

func (a *app) showGuess(all []guess.Candidate, shown []workbench.Candidate, name, zone string) error {
	best := all[0]
	out := struct {
		Definition string                `json:"definition"`
		Begin      string                `json:"begin,omitempty"`
		Encoding   string                `json:"encoding,omitempty"`
		Share      float64               `json:"share"`
		Records    []workbench.Record    `json:"records"`
		Candidates []workbench.Candidate `json:"candidates"`
	}{best.Definition(name, zone), best.Begin, best.Encoding, best.Share, triedRecords(best.Records, false), shown}
	return a.showValue(out, func() {
		for i, c := range all[:min(len(all), 5)] {
			mark := " "
			if i == 0 {
				mark = "→"
			}
			what := c.Spec.Kind
			if c.Begin != "" {
				what += ", records of several lines"
			}
			a.wrapped(
				fmt.Sprintf("%s %3.0f%%  ", mark, 100*c.Share),
				strings.TrimSuffix(
					fmt.Sprintf("%s, %.0f%% sure: %s", what, 100*c.Sure(), strings.Join(c.Warnings, "; ")),
					": ",
				),
			)
		}
		a.printf("\n%s\n", best.Definition(name, zone))
		if best.Begin != "" {
			a.printf("In the source: records: {begin: '%s'}\n\n", best.Begin)
		}
		if best.Encoding != "" {
			a.printf("In the source: read: {encoding: %s}\n\n", best.Encoding)
		}
		var rows [][]string
		for _, f := range best.Fields {
			rows = append(
				rows,
				[]string{f.Name, f.Type, fmt.Sprintf("%.0f%%", 100*f.Share), strings.Join(f.Examples, "  ")},
			)
		}
		if len(rows) > 0 {
			a.table([]string{"field", "type", "filled", "examples"}, rows, 3)
		}
		if !best.From.IsZero() {
			a.printf("\nTimes from %s to %s\n", best.From.Format(time.RFC3339), best.To.Format(time.RFC3339))
		}
		if best.NoZone {
			a.printf(
				"\nThe times have no zone and are shown as if they were UTC: say which one the host writes in, with " +
					"--zone\n",
			)
		}
	})
}

func (a *app) triedRecord(r pipeline.Tried) {
	head := fmt.Sprintf("%5d  ", r.Line)
	if !r.Read {
		a.wrapped(head+"✖ not read  ", strings.ReplaceAll(r.Original, "\n", "⏎"))
		return
	}
	when := r.Time.Format("2006-01-02T15:04:05.999Z07:00")
	if r.TimeNote != record.TimeGood {
		when += " (" + r.TimeNote.String() + ")"
	}
	a.wrapped(
		head,
		strings.TrimSpace(fmt.Sprintf("%s  %-5s  %s", when, r.Level, strings.ReplaceAll(r.Body, "\n", "⏎"))),
	)
	var parts []string
	for _, f := range r.Fields {
		parts = append(parts, fmt.Sprintf("%s=%s", f.Name, fieldText(f)))
	}
	if len(parts) > 0 {
		a.wrapped("         ", strings.Join(parts, "  "))
	}
}

// fieldText writes a value so that its type is seen: text is quoted where it could be something else.
func fieldText(f pipeline.TriedField) string {
	switch v := f.Value.(type) {
	case string:
		if f.Type == "text" && (v == "" || strings.ContainsAny(v, " \t\"") || strings.Trim(v, "0123456789.+-") == "" ||
			v == "true" || v == "false") {
			return fmt.Sprintf("%q", v)
		}
		return v
	case pipeline.JSON:
		return string(v)
	}
	return fmt.Sprint(f.Value)
}
