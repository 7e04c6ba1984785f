package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/yamldoc"
)

// auditFilter is what chooses entries of the audit.
type auditFilter struct {
	who, action, object, text, since, until string
}

func (f *auditFilter) flags(cmd *cobra.Command) {
	s := cmd.Flags()
	s.StringVar(&f.who, "who", "", "only changes by a person whose name has this part")
	s.StringVar(&f.action, "action", "", "only this, such as \"draft publish\" or all of draft")
	s.StringVar(&f.object, "object", "", "only of what has this in its name")
	s.StringVar(&f.text, "text", "", "only where this stands before or after")
	s.StringVar(&f.since, "since", "", "from this time on: 2026-04-01, 2026-04-01T06:00:00Z, or 24h for the last day")
	s.StringVar(&f.until, "until", "", "before this time")
}

func (f *auditFilter) params(limit int) (*contract.ListAuditParams, error) {
	p := &contract.ListAuditParams{Limit: &limit}
	for _, x := range []struct {
		text string
		to   **string
	}{{f.who, &p.Who}, {f.action, &p.Action}, {f.object, &p.Object}, {f.text, &p.Text}} {
		if x.text != "" {
			*x.to = &x.text
		}
	}
	for _, x := range []struct {
		name, text string
		to         **time.Time
	}{{"--since", f.since, &p.Since}, {"--until", f.until, &p.Until}} {
		if x.text == "" {
			continue
		}
		t, err := timeArg(x.text)
		if err != nil {
			return nil, usagef(
				"%s %s: expected a date, a time with its zone, or a duration such as 24h",
				x.name,
				x.text,
			)
		}
		*x.to = &t
	}
	return p, nil
}

// timeArg reads a day (in the local zone), a time with its zone, or how long ago.
func timeArg(s string) (time.Time, error) {
	if d, err := yamldoc.ParseDuration(s); err == nil {
		return time.Now().Add(-d), nil
	}
	if t, err := time.ParseInLocation("2006-01-02", s, time.Local); err == nil {
		return t, nil
	}
	return time.Parse(time.RFC3339, s)
}

func (a *app) auditCmd() *cobra.Command {
	cmd := group("audit", "Every change by a person: who, when, from where, before and after")
	cmd.AddCommand(a.auditListCmd(), a.auditExportCmd())
	return cmd
}

func (a *app) auditListCmd() *cobra.Command {
	var f auditFilter
	var limit int
	var after string
	cmd := &cobra.Command{
		Use: "list", Short: "List changes, newest first", Args: cobra.NoArgs,
		Example: "  synaxis audit list --action secret --since 7d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := f.params(limit)
			if err != nil {
				return err
			}
			if after != "" {
				p.After = &after
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListAudit(cmd.Context(), p) },
				func(l contract.AuditList) {
					if len(l.Items) == 0 {
						a.printf("No change fits.\n")
						return
					}
					var rows [][]string
					for _, e := range l.Items {
						rows = append(rows, []string{when(&e.At), e.Who, e.Action, e.Object, auditChange(e)})
					}
					a.table([]string{"at", "who", "what", "of", "change"}, rows, 4)
					if l.Next != nil {
						a.printf("There are more: --after %s\n", *l.Next)
					}
				},
			)
		},
	}
	f.flags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "how many")
	cmd.Flags().StringVar(&after, "after", "", "go on after this entry")
	return cmd
}

// auditChange tells a change in a line; export and JSON have all of it.
func auditChange(e contract.AuditEntry) string {
	before, after := oneLine(e.Before), oneLine(e.After)
	switch {
	case e.After == "" && e.Before != "":
		return "removed " + before
	case e.Before != "":
		return before + " → " + after
	}
	return after
}

// oneLine writes a value of the audit as short as a table can show it. A definition is known by its first line.
func oneLine(s string) string {
	var text string
	if json.Unmarshal([]byte(s), &text) == nil {
		lines := strings.Split(strings.TrimSpace(text), "\n")
		if s = lines[0]; len(lines) > 1 {
			s += fmt.Sprintf(" … (%d lines)", len(lines))
		}
	}
	if r := []rune(s); len(r) > 90 {
		return string(r[:89]) + "…"
	}
	return s
}

func (a *app) auditExportCmd() *cobra.Command {
	var f auditFilter
	cmd := &cobra.Command{
		Use: "export FILE", Short: "Write all changes that fit into a .csv, .json or .ndjson file",
		Args:    cobra.ExactArgs(1),
		Example: "  synaxis audit export april.csv --since 2026-04-01 --until 2026-05-01",
		RunE: func(cmd *cobra.Command, args []string) error {
			ext := filepath.Ext(args[0])
			if ext != ".csv" && ext != ".json" && ext != ".ndjson" {
				return usagef("%s: the audit is written as .csv, .json or .ndjson", args[0])
			}
			p, err := f.params(1000)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var all []contract.AuditEntry
			for {
				l, _, err := answer[contract.AuditList](c.ListAudit(cmd.Context(), p))
				if err != nil {
					return err
				}
				all = append(all, l.Items...)
				if l.Next == nil {
					break
				}
				p.After = l.Next
			}
			if err := writeAudit(args[0], ext, all); err != nil {
				return err
			}
			return a.showValue(
				map[string]any{"file": args[0], "changes": len(all)},
				func() { a.printf("%s written to %s\n", plural(len(all), "change", "changes"), args[0]) },
			)
		},
	}
	f.flags(cmd)
	return cmd
}

func writeAudit(file, ext string, all []contract.AuditEntry) error {
	w, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	switch ext {
	case ".json":
		if all == nil {
			all = []contract.AuditEntry{}
		}
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		err = e.Encode(all)
	case ".ndjson":
		e := json.NewEncoder(w)
		for _, x := range all {
			if err == nil {
				err = e.Encode(x)
			}
		}
	default:
		c := csv.NewWriter(w)
		err = c.Write([]string{"id", "at", "who", "from", "what", "of", "before", "after"})
		for _, x := range all {
			if err == nil {
				err = c.Write(
					[]string{
						x.Id,
						x.At.UTC().Format(time.RFC3339Nano),
						cellText(x.Who),
						x.Origin,
						x.Action,
						cellText(x.Object),
						cellText(x.Before),
						cellText(x.After),
					},
				)
			}
		}
		c.Flush()
		if err == nil {
			err = c.Error()
		}
	}
	if cerr := w.Close(); err == nil {
		err = cerr
	}
	return err
}

// cellText keeps a spreadsheet from taking a text for a formula.
func cellText(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}
