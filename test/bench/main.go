// Command bench prints the speeds of Synaxis as ratios, each against a baseline that is measured in the same run on
// the same data. Both sides of each pair check that they did the whole work.
package main

import (
	"flag"
	"fmt"
	"log"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata"

	"github.com/jedib0t/go-pretty/v6/table"
)

// pair is a measurement against its baseline. Each func returns how many units of work it did.
type pair struct {
	name, unit     string
	aim            float64
	ours, baseline func() (units int, err error)
	close          func()
}

// rounds is how often each side runs, in turn; the medians count.
const rounds = 7

func main() {
	if os.Getenv("BENCH_RECEIVER") != "" {
		log.Fatal(receive())
	}
	strict := flag.Bool("strict", false, "end with 1 when an aim is missed; a busy machine misses some")
	flag.Usage = func() {
		fmt.Fprintln(
			flag.CommandLine.Output(),
			"bench [-strict] [fleet | speed | rollout | joins | costs | buffers | numbers | knowing | listeners | a word of the rows to measure]",
		)
		flag.PrintDefaults()
	}
	flag.Parse()
	missed, err := measure(flag.Arg(0))
	if err != nil {
		log.Fatal(err)
	}
	if missed > 0 {
		fmt.Printf("\n%d missed\n", missed)
		if *strict {
			os.Exit(1)
		}
	}
}

// measure prints the tables, or the rows whose names hold only, and tells how many aims were missed.
func measure(only string) (missed int, err error) {
	switch only {
	case "fleet":
		return fleetTable()
	case "costs":
		return costsTable()
	case "speed":
		return speedTable()
	case "rollout":
		return rolloutTable()
	case "joins":
		return joinTable()
	case "numbers":
		return numbersTable()
	case "knowing":
		return knowingTable()
	case "buffers":
		return buffersTable()
	case "listeners":
		return listenersTable()
	}
	makers := []func() (pair, error){filePath, statusMessages, rendering}
	oneCore := []func() (pair, error){
		readWeb,
		readTemplate,
		readShort,
		readJSON,
		readPairs,
		findThree,
		conditions,
		otlpBytes,
		treatment,
		guessing,
	}
	t := newTable(table.Row{"what", "ours", "baseline", "ratio", "aim", ""})
	fmt.Printf("%s, %d processors, median of %d rounds\n\n", runtime.Version(), runtime.NumCPU(), rounds)
	cores := runtime.GOMAXPROCS(0)
	for i, maker := range append(makers, oneCore...) {
		if i == len(makers) {
			runtime.GOMAXPROCS(1) // so that whoever leaves garbage takes it away himself
		}
		p, err := maker()
		if err != nil {
			return missed, err
		}
		if !strings.Contains(p.name, only) {
			p.close()
			continue
		}
		var ours, base []float64
		for range rounds {
			atLeast := time.Duration(0) // what takes long enough is not done twice
			if i >= len(makers) {
				atLeast = 200 * time.Millisecond
			}
			ours = append(ours, rate(p.name, p.ours, atLeast))
			base = append(base, rate(p.name+", baseline", p.baseline, atLeast))
		}
		p.close()
		ratios := make([]float64, rounds) // of neighbours in time: a machine that is slower for a while is so for both
		for i := range ratios {
			ratios[i] = ours[i] / base[i]
		}
		slices.Sort(ratios)
		slices.Sort(ours)
		slices.Sort(base)
		o, b, ratio := ours[rounds/2], base[rounds/2], ratios[rounds/2]
		verdict := "met"
		if p.aim == 0 {
			verdict = ""
		}
		if ratio < p.aim {
			verdict = "missed"
			missed++
		}
		t.AppendRow(
			table.Row{
				p.name,
				show(o) + " " + p.unit,
				show(b) + " " + p.unit,
				fmt.Sprintf("%.2fx", ratio),
				strconv.FormatFloat(p.aim, 'g', -1, 64) + "x",
				verdict,
			},
		)
	}
	t.Render()
	runtime.GOMAXPROCS(cores)
	if only != "" {
		return missed, nil
	}
	for _, table := range []func() (int, error){fleetTable, rolloutTable, joinTable, costsTable, buffersTable,
		numbersTable} {
		more, err := table()
		if missed += more; err != nil {
			return missed, err
		}
	}
	return missed, nil
}

func newTable(head table.Row) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	style := table.StyleLight
	style.Options = table.Options{}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	t.AppendHeader(head)
	return t
}

func rate(name string, f func() (int, error), atLeast time.Duration) float64 {
	runtime.GC()
	began := time.Now()
	units := 0
	for first := true; first || time.Since(began) < atLeast; first = false {
		n, err := f()
		if err != nil {
			log.Fatalf("%s: %v", name, err)
		}
		units += n
	}
	return float64(units) / time.Since(began).Seconds()
}

func show(v float64) string {
	s := strconv.FormatFloat(v, 'f', 0, 64)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
