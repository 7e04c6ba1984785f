package cli

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) hostHistoryCmd() *cobra.Command {
	var at string
	cmd := &cobra.Command{
		Use: "history HOST", Short: "What a host was to run, with which labels and settings, and by whose change",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			p := &contract.GetHostHistoryParams{}
			if at != "" {
				t, err := moment(at)
				if err != nil {
					return err
				}
				p.At = &t
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.GetHostHistory(cmd.Context(), args[0],
						p)
				},
				func(l contract.HostHistory) {
					if at != "" {
						a.moment(l.Items[0])
						return
					}
					var rows [][]string
					for _, m := range l.Items {
						rollout := "joined"
						if m.Rollout != nil {
							rollout = fmt.Sprintf("rollout %d", *m.Rollout)
						}
						var causes []string
						if m.Causes != nil {
							causes = *m.Causes
						}
						rows = append(rows, []string{when(&m.At), fmt.Sprint(m.Revision), rollout, str(m.Who),
							strings.Join(causes, ", ")})
					}
					a.table([]string{"from", "revision", "by", "who", "what differs"}, rows, 4)
				},
			)
		},
	}
	cmd.Flags().StringVar(&at, "at", "", "a day, or a time: what it was to run then, with its config")
	return cmd
}

// moment reads a day, which is its end, or a time.
func moment(text string) (time.Time, error) {
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return t.AddDate(0, 0, 1).Add(-time.Second), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usagef("%q is no day such as 2031-04-02, and no time such as \"2031-04-02 16:00\"", text)
}

func (a *app) moment(m contract.HostMoment) {
	pairs := func(m *map[string]string) string {
		if m == nil {
			return "not written down"
		}
		var parts []string
		for _, k := range sortedKeys(*m) {
			parts = append(parts, k+"="+(*m)[k])
		}
		return strings.Join(parts, ", ")
	}
	by := str(m.Who)
	if m.Rollout != nil {
		by = fmt.Sprintf("rollout %d by %s", *m.Rollout, str(m.Who))
	}
	a.facts("from", when(&m.At), "revision", fmt.Sprint(m.Revision), "by", by, "labels", pairs(m.Labels), "settings",
		pairs(m.Settings), "note", str(m.Note))
	if m.Config != nil {
		a.printf("\n%s", *m.Config)
	}
}

func (a *app) hostLetGoCmd() *cobra.Command {
	return &cobra.Command{
		Use: "let-go HOST", Short: "Give a pinned host what is in force, and let it go with the others again",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.LetHostGo(cmd.Context(), args[0])); err != nil {
				return err
			}
			a.printf("%s gets what is in force, and goes with the others again\n", args[0])
			return nil
		},
	}
}
