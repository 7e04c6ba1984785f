package cli

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) catalogueCmd() *cobra.Command {
	cmd := group("catalogue", "The published definitions")
	revision := cmd.PersistentFlags().Int("revision", 0, "a revision (default: the newest)")
	param := func() *int {
		if *revision == 0 {
			return nil
		}
		return revision
	}
	list := &cobra.Command{
		Use: "list", Short: "List definitions", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.ListDefinitions(cmd.Context(), &contract.ListDefinitionsParams{Revision: param()})
			}, func(l contract.DefinitionList) {
				if l.Revision == 0 {
					a.printf("Nothing has been published yet: synaxis draft load DIR\n")
					return
				}
				var rows [][]string
				for _, d := range l.Items {
					hosts := "-"
					if d.Kind == "source" || d.Kind == "settings" {
						hosts = fmt.Sprint(d.Hosts)
					}
					rows = append(
						rows,
						[]string{
							d.Kind,
							d.Name,
							hosts,
							fmt.Sprint(d.Changed),
							fmt.Sprintf("%s:%d", d.File, d.Line),
							d.About,
						},
					)
				}
				a.table([]string{"kind", "name", "hosts", "changed", "file", "about"}, rows, 5)
				a.printf("\nRevision %d, %s\n", l.Revision, plural(len(l.Items), "definition", "definitions"))
			})
		},
	}
	show := &cobra.Command{
		Use: "show KIND NAME", Short: "One definition, as it was written", Args: cobra.ExactArgs(2),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			c, err := a.client()
			if err != nil || len(args) > 1 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			l, _, _ := answer[contract.DefinitionList](
				c.ListDefinitions(cmd.Context(), &contract.ListDefinitionsParams{}),
			)
			var out []string
			seen := map[string]bool{}
			for _, d := range l.Items {
				word := d.Kind
				if len(args) == 1 {
					if d.Kind != args[0] {
						continue
					}
					word = d.Name
				}
				if !seen[word] {
					seen[word] = true
					out = append(out, word)
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.GetDefinition(
					cmd.Context(),
					args[0],
					args[1],
					&contract.GetDefinitionParams{Revision: param()},
				)
			}, func(d contract.Definition) {
				a.printf(
					"# %s %s: %s line %d, meaning last changed in revision %d\n",
					d.Kind,
					d.Name,
					d.File,
					d.Line,
					d.Changed,
				)
				if len(d.Hosts) > 0 {
					a.printf("# %s: %s\n", plural(len(d.Hosts), "host", "hosts"), some(d.Hosts))
				}
				if len(d.UsedBy) > 0 {
					a.printf("# used by %s\n", some(d.UsedBy))
				}
				a.printf("%s", d.Text)
			})
		},
	}
	export := &cobra.Command{
		Use: "export DIR", Short: "Write the files of a revision, byte for byte as they were loaded",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, raw, err := answer[contract.FileList](
				c.ExportCatalogue(cmd.Context(), &contract.ExportCatalogueParams{Revision: param()}),
			)
			if err != nil {
				return err
			}
			if err := writeFiles(args[0], l.Items); err != nil {
				return err
			}
			return a.show(raw, func() {
				a.printf("Revision %d: %s written to %s\n", l.Revision, plural(len(l.Items), "file", "files"), args[0])
			})
		},
	}
	cmd.AddCommand(list, show, export)
	return cmd
}

// writeFiles writes files into a folder, and nowhere else, whatever the service names them and whatever links are
// there.
func writeFiles(dir string, files []contract.File) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range files {
		p := filepath.FromSlash(f.Path)
		err := root.MkdirAll(filepath.Dir(p), 0o755)
		if err == nil {
			err = root.WriteFile(p, []byte(f.Text), 0o644)
		}
		if err != nil {
			return fmt.Errorf("%q is not written into %s: %w", f.Path, dir, err)
		}
	}
	return nil
}

func (a *app) revisionCmd() *cobra.Command {
	cmd := group("revision", "The published states of the catalogue")
	list := &cobra.Command{
		Use: "list", Short: "List revisions, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListRevisions(cmd.Context()) },
				func(l contract.RevisionList) {
					if len(l.Items) == 0 {
						a.printf("Nothing has been published yet: synaxis draft load DIR\n")
						return
					}
					var rows [][]string
					for _, r := range l.Items {
						mark := ""
						if r.InForce {
							mark = "● in force"
						}
						words := r.Title
						if r.Message != "" {
							words += ": " + r.Message
						}
						rows = append(rows, []string{fmt.Sprint(r.Number), mark, r.Author, when(&r.CreatedAt), words})
					}
					a.table([]string{"revision", "", "author", "published", "what"}, rows, 4)
				},
			)
		},
	}
	show := &cobra.Command{
		Use: "show REVISION", Short: "One revision with its definitions", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[0])
			if err != nil {
				return usagef("%q is not the number of a revision", args[0])
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetRevision(cmd.Context(), n) },
				func(r contract.Revision) {
					state := "not in force"
					if r.InForce {
						state = "in force"
					}
					a.facts(
						"revision",
						fmt.Sprintf("%d, %s", r.Number, state),
						"title",
						r.Title,
						"message",
						r.Message,
						"author",
						r.Author,
						"published",
						when(&r.CreatedAt),
						"from draft",
						fmt.Sprint(r.Draft),
					)
					a.printf("\n")
					var rows [][]string
					for _, d := range r.Definitions {
						rows = append(rows, []string{d.Kind, d.Name, fmt.Sprint(d.Changed)})
					}
					a.table([]string{"kind", "name", "meaning last changed in"}, rows, 1)
				},
			)
		},
	}
	cmd.AddCommand(list, show, a.revisionDiffCmd())
	return cmd
}

func (a *app) revisionDiffCmd() *cobra.Command {
	return &cobra.Command{
		Use: "diff A B", Short: "What revision B changes against revision A, by definition and by host",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var n [2]int
			for i, arg := range args {
				var err error
				if n[i], err = strconv.Atoi(arg); err != nil {
					return usagef("%q is not the number of a revision", arg)
				}
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.DiffRevisions(cmd.Context(), n[1], &contract.DiffRevisionsParams{From: n[0]})
				},
				func(i contract.Impact) { a.impact(fmt.Sprintf("Revision %d against revision %d", n[1], n[0]), i) },
			)
		},
	}
}
