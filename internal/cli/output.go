package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"go.yaml.in/yaml/v3"

	"synaxis/internal/contract"
)

// show prints an answer: the API's own JSON, the same as YAML, or what table prints.
func (a *app) show(raw []byte, table func()) error {
	switch a.output {
	case "json":
		var b bytes.Buffer
		if err := json.Indent(&b, legible(bytes.TrimSpace(raw)), "", "  "); err != nil {
			return err
		}
		b.WriteByte('\n')
		_, err := b.WriteTo(a.out)
		return err
	case "yaml":
		out, err := yamlText(raw)
		if err != nil {
			return err
		}
		_, err = a.out.Write(out)
		return err
	}
	table()
	return nil
}

// legible writes < > and & as they are: JSON made for pages has them escaped, and people paste from it.
func legible(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			out = append(out, raw[i])
			continue
		}
		if i+6 <= len(raw) {
			if c, ok := map[string]byte{`\u003c`: '<', `\u003e`: '>', `\u0026`: '&'}[string(raw[i:i+6])]; ok {
				out, i = append(out, c), i+5
				continue
			}
		}
		out, i = append(out, raw[i], raw[i+1]), i+1
	}
	return out
}

// yamlText writes JSON as YAML, with the keys in their order.
func yamlText(raw []byte) ([]byte, error) {
	var n yaml.Node // JSON is YAML; its styles are those of JSON, which block form replaces
	if err := yaml.Unmarshal(raw, &n); err != nil {
		return nil, err
	}
	plain(&n)
	return yaml.Marshal(&n)
}

func plain(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plain(c)
	}
}

// showValue is show for a value that did not come from the API.
func (a *app) showValue(v any, table func()) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return a.show(raw, table)
}

func (a *app) printf(format string, args ...any) { fmt.Fprintf(a.out, format, args...) }

// width is that of the tables; they fit 100 columns.
const width = 100

// table prints rows under a head, without frames. wide names the column (from 0) that takes what is left, and wraps.
func (a *app) table(head []string, rows [][]string, wide int) {
	for _, r := range rows {
		for c := range r {
			r[c] = string(visible([]byte(r[c])))
		}
	}
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options = table.Options{SeparateColumns: false, SeparateHeader: false}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	used := 0
	for c := range head {
		w := len([]rune(head[c]))
		for _, r := range rows {
			w = max(w, len([]rune(r[c])))
		}
		if c != wide {
			used += w + 2
		}
	}
	columns := []table.ColumnConfig{
		{Number: wide + 1, WidthMax: max(24, width-used-2), WidthMaxEnforcer: text.WrapSoft},
	}
	for c := range head {
		if c != wide && len(rows) > 0 &&
			!slices.ContainsFunc(rows, func(r []string) bool { return strings.Trim(r[c], "0123456789,-") != "" }) {
			columns = append(
				columns,
				table.ColumnConfig{Number: c + 1, Align: text.AlignRight, AlignHeader: text.AlignRight},
			)
		}
	}
	t.SetColumnConfigs(columns)
	h := make(table.Row, len(head))
	for i, s := range head {
		h[i] = strings.ToUpper(s)
	}
	t.AppendHeader(h)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, s := range r {
			row[i] = s
		}
		t.AppendRow(row)
	}
	t.Render()
}

// facts prints names and values.
func (a *app) facts(pairs ...string) {
	w := 0
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			w = max(w, len(pairs[i]))
		}
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			a.wrapped(fmt.Sprintf("%-*s  ", w, pairs[i]), pairs[i+1])
		}
	}
}

// wrapped prints words after a head, folded to the width with the head's indent.
func (a *app) wrapped(head, words string) {
	words = string(visible([]byte(words)))
	indent := len([]rune(head))
	for i, line := range strings.Split(text.WrapSoft(words, max(40, width-indent)), "\n") {
		if i > 0 {
			head = strings.Repeat(" ", indent)
		}
		a.printf("%s%s\n", head, strings.TrimRight(line, " "))
	}
}

func str[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// when writes a time with its zone; logs without one have hurt people enough.
func when(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05 MST")
}

func ago(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "-"
	}
	d := time.Since(*t)
	switch {
	case d < 2*time.Second:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

func number(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func labels(m map[string]string) string {
	var parts []string
	for _, k := range sortedKeys(m) {
		parts = append(parts, k+"="+m[k])
	}
	return strings.Join(parts, " ")
}

// value is what an optional part of an answer says.
func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return number(int64(n)) + " " + many
}

// stateMark gives each state a shape of its own beside its word, so that colour is not needed.
func stateMark(s contract.State) string {
	marks := map[contract.State]string{
		contract.Healthy:  "●",
		contract.Degraded: "▲",
		contract.Failing:  "✖",
		contract.Waiting:  "◌",
		contract.Offline:  "⊘",
	}
	return marks[s] + " " + string(s)
}

// colour tells whether what is printed goes to a terminal that shows colours.
func (a *app) colour() bool {
	p, ok := a.out.(*printable)
	if !ok || os.Getenv("NO_COLOR") != "" {
		return false
	}
	f, ok := p.to.(*os.File)
	if !ok {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// Ways to paint a text, by their numbers in ECMA-48 (SGR).
const (
	faint  = "2m"
	struck = "9m"
	red    = "31m"
	green  = "32m"
	yellow = "33m"
)

// paint makes a text look otherwise on a terminal.
func (a *app) paint(how, s string) string {
	if !a.colour() {
		return s
	}
	return paints + how + s + paints + "0m"
}

// diff prints a difference; on a terminal with colour.
func (a *app) diff(lines []contract.DiffLine, indent string) {
	for _, l := range lines {
		line := indent + string(l.Op) + " " + l.Text
		switch l.Op {
		case contract.Plus:
			line = a.paint(green, line)
		case contract.Minus:
			line = a.paint(red, line)
		}
		a.printf("%s\n", line)
	}
}

// findings prints what checks found.
func (a *app) findings(list []contract.Finding) {
	marks := map[contract.Severity]string{
		contract.Error:   "✖ error",
		contract.Warning: "▲ warning",
		contract.Note:    "· note",
	}
	for _, f := range list {
		place := ""
		if f.File != "" {
			place = fmt.Sprintf("%s:%d:%d: ", f.File, f.Line, f.Column)
		}
		what := f.Code
		if f.Kind != "" {
			what = f.Kind + " " + f.Name + ", " + f.Code
		}
		a.wrapped(marks[f.Severity]+"  ", fmt.Sprintf("%s%s [%s]", place, f.Reason, what))
		if f.Fix != "" {
			a.wrapped("         → ", f.Fix)
		}
	}
}

// size writes bytes with the unit that fits.
func size(n int64) string {
	v, unit := float64(n), "B"
	for _, u := range []string{"KiB", "MiB", "GiB", "TiB"} {
		if v < 1024 {
			break
		}
		v, unit = v/1024, u
	}
	if unit == "B" || v >= 100 {
		return fmt.Sprintf("%.0f %s", v, unit)
	}
	return fmt.Sprintf("%.1f %s", v, unit)
}

// done calls something that answers nothing, and says that it is done.
func (a *app) done(words string, call func(c *contract.Client) (*http.Response, error)) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if _, _, err := answer[struct{}](call(c)); err != nil {
		return err
	}
	a.printf("%s\n", words)
	return nil
}
