package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
)

// readFiles reads a file, or all definitions below a folder; paths are relative to it, with slashes.
func readFiles(path string) (files []contract.File, folder bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, false, err
	}
	if !info.IsDir() {
		text, err := os.ReadFile(path)
		return []contract.File{{Path: filepath.Base(path), Text: string(text)}}, false, err
	}
	err = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && p != path && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		switch filepath.Ext(p) {
		case ".yaml", ".yml", ".json":
		default:
			return nil
		}
		if d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			return nil
		}
		rel, err := filepath.Rel(path, p)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(p)
		files = append(files, contract.File{Path: filepath.ToSlash(rel), Text: string(text)})
		return err
	})
	if err == nil && len(files) == 0 {
		err = fmt.Errorf("%s holds no *.yaml, *.yml or *.json", path)
	}
	return files, true, err
}

func (a *app) checkCmd() *cobra.Command {
	return &cobra.Command{
		Use: "check DIR|FILE", Short: "Check definitions without the service", Args: cobra.ExactArgs(1),
		Long: "Makes every check that needs no hosts, and says which ones it could not make.\nExits with 3 when " +
			"there are findings of severity error.",
		RunE: func(_ *cobra.Command, args []string) error {
			files, _, err := readFiles(args[0])
			if err != nil {
				return err
			}
			var defs []*catalogue.Definition
			var problems []yamldoc.Problem
			for _, f := range files {
				d, p := catalogue.Parse(f.Path, []byte(f.Text))
				defs, problems = append(defs, d...), append(problems, p...)
			}
			cat, dup := catalogue.New(defs)
			list := append(
				check.FromProblems(append(problems, dup...)),
				check.Run(
					cat,
					check.World{Cost: func(m mask.Spec) time.Duration { return mask.Measure(m, time.Now) }},
				)...)
			check.Sort(list)
			out := struct {
				Findings []contract.Finding `json:"findings"`
				NotMade  []string           `json:"notMade"`
			}{[]contract.Finding{}, check.NeedFleet()}
			out.Findings = append(out.Findings, contract.FindingsOf(list)...)
			if err := a.showValue(out, func() {
				a.findings(out.Findings)
				a.printf("%s in %s: %s.\n", plural(len(cat.All()), "definition", "definitions"), plural(len(files),
					"file", "files"), summary(out.Findings))
				a.printf("Not made, since they need the hosts (synaxis draft load makes them):\n")
				for _, n := range check.NeedFleet() {
					a.printf("  · %s\n", n)
				}
			}); err != nil {
				return err
			}
			return findingsExit(out.Findings)
		},
	}
}

func summary(list []contract.Finding) string {
	n := map[contract.Severity]int{}
	for _, f := range list {
		n[f.Severity]++
	}
	if len(list) == 0 {
		return "nothing found"
	}
	return fmt.Sprintf(
		"%s, %s, %s",
		plural(n[contract.Error], "error", "errors"),
		plural(n[contract.Warning], "warning", "warnings"),
		plural(n[contract.Note], "note", "notes"),
	)
}

func findingsExit(list []contract.Finding) error {
	for _, f := range list {
		if f.Severity == contract.Error {
			return coded{code: exitFindings, err: errors.New("findings of severity error"), silent: true}
		}
	}
	return nil
}

func (a *app) draftCmd() *cobra.Command {
	cmd := group("draft", "Changes that are not in force yet")
	cmd.AddCommand(
		a.draftLoadCmd(),
		a.draftListCmd(),
		a.draftShowCmd(),
		a.draftCheckCmd(),
		a.draftDiffCmd(),
		a.draftPublishCmd(),
		a.draftDiscardCmd(),
		a.draftCreateCmd(),
		a.draftPutCmd(),
		a.draftRemoveCmd(),
		a.draftRevertCmd(),
		a.draftConflictsCmd(),
	)
	return cmd
}

