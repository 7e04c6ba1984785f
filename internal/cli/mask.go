package cli

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/mask"
)

func (a *app) maskCmd() *cobra.Command {
	cmd := group("mask", "Private data and what takes it")
	cmd.AddCommand(a.maskScanCmd())
	return cmd
}

// privateHit is private data of a log as JSON shows it; never the data itself.
type privateHit struct {
	Line     int      `json:"line"`  // from 1
	Start    int      `json:"start"` // in bytes from the line's start
	End      int      `json:"end"`   // likewise; beyond the line for a block of several lines
	Lines    int      `json:"lines"`
	Detector string   `json:"detector"`
	Masks    []string `json:"masks"`
	before   string   // the line's text before it, shortened
	text     string
}

// maxHits bounds the hits of a table; JSON holds them all.
const maxHits = 50

func (a *app) maskScanCmd() *cobra.Command {
	var with string
	var reveal bool
	cmd := &cobra.Command{
		Use: "scan LOG|-", Short: "List what private data a log seems to hold, and which masks would take it", Args: cobra.ExactArgs(1),
		Long: `Looks for private data with every built-in detector; each is also a mask of its own name. --with adds the masks of a file or
folder of definitions, so that you see what yours take and what they miss. What is found is shown as its detector's name in its
line; --reveal shows it in the clear. JSON holds every hit, and never the data. Needs no service.`,
		Example: "  synaxis mask scan /srv/gate/lane-1.log\n  synaxis mask scan lane-1.log --with catalogue/ -o json",
		RunE: func(_ *cobra.Command, args []string) error {
			finders, own, err := masksIn(with)
			if err != nil {
				return err
			}
			data, err := a.readLog(args[0])
			if err != nil {
				return err
			}
			return a.showScan(scanLog(data, finders), logLines(data), own, reveal)
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

// scanLog finds private data by the detectors, and by masks what these alone find.
func scanLog(data []byte, finders []*mask.Finder) []privateHit {
	type place struct {
		mask.Hit
		masks []string
	}
	var detected, own []place
	for _, h := range mask.Scan(data) {
		detected = append(detected, place{h, []string{h.Detector}})
	}
	for _, f := range finders {
		for _, h := range f.Find(data, "") {
			at, _ := slices.BinarySearchFunc(detected, h.Start+1, func(p place, from int) int { return p.End - from })
			taken := false
			for ; at < len(detected) && detected[at].Start < h.End; at++ {
				if h.Start <= detected[at].Start && detected[at].End <= h.End { // a part is not enough
					detected[at].masks, taken = append(detected[at].masks, h.Detector), true
				}
			}
			if !taken {
				own = append(own, place{mask.Hit{Start: h.Start, End: h.End}, []string{h.Detector}})
			}
		}
	}
	all := append(detected, own...)
	slices.SortStableFunc(all, func(a, b place) int { return a.Start - b.Start })
	hits := []privateHit{}
	line, lineStart := 1, 0
	for _, p := range all {
		line += bytes.Count(data[lineStart:p.Start], []byte("\n"))
		lineStart += bytes.LastIndexByte(data[lineStart:p.Start], '\n') + 1
		slices.Sort(p.masks)
		hits = append(hits, privateHit{Line: line, Start: p.Start - lineStart, End: p.End - lineStart, Lines: 1 + bytes.Count(data[p.Start:p.End], []byte("\n")),
			Detector: p.Detector, Masks: slices.Compact(p.masks), before: string(data[lineStart+max(0, p.Start-lineStart-shownBefore) : p.Start]), text: string(data[p.Start:p.End])})
	}
	return hits
}

// shownBefore is how many bytes of a line are shown before private data, so that the place is known.
const shownBefore = 40

func (a *app) showScan(hits []privateHit, lines int, own []string, reveal bool) error {
	out := struct {
		Lines int          `json:"lines"`
		Hits  []privateHit `json:"hits"`
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
			before := h.before
			if i == 0 || hits[i-1].Line != h.Line {
				privateEnd = 0
			}
			before = strings.TrimSpace(strings.ToValidUTF8(before[len(before)-min(len(before), max(0, h.Start-privateEnd)):], ""))
			if before != "" && strings.HasSuffix(h.before, " ") {
				before += " "
			}
			if h.Start > len(before)+1 {
				before = "…" + before
			}
			privateEnd = max(privateEnd, h.End)
			what := "[" + name + "]"
			if reveal {
				what = strings.ReplaceAll(h.text, "\n", "⏎")
			}
			if a.colour() {
				what = text.FgYellow.Sprint(what)
			}
			rows = append(rows, []string{fmt.Sprint(h.Line), fmt.Sprintf("%d-%d", h.Start, h.End), name, before + what, strings.Join(h.Masks, ", ")})
		}
		if len(hits) == 0 {
			a.printf("No private data found in %s by %d detectors", plural(lines, "line", "lines"), len(mask.Detectors))
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
		a.wrapped(fmt.Sprintf("%s in %s: ", plural(len(hits), "hit", "hits"), plural(lines, "line", "lines")), strings.Join(parts, ", "))
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
