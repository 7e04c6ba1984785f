package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/inventory"
)

func (a *app) hostExplainCmd() *cobra.Command {
	hosts := a.completeHosts()
	return &cobra.Command{
		Use: "explain HOST SOURCE", Short: "Why a host does or does not get a source, line by line",
		Args: cobra.ExactArgs(2),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			if len(args) != 1 {
				return hosts(cmd, args, word)
			}
			c, err := a.client()
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			l, _, _ := answer[contract.DefinitionList](
				c.ListDefinitions(cmd.Context(), &contract.ListDefinitionsParams{}),
			)
			var out []string
			for _, d := range l.Items {
				if d.Kind == "source" {
					out = append(out, d.Name)
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.ExplainHost(cmd.Context(), args[0], args[1])
			}, func(e contract.Explanation) {
				verdict := "does not get"
				if e.Gets {
					verdict = "gets"
				}
				a.printf("%s %s %s by revision %d:\n", e.Host, verdict, e.Source, e.Revision)
				for _, l := range e.Lines {
					mark := "✖"
					if l.Holds {
						mark = "✓"
					}
					a.wrapped("  "+mark+" ", l.Text)
				}
			})
		},
	}
}

func (a *app) hostRetireCmd() *cobra.Command {
	return &cobra.Command{
		Use: "retire HOST", Short: "Take a host out of the fleet: its agent stops and deletes its secrets, its " +
			"history stays", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.RetireHost(cmd.Context(), args[0]) },
				func(h contract.Host) {
					a.wrapped(
						"",
						fmt.Sprintf(
							"%s is retired. Its agent is told to stop, to deliver what it holds and to delete its "+
								"secrets: synaxis host show %s says when it has. To bring it back: synaxis "+
								"join-token create --host %s",
							h.Name,
							h.Name,
							h.Name,
						),
					)
				},
			)
		},
	}
}

func (a *app) hostImportCmd() *cobra.Command {
	var dry bool
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Add hosts from a list before their agents exist, or change labels and settings",
		Args: cobra.ExactArgs(1),
		Long: `Reads a list of hosts: a .csv file with a head line (host, label.KEY, setting.NAME), or a .yaml or .json file with a
list of {host, labels, settings}. Hosts that are not known are added and wait for their agents; of those that are, labels
and settings are changed. Nothing is taken away. --dry-run tells what would change.`,
		Example: "  synaxis host import gates.csv --dry-run",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, raw, err := answer[contract.ImportResult](
				c.ImportInventory(
					cmd.Context(),
					contract.InventoryImport{File: filepath.Base(args[0]), Text: string(text), DryRun: &dry},
				),
			)
			if err != nil {
				return a.withFindings(err)
			}
			return a.show(raw, func() {
				for _, ch := range r.Changes {
					a.wrapped(
						fmt.Sprintf("  %-8s %s  ", ch.What, ch.Host),
						strings.TrimSpace(edits("", ch.Labels)+edits("setting ", ch.Settings)),
					)
				}
				words := "%d added, %d changed, %d the same\n"
				if r.DryRun {
					words = "Dry run: %d would be added, %d changed, %d the same\n"
				}
				a.printf(words, r.Added, r.Changed, r.Same)
			})
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	return cmd
}

func edits(what string, list []contract.ValueEdit) string {
	var b strings.Builder
	for _, e := range list {
		if e.Removed != nil && *e.Removed {
			fmt.Fprintf(&b, "%s%s removed (was %s)  ", what, e.Key, e.Before)
		} else if e.Before != "" {
			fmt.Fprintf(&b, "%s%s=%s (was %s)  ", what, e.Key, e.After, e.Before)
		} else {
			fmt.Fprintf(&b, "%s%s=%s  ", what, e.Key, e.After)
		}
	}
	return b.String()
}

func (a *app) hostExportCmd() *cobra.Command {
	return &cobra.Command{
		Use: "export FILE", Short: "Write every host with its labels and own settings, as import reads it",
		Args: cobra.ExactArgs(1),
		Long: "Writes a .csv, .yaml or .json file, by its ending.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, raw, err := answer[contract.Inventory](c.ExportInventory(cmd.Context()))
			if err != nil {
				return err
			}
			text, err := inventoryText(args[0], l.Items)
			if err == nil {
				err = os.WriteFile(args[0], text, 0o644)
			}
			if err != nil {
				return err
			}
			return a.show(
				raw,
				func() { a.printf("%s written to %s\n", plural(len(l.Items), "host", "hosts"), args[0]) },
			)
		},
	}
}

// inventoryText writes hosts in the form that the ending of a file name asks for.
func inventoryText(file string, items []contract.InventoryHost) ([]byte, error) {
	switch filepath.Ext(file) {
	case ".csv":
		hosts := make([]inventory.Host, len(items))
		for i, h := range items {
			hosts[i] = inventory.Host{Name: h.Host, Labels: h.Labels, Settings: h.Settings}
		}
		var b bytes.Buffer
		err := inventory.WriteCSV(&b, hosts)
		return b.Bytes(), err
	case ".json", ".yaml", ".yml":
		text, err := json.MarshalIndent(items, "", "  ")
		if err == nil && filepath.Ext(file) != ".json" {
			return yamlText(text)
		}
		return append(text, '\n'), err
	}
	return nil, usagef("%s: a list of hosts is a .csv, .yaml or .json file", file)
}
