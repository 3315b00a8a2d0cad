package main

import (
	"encoding/json"
	"fmt"

	"github.com/invopop/jsonschema"
	"github.com/spf13/cobra"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/demo"
)

// language is what dialects and runbooks have in common on the command line.
type language struct {
	noun     string
	names    func() []string
	text     func(string) ([]byte, error)
	document any
}

func (p *program) dialectCommand() *cobra.Command {
	cmd := p.languageCommand(language{"dialect", demo.Dialects, demo.DialectText, &dialect.Document{}})
	cmd.AddCommand(&cobra.Command{
		Use: "check FILE", Short: "Check a dialect; complaints show file, line and column", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := demo.LoadDialect(args[0])
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s: %d modes, %d readings, %d actions, nothing to complain of\n", d.Dialect, len(d.Modes), len(d.Readings), len(d.Actions))
			return nil
		},
	})
	return cmd
}

func (p *program) runbookCommand() *cobra.Command {
	cmd := p.languageCommand(language{"runbook", demo.Runbooks, demo.RunbookText, &runbook.Document{}})
	var against string
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a runbook, with --dialect also what it asks of one", Args: cobra.ExactArgs(1),
		Example: "  pilotrix runbook check my-change.yaml --dialect brindle-r40",
		RunE: func(_ *cobra.Command, args []string) error {
			book, err := demo.LoadRunbook(args[0])
			if err != nil {
				return usage(err)
			}
			if against != "" {
				d, err := demo.LoadDialect(against)
				if err == nil {
					err = book.CheckAgainst(d)
				}
				if err != nil {
					return usage(err)
				}
			}
			fmt.Fprintf(p.out, "%s: %d legs, nothing to complain of\n", book.Runbook, len(book.Legs))
			return nil
		},
	}
	check.Flags().StringVar(&against, "dialect", "", "the `dialect` it is meant for")
	cmd.AddCommand(check)
	return cmd
}

func (p *program) pathsCommand() *cobra.Command {
	cmd := p.languageCommand(language{"paths file", demo.Paths, demo.PathsText, &image.Paths{}})
	cmd.Use = "paths"
	cmd.AddCommand(&cobra.Command{
		Use: "check FILE", Short: "Check a file of allowed steps; complaints show file, line and column", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			paths, err := demo.LoadPaths(args[0])
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s: %d steps, nothing to complain of\n", paths.Paths, len(paths.Steps))
			return nil
		},
	})
	return cmd
}

func (p *program) languageCommand(l language) *cobra.Command {
	cmd := &cobra.Command{Use: l.noun, Short: "Check, list and show " + l.noun + "s"}
	cmd.AddCommand(
		&cobra.Command{
			Use: "list", Short: "List the " + l.noun + "s that ship with the program", Args: cobra.NoArgs,
			RunE: func(*cobra.Command, []string) error {
				for _, name := range l.names() {
					fmt.Fprintln(p.out, name)
				}
				return nil
			},
		},
		&cobra.Command{
			Use: "show NAME", Short: "Print one that ships with the program", Args: cobra.ExactArgs(1),
			RunE: func(_ *cobra.Command, args []string) error {
				text, err := l.text(args[0])
				if err != nil {
					return usage(err)
				}
				_, err = p.out.Write(text)
				return err
			},
		},
		&cobra.Command{
			Use: "schema", Short: "Print the JSON Schema for editors", Args: cobra.NoArgs,
			RunE: func(*cobra.Command, []string) error {
				encoder := json.NewEncoder(p.out)
				encoder.SetIndent("", "  ")
				return encoder.Encode((&jsonschema.Reflector{}).Reflect(l.document))
			},
		},
	)
	return cmd
}
