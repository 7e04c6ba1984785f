package cli

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/workbench"
	"synaxis/internal/core/yamldoc"
)

func (a *app) maskCmd() *cobra.Command {
	cmd := group("mask", "Private data and what takes it")
	cmd.AddCommand(a.maskScanCmd(), a.maskTryCmd(), a.maskCoverageCmd())
	return cmd
}

// maxHits bounds the hits of a table; JSON holds them all.
const maxHits = 50

func (a *app) maskScanCmd() *cobra.Command {
	var with string
	var reveal bool
	cmd := &cobra.Command{
		Use: "scan LOG|-", Short: "List what private data a log seems to hold, and which masks would take it",
		Args: cobra.ExactArgs(1),
		Long: `Looks for private data with every built-in detector; each is also a mask of its own name. --with adds the masks of a file or
folder of definitions, so that you see what yours take and what they miss. What is found is shown as its detector's name in its
line; --reveal shows it in the clear. JSON holds every hit, and never the data. Needs no service.`,
		Example: "  synaxis mask scan /srv/gate/lane-1.log\n  synaxis mask scan lane-1.log --with catalogue/ -o json",
		RunE: func(_ *cobra.Command, args []string) error {
			finders, own, err := masksIn(with)
			if err != nil {
				return err
			}
			data, _, err := a.readLog(args[0])
			if err != nil {
				return err
			}
			data = workbench.Scannable(data)
			return a.showScan(workbench.Scan(data, finders), logLines(data), own, reveal)
		},
	}
	cmd.Flags().StringVar(&with, "with", "", "a file or folder of definitions, whose masks are tried too")
	cmd.Flags().BoolVar(&reveal, "reveal", false, "show private data in the clear")
	return cmd
}

// masksIn reads the masks of a file or folder, and answers their names too.
func masksIn(path string) (finders []*mask.Finder, names []string, err error) {
	if path == "" {
		return nil, nil, nil
	}
	files, _, err := readFiles(path)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		defs, problems := catalogue.Parse(f.Path, []byte(f.Text))
		for _, d := range defs {
			if d.Mask == nil {
				continue
			}
			finder, err := d.Mask.Finder()
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w", f.Path, err)
			}
			finders, names = append(finders, finder), append(names, d.Name)
		}
		if len(defs) == 0 && len(problems) > 0 {
			return nil, nil, problems[0]
		}
	}
	if len(names) == 0 {
		return nil, nil, fmt.Errorf("%s holds no masks", path)
	}
	return finders, names, nil
}

func (a *app) showScan(hits []workbench.Found, lines int, own []string, reveal bool) error {
	out := struct {
		Lines int               `json:"lines"`
		Hits  []workbench.Found `json:"hits"`
	}{lines, hits}
	return a.showValue(out, func() {
		count, rows := map[string]int{}, [][]string{}
		privateEnd := 0 // of the hit before: what is private is not shown as what stands before the next one
		for i, h := range hits {
			name := h.Detector
			if name == "" {
				name = h.Masks[0]
			}
			count[name]++
			if i >= maxHits {
				continue
			}
			before := h.Before
			if i == 0 || hits[i-1].Line != h.Line {
				privateEnd = 0
			}
			before = strings.TrimSpace(
				strings.ToValidUTF8(before[len(before)-min(len(before), max(0, h.Start-privateEnd)):], ""),
			)
			if before != "" && strings.HasSuffix(h.Before, " ") {
				before += " "
			}
			if h.Start > len(before)+1 {
				before = "…" + before
			}
			privateEnd = max(privateEnd, h.End)
			what := "[" + name + "]"
			if reveal {
				what = strings.ReplaceAll(h.Text, "\n", "⏎")
			}
			rows = append(
				rows,
				[]string{
					fmt.Sprint(h.Line),
					fmt.Sprintf("%d-%d", h.Start, h.End),
					name,
					before + what,
					strings.Join(h.Masks, ", "),
				},
			)
		}
		if len(hits) == 0 {
			a.printf(
				"No private data found in %s by %d detectors",
				plural(lines, "line", "lines"),
				len(mask.Detectors),
			)
			if len(own) > 0 {
				a.printf(" and the masks %s", strings.Join(own, ", "))
			}
			a.printf(".\n")
			return
		}
		a.table([]string{"line", "bytes", "what", "where", "masks that take it"}, rows, 3)
		if len(hits) > maxHits {
			a.printf("… and %s more (-o json holds all)\n", number(int64(len(hits)-maxHits)))
		}
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(count)) {
			parts = append(parts, fmt.Sprintf("%s %s", name, number(int64(count[name]))))
		}
		a.printf("\n")
		a.wrapped(
			fmt.Sprintf("%s in %s: ", plural(len(hits), "hit", "hits"), plural(lines, "line", "lines")),
			strings.Join(parts, ", "),
		)
	})
}

// logLines counts the lines of a log; the last may lack its end.
func logLines(data []byte) int {
	n := bytes.Count(data, []byte("\n"))
	if len(data) > 0 && data[len(data)-1] != '\n' {
		n++
	}
	return n
}

