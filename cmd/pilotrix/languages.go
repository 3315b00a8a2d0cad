package main

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/shipped"
	"pilotrix/core/source"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
)

// language is what dialects and runbooks have in common on the command line.
type language struct {
	noun      string
	names     func() []string
	text      func(string) ([]byte, error)
	describes func(string) (title, about string, err error)
	document  any
}

func (p *program) dialectCommand() *cobra.Command {
	cmd := p.languageCommand(
		language{"dialect", shipped.DialectNames, shipped.DialectText, describeDialect, &dialect.Document{}})
	cmd.AddCommand(&cobra.Command{
		Use: "check FILE", Short: "Check a dialect; complaints show file, line and column", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := shipped.Dialect(args[0])
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s: %s, %s, %s, %s\n", d.Dialect, units.Many(len(d.Modes), "mode"),
				units.Many(len(d.Readings), "reading"), units.Many(len(d.Actions), "action"), p.warn(d.Warnings()))
			return nil
		},
	})
	cmd.AddCommand(p.tryCommand())
	return cmd
}

func (p *program) runbookCommand() *cobra.Command {
	cmd := p.languageCommand(
		language{"runbook", shipped.RunbookNames, shipped.RunbookText, describeRunbook, &runbook.Document{}})
	var against string
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a runbook, with --dialect also what it asks of one", Args: cobra.ExactArgs(1),
		Example: "  pilotrix runbook check my-change.yaml --dialect brindle-r40",
		RunE: func(_ *cobra.Command, args []string) error {
			book, err := shipped.Runbook(args[0])
			if err != nil {
				return usage(err)
			}
			warnings := book.Warnings()
			if against != "" {
				d, err := shipped.Dialect(against)
				if err == nil {
					warnings, err = book.CheckAgainst(d)
				}
				if err != nil {
					return usage(err)
				}
			}
			fmt.Fprintf(p.out, "%s: %s, %s\n", book.Runbook, units.Many(len(book.Phases), "phase"), p.warn(warnings))
			return nil
		},
	}
	check.Flags().StringVar(&against, "dialect", "", "the `dialect` it is meant for")
	cmd.AddCommand(check)
	return cmd
}

// warn prints what is allowed but odd, and says how much that is.
func (p *program) warn(warnings []*source.Complaint) string {
	for _, w := range warnings {
		fmt.Fprintf(p.err, "warning: %v\n", w)
	}
	if len(warnings) == 0 {
		return "nothing to complain of"
	}
	return fmt.Sprintf("nothing wrong, %d odd", len(warnings))
}

func (p *program) upgradePathsCommand() *cobra.Command {
	cmd := p.languageCommand(language{
		"upgrade paths file",
		shipped.UpgradePathsNames,
		shipped.UpgradePathsText,
		describeUpgradePaths,
		&image.UpgradePaths{},
	})
	cmd.Use = "upgrade-paths"
	cmd.AddCommand(&cobra.Command{
		Use:   "check FILE",
		Short: "Check a file of allowed steps; complaints show file, line and column",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			paths, err := shipped.UpgradePaths(args[0])
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s: %s, nothing to complain of\n", paths.UpgradePaths,
				units.Many(len(paths.Steps), "step"))
			return nil
		},
	})
	return cmd
}

// shippedFile is a file that ships with the program.
type shippedFile struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	About string `json:"about,omitempty"`
}

func (p *program) languageList(l language) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the " + l.noun + "s that ship with the program", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			all := []shippedFile{}
			for _, name := range l.names() {
				title, about, err := l.describes(name)
				if err != nil {
					return err
				}
				all = append(all, shippedFile{name, title, about})
			}
			if asJSON {
				return json.NewEncoder(p.out).Encode(all)
			}
			for _, one := range all {
				fmt.Fprintf(p.out, "%-24s %s\n", one.Name, one.Title)
				for _, line := range paint.Wrap(one.About, 76) {
					fmt.Fprintf(p.out, "    %s\n", line)
				}
			}
			return nil
		},
	}
	p.addJSON(cmd, &asJSON, []shippedFile{})
	return cmd
}

func (p *program) languageCommand(l language) *cobra.Command {
	cmd := &cobra.Command{Use: l.noun, Short: "Check, list and show " + l.noun + "s"}
	cmd.AddCommand(
		p.languageList(l),
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
				return encoder.Encode(source.Schema(l.document))
			},
		},
	)
	return cmd
}

func describeDialect(name string) (title, about string, err error) {
	d, err := shipped.Dialect(name)
	if err != nil {
		return "", "", err
	}
	return d.Title, d.About, nil
}

func describeRunbook(name string) (title, about string, err error) {
	book, err := shipped.Runbook(name)
	if err != nil {
		return "", "", err
	}
	about = book.About
	for _, input := range book.Inputs {
		about += fmt.Sprintf(" %s: %s.", input.Input, input.About)
	}
	return book.Title, strings.TrimSpace(about), nil
}

func describeUpgradePaths(name string) (title, about string, err error) {
	paths, err := shipped.UpgradePaths(name)
	if err != nil {
		return "", "", err
	}
	return units.Many(len(paths.Steps), "step"), paths.About, nil
}
