package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/yamldoc"
)

func (a *app) draftCreateCmd() *cobra.Command {
	var title string
	cmd := &cobra.Command{
		Use: "create", Short: "Begin an empty draft, to put definitions in one by one", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.LoadDraft(cmd.Context(), contract.NewDraft{Title: &title, Files: []contract.File{}})
			}, func(d contract.Draft) {
				a.printf("Draft %d, %q. Next: synaxis draft put %d FILE\n", d.Id, d.Title, d.Id)
			})
		},
	}
	cmd.Flags().StringVar(&title, "title", "", "what the draft is about")
	return cmd
}

func (a *app) draftPutCmd() *cobra.Command {
	return &cobra.Command{
		Use: "put DRAFT FILE|-", Short: "Put the definitions of a file into a draft, each in the place of the one " +
			"of its name", Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeDrafts(),
		Example: "  synaxis draft show 4 source gate-scans > gate.yaml\n  synaxis draft put 4 gate.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			var text []byte
			if args[1] == "-" {
				text, err = io.ReadAll(io.LimitReader(a.in, yamldoc.MaxFile+1))
			} else {
				text, err = os.ReadFile(args[1])
			}
			if err != nil {
				return err
			}
			defs, problems := catalogue.Parse(args[1], text)
			if len(defs) == 0 {
				a.findings(contract.FindingsOf(check.FromProblems(problems)))
				return fmt.Errorf("%s holds no definition that can be told by its kind and name", args[1])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var all []contract.DraftDefinition
			var found []contract.Finding
			for _, def := range defs {
				d, _, err := answer[contract.DraftDefinition](
					c.PutDraftDefinition(
						cmd.Context(),
						id,
						def.Kind,
						def.Name,
						nil,
						contract.DefinitionText{Text: def.Text},
					),
				)
				if err != nil {
					return err
				}
				all, found = append(all, d), append(found, d.Findings...)
			}
			if err := a.showValue(map[string]any{"items": all}, func() {
				for _, d := range all {
					a.printf("%s %s is in draft %d: %s, %s\n", d.Kind, d.Name, id, d.State, summary(d.Findings))
				}
				a.findings(found)
			}); err != nil {
				return err
			}
			return findingsExit(found)
		},
	}
}

// completeDefinitions offers a draft, then a kind, then a name of that kind.
func (a *app) completeDefinitions() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	drafts := a.completeDrafts()
	return func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		switch len(args) {
		case 0:
			return drafts(cmd, args, word)
		case 1:
			return catalogue.Kinds, cobra.ShellCompDirectiveNoFileComp
		}
		c, err := a.client()
		id, derr := draftArg(args[0])
		if err != nil || derr != nil || len(args) > 2 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		l, _, _ := answer[contract.DraftDefinitionList](c.ListDraftDefinitions(cmd.Context(), id))
		var out []string
		for _, d := range l.Items {
			if d.Kind == args[1] {
				out = append(out, d.Name)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) draftEditCmd(
	use, short, done string,
	do func(cmd *cobra.Command, c *contract.Client, id int, kind, name string) (*http.Response, error),
) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(3), ValidArgsFunction: a.completeDefinitions(),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := draftArg(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](do(cmd, c, id, args[1], args[2])); err != nil {
				return err
			}
			return a.showValue(
				map[string]any{"draft": id, "kind": args[1], "name": args[2], "done": done},
				func() { a.printf("%s %s is %s in draft %d\n", args[1], args[2], done, id) },
			)
		},
	}
}

func (a *app) draftRemoveCmd() *cobra.Command {
	return a.draftEditCmd("remove DRAFT KIND NAME", "Take a definition out of the catalogue, in a draft", "removed",
		func(cmd *cobra.Command, c *contract.Client, id int, kind, name string) (*http.Response, error) {
			return c.RemoveDraftDefinition(cmd.Context(), id, kind, name, nil)
		})
}

func (a *app) draftRevertCmd() *cobra.Command {
	return a.draftEditCmd("revert DRAFT KIND NAME", "Give up what a draft does to a definition", "as it was published",
		func(cmd *cobra.Command, c *contract.Client, id int, kind, name string) (*http.Response, error) {
			return c.RevertDraftDefinition(cmd.Context(), id, kind, name)
		})
}