func (a *app) draftLoadCmd() *cobra.Command {
	var title string
	cmd := &cobra.Command{
		Use: "load DIR|FILE", Short: "Load definitions as a draft: a folder is the whole wanted state, a file adds " +
			"to it", Args: cobra.ExactArgs(1),
		Long: `Loads definitions as a draft: a folder is the whole wanted state, a file adds to it. Tells what is added, changed and removed. A load that
changes nothing makes no draft; the id in its JSON is then 0. Exits with 3 when there are findings of severity error: the draft is kept,
and cannot be published as it is.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			files, folder, err := readFiles(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			d, raw, err := answer[contract.Draft](
				c.LoadDraft(cmd.Context(), contract.NewDraft{Title: &title, Whole: folder, Files: files}),
			)
			if err != nil {
				return a.withFindings(err)
			}
			err = a.show(raw, func() {
				if d.Id == 0 {
					a.printf(
						"%s: nothing differs from %s, so no draft was made.\n",
						plural(len(d.Files), "file", "files"),
						revisionName(d.Base),
					)
					return
				}
				a.printf(
					"Draft %d, %q, from %s: %s.\n",
					d.Id,
					d.Title,
					plural(len(d.Files), "file", "files"),
					summary(d.Findings),
				)
				for _, x := range []struct {
					what  string
					names []string
				}{{"adds", d.Added}, {"changes", d.Changed}, {"removes", d.Removed}} {
					if len(x.names) > 0 {
						a.wrapped(fmt.Sprintf("  %-8s", x.what), listed(x.names))
					}
				}
				a.findings(d.Findings)
				if findingsExit(d.Findings) != nil {
					a.printf("Mend the errors and load again, or edit the draft: synaxis draft put %d FILE\n", d.Id)
					return
				}
				a.printf("Next: synaxis draft diff %d, then synaxis draft publish %d\n", d.Id, d.Id)
			})
			if err != nil {
				return err
			}
			return findingsExit(d.Findings)
		},
	}
	cmd.Flags().StringVar(&title, "title", "", "what the draft is about")
	return cmd
}

// listed names some of a list, and counts the others.
func listed(names []string) string {
	const most = 12
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// withFindings prints the findings that came with a refusal; as JSON and YAML they are the whole output.
func (a *app) withFindings(err error) error {
	var p problemError
	if !errors.As(err, &p) || p.Findings == nil {
		return err
	}
	if a.output != "table" {
		if serr := a.showValue(p.Problem, func() {}); serr != nil {
			return serr
		}
		return err
	}
	a.findings(*p.Findings)
	return err
}

func (a *app) completeDrafts() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.DraftList](c.ListDrafts(cmd.Context()))
		return names(l.Items, func(d contract.DraftSummary) string { return fmt.Sprintf("%d\t%s", d.Id, d.Title) })
	})
}

func (a *app) draftListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List open drafts", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListDrafts(cmd.Context()) },
				func(l contract.DraftList) {
					if len(l.Items) == 0 {
						a.printf("No open draft. Load one: synaxis draft load DIR\n")
						return
					}
					var rows [][]string
					for _, d := range l.Items {
						scope := "adds"
						if d.Whole {
							scope = "whole state"
						}
						rows = append(
							rows,
							[]string{
								fmt.Sprint(d.Id),
								scope,
								revisionName(d.Base),
								d.Author,
								when(&d.CreatedAt),
								fmt.Sprint(len(d.Changes)),
								d.Title,
							},
						)
					}
					a.table([]string{"id", "scope", "made on", "author", "created", "changes", "title"}, rows, 6)
				},
			)
		},
	}
}

// draftArg reads the number of a draft.
func draftArg(s string) (int, error) {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, usagef("%q is not the number of a draft; synaxis draft list shows them", s)
	}
	return n, nil
}

func (a *app) draftShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show DRAFT [KIND NAME]", Short: "A draft with its changes and findings, or the text of one definition " +
			"in it", Args: cobra.MatchAll(cobra.RangeArgs(1, 3), oddArgs), ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 3 {
				d, raw, err := answer[contract.DraftDefinition](
					c.GetDraftDefinition(cmd.Context(), id, args[1], args[2]),
				)
				if err != nil {
					return err
				}
				return a.show(raw, func() { a.printf("%s", d.Text) })
			}
			d, raw, err := answer[contract.Draft](c.GetDraft(cmd.Context(), id))
			if err != nil {
				return err
			}
			l, _, err := answer[contract.DraftDefinitionList](c.ListDraftDefinitions(cmd.Context(), id))
			if err != nil && d.State == "open" {
				return err
			}
			return a.show(raw, func() {
				a.facts(
					"draft",
					fmt.Sprintf("%d, %s", d.Id, d.State),
					"title",
					d.Title,
					"author",
					d.Author,
					"created",
					when(&d.CreatedAt),
					"made on",
					revisionName(d.Base),
					"findings",
					summary(d.Findings),
				)
				var rows [][]string
				for _, x := range l.Items {
					if x.State != contract.DraftDefinitionSummaryStateSame {
						rows = append(
							rows,
							[]string{
								x.Kind,
								x.Name,
								string(x.State),
								fmt.Sprint(x.Errors),
								fmt.Sprint(x.Warnings),
								x.About,
							},
						)
					}
				}
				if len(rows) > 0 {
					a.printf("\n")
					a.table([]string{"kind", "name", "is", "errors", "warnings", "about"}, rows, 5)
				}
				a.printf("\n")
				a.findings(d.Findings)
			})
		},
	}
}

func oddArgs(_ *cobra.Command, args []string) error {
	if len(args) == 2 {
		return fmt.Errorf("accepts a draft, or a draft with a kind and a name; received 2 args")
	}
	return nil
}

func (a *app) draftConflictsCmd() *cobra.Command {
	return &cobra.Command{
		Use: "conflicts DRAFT", Short: "Definitions that another draft, or a later revision, changes too, with both " +
			"texts", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListConflicts(cmd.Context(), id) },
				func(l contract.ConflictList) {
					if len(l.Items) == 0 {
						a.printf("Nothing else changes what draft %d changes.\n", id)
					}
					for _, x := range l.Items {
						other := fmt.Sprintf("draft %d", value(x.Other.Draft))
						if x.Other.Revision != nil {
							other = fmt.Sprintf("revision %d", *x.Other.Revision)
						}
						a.printf(
							"%s %s: draft %d %q by %s, and %s %q by %s (- this draft, + the other)\n",
							x.Kind,
							x.Name,
							id,
							x.Mine.Title,
							x.Mine.Author,
							other,
							x.Other.Title,
							x.Other.Author,
						)
						for _, line := range render.Diff(x.Mine.Text, x.Other.Text, 3) {
							a.printf("  %c %s\n", line.Op, line.Text)
						}
					}
				},
			)
		},
	}
}

func (a *app) draftCheckCmd() *cobra.Command {
	return &cobra.Command{
		Use: "check DRAFT", Short: "Check a draft against the hosts", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			f, raw, err := answer[contract.Findings](c.CheckDraft(cmd.Context(), id))
			if err != nil {
				return err
			}
			if err := a.show(raw, func() {
				a.findings(f.Findings)
				a.printf("Draft %d: %s.\n", id, summary(f.Findings))
			}); err != nil {
				return err
			}
			return findingsExit(f.Findings)
		},
	}
}

func (a *app) draftDiffCmd() *cobra.Command {
	return &cobra.Command{
		Use: "diff DRAFT", Short: "Which definitions and hosts a draft changes, and how", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.DiffDraft(cmd.Context(), id) },
				func(i contract.Impact) {
					against := "what nobody has published before"
					if i.Head > 0 {
						against = revisionName(i.Head)
					}
					a.impact(fmt.Sprintf("Draft %d against %s", id, against), i)
				},
			)
		},
	}
}

func (a *app) draftPublishCmd() *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use: "publish DRAFT", Short: "Make a draft the newest revision; it is not on any host until it is rolled out",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, raw, err := answer[contract.Published](
				c.PublishDraft(cmd.Context(), id, contract.Publication{Message: &message}),
			)
			if err != nil {
				return a.withFindings(err)
			}
			return a.show(raw, func() {
				a.findings(p.Findings)
				a.printf(
					"Draft %d is published as revision %d. No host runs it yet: synaxis rollout preview, then start --watch\n",
					id,
					p.Revision,
				)
			})
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "why")
	return cmd
}

func (a *app) draftDiscardCmd() *cobra.Command {
	return &cobra.Command{
		Use: "discard DRAFT", Short: "Give a draft up", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDrafts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.DiscardDraft(cmd.Context(), id)); err != nil {
				return err
			}
			return a.showValue(
				map[string]any{"id": id, "state": "discarded"},
				func() { a.printf("Draft %d is discarded\n", id) },
			)
		},
	}
}