// findMask finds a mask by its name or in a file.
func (a *app) findMask(cmd *cobra.Command, name string) (mask.Spec, error) {
	if spec, ok := (&catalogue.Catalogue{}).Mask(name); ok {
		return spec, nil
	}
	where := name
	text, err := os.ReadFile(name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(name, "/.") {
			return mask.Spec{}, err
		}
		c, err := a.client()
		if err != nil {
			return mask.Spec{}, fmt.Errorf(
				"%q is no built-in mask and no file (built in are %s): %w",
				name,
				strings.Join(mask.Detectors, ", "),
				err,
			)
		}
		d, _, err := answer[contract.Definition](c.GetDefinition(cmd.Context(), "mask", name, nil))
		if err != nil {
			return mask.Spec{}, err
		}
		where, text = d.File, []byte(d.Text)
	}
	defs, problems := catalogue.Parse(where, text)
	if len(problems) > 0 {
		return mask.Spec{}, problems[0]
	}
	for _, d := range defs {
		if d.Mask != nil {
			return *d.Mask, nil
		}
	}
	return mask.Spec{}, yamldoc.Problem{
		File:   where,
		Line:   1,
		Column: 1,
		Reason: "there is no mask here",
		Fix:    "begin a document with mask: NAME",
	}
}

// maskedLine is a line in which a mask finds something, as JSON shows it: after it was masked.
type maskedLine struct {
	Line  int      `json:"line"`
	Lines int      `json:"lines"`
	Hits  int      `json:"hits"`
	Text  string   `json:"text"`
	parts []string // what stays and what was put in, by turns
}

