package main

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/event"
	"pilotrix/core/evidence"
	"pilotrix/core/image"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
	"pilotrix/demo"
	"pilotrix/tui/theme"
)

// What the shell offers while a command is typed: words from what is available. What goes wrong then offers nothing.

// offers gives words for what is typed next.
type offers func(cmd *cobra.Command, args []string) []string

// completions has every command and flag offer what it takes.
func (p *program) completions(root *cobra.Command) {
	runbooks := func(*cobra.Command, []string) []string { return app.RunbookNames() }
	dialects := func(*cobra.Command, []string) []string { return append(shipped.DialectNames(), "none") }
	args := map[string][]offers{
		"pilotrix run":                {runbooks},
		"pilotrix plan":               {runbooks},
		"pilotrix runbook show":       {runbooks},
		"pilotrix dialect show":       {func(*cobra.Command, []string) []string { return shipped.DialectNames() }},
		"pilotrix dialect try":        {dialects},
		"pilotrix upgrade-paths show": {func(*cobra.Command, []string) []string { return shipped.UpgradePathsNames() }},
		"pilotrix bench":              {places},
		"pilotrix demo":               {scenes},
		"pilotrix shelf show":         {p.imageNames},
		"pilotrix logbook show":       {p.entries},
		"pilotrix logbook replay":     {p.entries},
		"pilotrix logbook export":     {p.entries},
		"pilotrix logbook note":       {p.entries},
		"pilotrix logbook draw": {
			p.entries,
			func(*cobra.Command, []string) []string { return slices.Sorted(maps.Keys(evidence.Charts)) },
		},
	}
	flags := map[string]offers{
		"dialect":       dialects,
		"run":           runbooks,
		"from":          phases,
		"set":           p.settings,
		"to":            p.imageNames,
		"approve":       approvals,
		"upgrade-paths": func(*cobra.Command, []string) []string { return shipped.UpgradePathsNames() },
		"theme":         func(*cobra.Command, []string) []string { return theme.Names },
		"end": func(*cobra.Command, []string) []string {
			return []string{
				string(event.Done),
				string(event.Failed),
				string(event.Stopped),
				logbook.Broken,
				logbook.StillOpen,
			}
		},
	}
	var each func(cmd *cobra.Command)
	each = func(cmd *cobra.Command) {
		for _, one := range cmd.Commands() {
			each(one)
		}
		if by := args[cmd.CommandPath()]; by != nil && cmd.ValidArgsFunction == nil {
			cmd.ValidArgs = nil
			cmd.ValidArgsFunction = func(cmd *cobra.Command, given []string, begun string) ([]string, cobra.ShellCompDirective) {
				if len(given) >= len(by) {
					return nil, cobra.ShellCompDirectiveDefault
				}
				return beginning(by[len(given)](cmd, given), begun), cobra.ShellCompDirectiveDefault
			}
		}
		for name, offer := range flags {
			if cmd.LocalNonPersistentFlags().Lookup(name) == nil && cmd.PersistentFlags().Lookup(name) == nil {
				continue
			}
			_ = cmd.RegisterFlagCompletionFunc(
				name,
				func(cmd *cobra.Command, given []string, begun string) ([]string, cobra.ShellCompDirective) {
					return beginning(offer(cmd, given), begun), cobra.ShellCompDirectiveDefault
				},
			) // one that has its own keeps that
		}
	}
	each(root)
}

// beginning are the words that go on with what is typed.
func beginning(words []string, begun string) []string {
	return slices.DeleteFunc(words, func(word string) bool { return !strings.HasPrefix(word, begun) })
}

func places(*cobra.Command, []string) (all []string) {
	for _, one := range demo.Places() {
		all = append(all, one.Name+"\t"+one.About)
	}
	return all
}

func scenes(*cobra.Command, []string) (all []string) {
	for _, one := range demo.Scenes() {
		all = append(all, one.Name+"\t"+one.Title)
	}
	return all
}

// entries are the newest of the logbook, with what each was.
func (p *program) entries(*cobra.Command, []string) (all []string) {
	_ = p.withLogbook(func(book *logbook.Logbook) error {
		list, err := book.List(40)
		for _, e := range list {
			all = append(all,
				fmt.Sprintf("%d\t%s %s %s, %s", e.ID, e.Began.Local().Format("2006-01-02 15:04"), e.Device, e.Runbook,
					e.Outcome))
		}
		return err
	})
	return all
}

// imageNames are those of the shelf.
func (p *program) imageNames(*cobra.Command, []string) (all []string) {
	shelf, _ := shelves.New(nil, nil)
	if shelf == nil || shelf.Scan(context.Background(), nil) != nil && len(shelf.Items()) == 0 {
		return nil
	}
	for _, item := range shelf.Items() {
		all = append(all, item.Name+"\t"+item.Says[image.SaysRelease])
	}
	return all
}

// bookOf is the runbook that a command is about: its argument, or that of --run.
func bookOf(cmd *cobra.Command, args []string) *runbook.Runbook {
	name, _ := cmd.Flags().GetString("run")
	if len(args) > 0 && (cmd.Name() == "run" || cmd.Name() == "plan") {
		name = args[0]
	}
	book, err := shipped.Runbook(name)
	if name == "" || err != nil {
		return nil
	}
	return book
}

func phases(cmd *cobra.Command, args []string) (all []string) {
	if book := bookOf(cmd, args); book != nil {
		for _, phase := range book.Phases {
			all = append(all, phase.Phase)
		}
	}
	return all
}

func approvals(cmd *cobra.Command, args []string) []string {
	all := []string{"all"}
	if book := bookOf(cmd, args); book != nil {
		for _, phase := range book.Phases {
			for _, step := range phase.Steps {
				if step.Hold != "" {
					all = append(all, step.Step)
				}
			}
		}
	}
	return all
}

// settings are the inputs of a runbook: each by its name, a choice by its values, an image by those of the shelf.
func (p *program) settings(cmd *cobra.Command, args []string) (all []string) {
	book := bookOf(cmd, args)
	if book == nil {
		return nil
	}
	for _, input := range book.Inputs {
		switch input.Kind {
		case runbook.KindSecret:
		case runbook.KindChoice:
			for _, choice := range input.Choices {
				all = append(all, input.Input+"="+string(choice))
			}
		case runbook.KindImage:
			for _, name := range p.imageNames(cmd, args) {
				all = append(all, input.Input+"="+name)
			}
		default:
			all = append(all, input.Input+"=\t"+input.About)
		}
	}
	return all
}
