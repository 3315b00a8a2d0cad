package main

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"pilotrix/tui/theme"
)

// holdToText has every command that only holds others refuse what is none of them, with the nearest right word.
func holdToText(cmd *cobra.Command) {
	for _, one := range cmd.Commands() {
		holdToText(one)
	}
	if takes := cmd.Args; takes != nil {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if at := slices.Index(args, ""); at >= 0 {
				return usage(fmt.Errorf("word %d of %s is empty; it takes: %s", at+1, cmd.CommandPath(), cmd.UseLine()))
			}
			if takes(cmd, args) == nil {
				return nil
			}
			return usage(
				fmt.Errorf("%d words are given to %s, which takes: %s", len(args), cmd.CommandPath(), cmd.UseLine()))
		}
	}
	if cmd.Runnable() || !cmd.HasSubCommands() {
		return
	}
	cmd.Args = cobra.ArbitraryArgs
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		return noCommand(cmd, args[0])
	}
}

// noCommand refuses a word that is no command.
func noCommand(cmd *cobra.Command, word string) error {
	text := fmt.Sprintf("unknown command %q for %q", word, cmd.CommandPath())
	cmd.SuggestionsMinimumDistance = 2
	if near := cmd.SuggestionsFor(word); len(near) > 0 {
		return usage(fmt.Errorf("%s; did you mean %s?", text, strings.Join(near, " or ")))
	}
	var all []string
	for _, one := range cmd.Commands() {
		if one.IsAvailableCommand() {
			all = append(all, one.Name())
		}
	}
	return usage(fmt.Errorf("%s; there are %s", text, strings.Join(all, ", ")))
}

// leaderKey is how a leader key is written: one that no device needs, pressed with a modifier.
var leaderKey = regexp.MustCompile(`^(?:ctrl|alt)\+(?:[a-z0-9]|[][\\^_@])$`)

// checkFlags holds the flags that all commands have to what they can be.
func (p *program) checkFlags() error {
	if !slices.Contains(theme.Names, p.theme) {
		return usage(fmt.Errorf("--theme %s: there are %s", p.theme, strings.Join(theme.Names, ", ")))
	}
	if !leaderKey.MatchString(p.leader) {
		return usage(fmt.Errorf("--leader %s: want a key such as ctrl+g, ctrl+] or alt+x", p.leader))
	}
	if home, err := os.UserHomeDir(); (err != nil || home == "") && os.Getenv("XDG_DATA_HOME") == "" &&
		p.Logbook != "none" {
		p.caution(fmt.Errorf("HOME is not set: what is kept is in %s; set HOME or XDG_DATA_HOME, or say --logbook none",
			xdg.DataHome))
	}
	if p.Logbook == "" {
		return usage(fmt.Errorf("--logbook is empty: say a FILE, or none"))
	}
	return nil
}