func (a *app) maskTryCmd() *cobra.Command {
	var misses bool
	cmd := &cobra.Command{
		Use: "try MASK|FILE.yaml LOG|-", Short: "Mask a log and show what comes of its lines", Args: cobra.ExactArgs(
			2),
		Long: `MASK is a built-in mask, or one of the catalogue of the service; FILE.yaml holds one of your own. Its samples run first, then it
masks the log line by line; only and except do not apply, since lines have no fields yet. Lines are shown after they were masked;
--misses shows those in which it finds nothing, to look for what it should have taken. A hash uses a key of this run, not the
secret. Built-in masks and files need no service. Exits with 1 when a sample fails.`,
		Example: "  synaxis mask try payment-card desk.log\n  synaxis mask try passport.yaml desk.log " +
			"--misses",
		ValidArgsFunction: namesOrFiles(mask.Detectors),
		RunE: func(cmd *cobra.Command, args []string) error {
			spec, err := a.findMask(cmd, args[0])
			if err != nil {
				return err
			}
			f, err := spec.Finder()
			if err != nil {
				return err
			}
			data, _, err := a.readLog(args[1])
			if err != nil {
				return err
			}
			data = workbench.Scannable(data)
			key := make([]byte, 32)
			if _, err := rand.Read(key); err != nil {
				return err
			}
			hit, missed := maskLog(f, data, key)
			failed := spec.CheckSamples()
			if err := a.showMasked(spec, failed, hit, missed, misses); err != nil {
				return err
			}
			if len(failed) > 0 {
				return coded{
					code:   exitFailed,
					err:    fmt.Errorf("%s of the mask failed", plural(len(failed), "sample", "samples")),
					silent: a.output != "table",
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&misses, "misses", false, "show the lines in which it finds nothing")
	return cmd
}

// maskLog masks a log, and parts its lines into those with hits and those without; blank ones are in neither.
func maskLog(f *mask.Finder, data, key []byte) (hit, missed []maskedLine) {
	hits := f.FindLines(data)
	line := 0
	for start := 0; start < len(data); {
		end, lines := lineEnd(data, start), 1
		var here []mask.Hit
		for len(hits) > 0 && hits[0].Start < end {
			h := hits[0]
			for ; h.End > end; lines++ {
				end = lineEnd(data, end)
			}
			here, hits = append(here, mask.Hit{Start: h.Start - start, End: h.End - start}), hits[1:]
		}
		text := data[start:end]
		x := maskedLine{Line: line + 1, Lines: lines, Hits: len(here)}
		at := 0
		for _, h := range here {
			x.parts = append(
				x.parts,
				string(text[at:h.Start]),
				string(f.Replace(text[h.Start:h.End], []mask.Hit{{Start: 0, End: h.End - h.Start}}, key)),
			)
			at = h.End
		}
		x.parts = append(x.parts, strings.TrimRight(string(text[at:]), "\r\n"))
		x.Text = strings.Join(x.parts, "")
		switch {
		case len(here) > 0:
			hit = append(hit, x)
		case strings.TrimSpace(x.Text) != "":
			missed = append(missed, x)
		}
		line, start = line+lines, end
	}
	return hit, missed
}

// lineEnd is where the next line begins.
func lineEnd(data []byte, at int) int {
	if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(data)
}

func (a *app) showMasked(spec mask.Spec, failed []mask.Failure, hit, missed []maskedLine, misses bool) error {
	type sample struct {
		Text string `json:"text"`
		Want string `json:"want"`
		Good bool   `json:"good"`
	}
	out := struct {
		Mask    string       `json:"mask"`
		Samples []sample     `json:"samples"`
		Lines   []maskedLine `json:"lines"`
		Hits    int          `json:"hits"`
		Missed  int          `json:"missed"`
	}{spec.Name, []sample{}, append([]maskedLine{}, hit...), 0, len(missed)}
	for _, h := range hit {
		out.Hits += h.Hits
	}
	for i, t := range append(slices.Clone(spec.Hits), spec.Misses...) {
		miss := i >= len(spec.Hits)
		want := "hit"
		if miss {
			want = "miss"
		}
		out.Samples = append(out.Samples, sample{t, want, !slices.Contains(failed, mask.Failure{Miss: miss, Text: t})})
	}
	shown := hit
	if misses {
		shown, out.Lines = missed, append([]maskedLine{}, missed...)
	}
	return a.showValue(out, func() {
		for _, s := range out.Samples {
			mark, said := "✔", s.Want
			if !s.Good {
				mark, said = "✖", "should be a "+s.Want
			}
			a.wrapped(fmt.Sprintf("%s sample  %s: ", mark, said), s.Text)
		}
		if len(out.Samples) > 0 {
			a.printf("\n")
		}
		for _, l := range shown[:min(len(shown), maxHits)] {
			a.wrapped(fmt.Sprintf("%5d  ", l.Line), a.marked(l.parts))
		}
		if len(shown) > maxHits {
			a.printf("… and %s more (-o json holds all)\n", number(int64(len(shown)-maxHits)))
		}
		if len(shown) > 0 {
			a.printf("\n")
		}
		a.printf(
			"%s in %s; nothing found in %s\n",
			plural(out.Hits, "hit", "hits"),
			plural(len(hit), "line", "lines"),
			plural(len(missed), "line", "lines"),
		)
	})
}

// marked joins what stays and what a mask put in; on a terminal that is in colour.
func (a *app) marked(parts []string) string {
	var b strings.Builder
	for i, p := range parts {
		if p = strings.ReplaceAll(p, "\n", "⏎"); i%2 == 1 {
			p = a.paint(yellow, p)
		}
		b.WriteString(p)
	}
	return b.String()
}

func (a *app) maskCoverageCmd() *cobra.Command {
	return &cobra.Command{
		Use: "coverage [DIR|FILE]", Short: "Hold every source against every guard, and show where nothing is masked",
		Args: cobra.MaximumNArgs(1),
		Long: `Of the newest revision, or of a folder or file of definitions, which needs no service. Sources that nothing masks come first:
they may have nothing to hide, which synaxis mask scan tells of their logs, and which the label data: none of a source
says.`,
		Example: "  synaxis mask coverage\n  synaxis mask coverage catalogue/ -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			var files []contract.File
			var err error
			if len(args) > 0 {
				files, _, err = readFiles(args[0])
			} else {
				files, err = a.publishedFiles(cmd)
			}
			if err != nil {
				return err
			}
			var defs []*catalogue.Definition
			for _, f := range files {
				d, problems := catalogue.Parse(f.Path, []byte(f.Text))
				if len(problems) > 0 {
					return problems[0]
				}
				defs = append(defs, d...)
			}
			cat, dup := catalogue.New(defs)
			if len(dup) > 0 {
				return dup[0]
			}
			return a.showCoverage(cat)
		},
	}
}

func (a *app) publishedFiles(cmd *cobra.Command) ([]contract.File, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	l, _, err := answer[contract.FileList](c.ExportCatalogue(cmd.Context(), nil))
	return l.Items, err
}

func (a *app) showCoverage(cat *catalogue.Catalogue) error {
	list, guards := workbench.Covered(cat)
	open := 0
	for _, x := range list {
		if !x.Covered && !x.None {
			open++
		}
	}
	return a.showValue(struct {
		Sources []workbench.Coverage `json:"sources"`
	}{list}, func() {
		var rows [][]string
		for _, x := range list {
			mark := "▲ nothing is masked"
			switch {
			case x.Covered:
				mark = "● masked"
			case x.None:
				mark = "◌ needs none"
			}
			var by []string
			for _, g := range guards {
				if x.Guards[g] {
					by = append(by, "guard "+g)
				}
			}
			if len(x.Own) > 0 {
				by = append(by, "its own steps")
			}
			masks := slices.Clone(x.Masks)
			masks = append(
				masks,
				slices.DeleteFunc(slices.Clone(x.Own), func(m string) bool { return slices.Contains(x.Masks, m) })...)
			rows = append(
				rows,
				[]string{x.Source, mark, strings.Join(by, ", "), strings.Join(masks, ", "), strings.Join(x.To, ", ")},
			)
		}
		if len(rows) == 0 {
			a.printf("There are no sources.\n")
			return
		}
		a.table([]string{"source", "", "by", "masks", "goes to"}, rows, 3)
		a.printf(
			"\nNothing is masked in %s of %s; %s\n",
			number(int64(open)),
			plural(len(list), "source", "sources"),
			plural(len(guards), "guard", "guards"),
		)
	})
}
