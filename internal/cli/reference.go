package cli

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/language"
	"synaxis/internal/core/yamldoc"
)

func (a *app) referenceCmd() *cobra.Command {
	var write string
	var jsonSchema bool
	topics := func() []string {
		out := slices.Clone(catalogue.Kinds)
		for _, c := range check.Codes {
			out = append(out, c.Name)
		}
		return out
	}
	cmd := &cobra.Command{
		Use:   "reference [KIND|CODE]",
		Short: "What a kind of definition may hold, or what a check finds and what to do",
		Args:  cobra.MaximumNArgs(1),
		Long:  "Needs no service. Without an argument it lists the kinds and the checks.",
		Example: "  synaxis reference source\n  synaxis reference zone-missing\n  synaxis reference --json-schema > " +
			"catalogue.schema.json",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return topics(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case write != "":
				for _, name := range slices.Sorted(maps.Keys(language.Pages())) {
					if err := os.WriteFile(filepath.Join(write, name), language.Pages()[name], 0o644); err != nil {
						return err
					}
					a.printf("%s written\n", filepath.Join(write, name))
				}
				return nil
			case jsonSchema:
				_, err := a.out.Write(language.SchemaFile())
				return err
			case len(args) == 0:
				return a.showValue(map[string]any{"kinds": catalogue.Kinds, "checks": check.Codes}, a.referenceList)
			}
			for _, k := range language.Kinds() {
				if k.Name == args[0] {
					return a.showValue(k, func() { a.referenceKind(k) })
				}
			}
			for _, c := range check.Codes {
				if c.Name == args[0] {
					return a.showValue(c, func() { a.referenceCheck(c) })
				}
			}
			hint := ""
			if near := yamldoc.Nearest(args[0], topics()); near != "" {
				hint = "; did you mean " + near + "?"
			}
			return usagef("%q is neither a kind nor a check%s", args[0], hint)
		},
	}
	cmd.Flags().StringVar(&write, "write", "", "write all reference pages into this folder")
	cmd.Flags().BoolVar(&jsonSchema, "json-schema", false, "print the JSON Schema of definitions, for editors")
	return cmd
}

func (a *app) referenceList() {
	a.printf("Kinds of definitions:\n")
	for _, k := range language.Kinds() {
		a.wrapped(fmt.Sprintf("  %-12s ", k.Name), k.Doc)
	}
	a.printf("\nChecks:\n")
	for _, c := range check.Codes {
		a.wrapped(fmt.Sprintf("  %-24s %-8s ", c.Name, c.Severity), c.What)
	}
}

func (a *app) referenceKind(k language.Kind) {
	a.printf("%s: %s\n\n", k.Name, k.Doc)
	for line := range strings.Lines(k.Example) {
		a.printf("  %s", line)
	}
	a.printf("\n")
	for _, e := range language.Folded(k.Keys) {
		mark := " "
		if e.Need {
			mark = "*"
		}
		words := e.Doc
		if e.Default != "" {
			words += " Default: " + e.Default + "."
		}
		if e.Example != "" {
			words += " For example " + e.Example
		}
		a.printf("%s %s  (%s)\n", mark, language.Path(e.Path), e.Type)
		if words = strings.TrimSpace(words); words != "" {
			a.wrapped("      ", words)
		}
	}
	a.printf("\n* must be there. [] is an item of a list, NAME a key of your own choice.\n")
}

func (a *app) referenceCheck(c check.Code) {
	fleet := ""
	if c.Fleet {
		fleet = ", needs the fleet"
	}
	a.printf("%s (%s%s)\n", c.Name, c.Severity, fleet)
	a.wrapped("  what  ", c.What)
	a.wrapped("  why   ", c.Why)
	a.wrapped("  fix   ", c.Fix)
}
