package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/dialect"
	"pilotrix/core/line"
	"pilotrix/core/plain"
	"pilotrix/core/session"
	"pilotrix/core/units"
)

func (p *program) pasteCommand() *cobra.Command {
	var flags targetFlags
	var opt session.PasteOptions
	var prompt, fail string
	var scale float64
	cmd := &cobra.Command{
		Use:   "paste FILE --on TARGET",
		Short: "Type a text file into the line, line after line",
		Long: `Types a text file to the device. Each line is seen on the device's line before it is ended, and its
answer awaited before the next; control characters are refused before anything is sent. A failure names the line of the file.`,
		Example: `  pilotrix paste setup.txt --on '/dev/ttyUSB0?speed=9600'
  pilotrix paste setup.txt --on /dev/ttyUSB0 --prompt '^[\w-]+ // $' --fail 'no such word' --character 2ms`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return usage(err)
			}
			if flags.on == "" {
				return usage(errors.New("say where the device is: --on TARGET"))
			}
			target, err := line.ParseTarget(flags.on)
			if err != nil {
				return usage(err)
			}
			if opt.Prompt, err = patternOf("--prompt", prompt); err != nil {
				return usage(err)
			}
			if opt.Fail, err = patternOf("--fail", fail); err != nil {
				return usage(err)
			}
			d, err := flags.loadDialect(target)
			if err != nil {
				return usage(err)
			}
			if err := dangersIn(d, string(text)); err != nil && !opt.Dangers {
				return usage(fmt.Errorf("%s: %w; --dangers types it all the same", args[0], err))
			}
			return p.paste(cmd.Context(), target, scale, d, args[0], string(text), opt)
		},
	}
	flags.add(cmd)
	addTimeScale(cmd, &scale, 8)
	cmd.Flags().DurationVar(&opt.Character, "character", 0, "a pause after each character, such as `2ms`")
	cmd.Flags().DurationVar(&opt.Line, "line", 0, "a pause after each line, such as `100ms`")
	cmd.Flags().StringVar(&prompt, "prompt", "", "await this `pattern` after each line, instead of its echo")
	cmd.Flags().StringVar(&fail, "fail", "",
		"end when an answer matches this `pattern`, too, besides those that the dialect knows")
	cmd.Flags().BoolVar(&opt.GoOn, "go-on", false,
		"type on after a line that the device does not take, and list those at the end")
	cmd.Flags().BoolVar(&opt.Dangers, "dangers", false, "type lines that the dialect calls a danger, too")
	cmd.Flags().BoolVar(&opt.Blind, "blind", false, "await nothing")
	cmd.Flags().DurationVar(&opt.Timeout, "timeout", 0, "how `long` an echo or a prompt may take; 10 s unless said")
	return cmd
}

// patternOf compiles what a flag says, nil for nothing.
func patternOf(flag, text string) (*regexp.Regexp, error) {
	if text == "" {
		return nil, nil
	}
	pattern, err := regexp.Compile(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", flag, err)
	}
	return pattern, nil
}

// dangersIn finds the first line that an interlock would stop.
func dangersIn(d *dialect.Dialect, text string) error {
	interlocks := d.NewInterlocks()
	for i, line := range strings.Split(text, "\n") {
		if says := interlocks.Stops(line); says != "" {
			return fmt.Errorf("line %d (%q) %s", i+1, strings.TrimSpace(line), says)
		}
		interlocks.Typed(line, time.Now())
	}
	return nil
}

func (p *program) paste(
	ctx context.Context, target line.Target, scale float64, d *dialect.Dialect, name, text string,
	opt session.PasteOptions,
) error {
	o, err := p.begin(ctx, app.Opening{Target: target, Scale: scale, Dialect: d})
	if err != nil {
		return err
	}
	o.Begin()
	opt.Name = filepath.Base(name)
	opt.Progress = func(line, of int) { fmt.Fprintf(p.err, "\rline %d of %d   ", line, of) }
	result, err := o.Paste(ctx, text, opt)
	fmt.Fprintln(p.err)
	if err = errors.Join(err, o.Close("the text was typed")); err != nil {
		return fmt.Errorf("%s: %w; typed before it: %s", name, err, units.Many(result.Lines, "line"))
	}
	for _, refused := range result.Refused {
		fmt.Fprintln(p.err, "refused: "+plain.Text(refused))
	}
	fmt.Fprintf(p.out, "done: %s, %s in %s\n", units.Many(result.Lines, "line"), units.Many(result.Typed, "character"),
		result.Took.Round(10*time.Millisecond))
	return nil
}
