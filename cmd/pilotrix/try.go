package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/core/dialect"
	"pilotrix/core/logbook"
	"pilotrix/core/plain"
	"pilotrix/core/shipped"
	"pilotrix/core/transcript"
	"pilotrix/core/units"
)

func (p *program) tryCommand() *cobra.Command {
	var session int64
	var all bool
	cmd := &cobra.Command{
		Use:   "try DIALECT [TEXT] | DIALECT --session ID",
		Short: "Show line by line what a dialect makes of a recorded session, or of a text",
		Long: `Holds a dialect against what a device has written: a session of the logbook, or a text file (- for the
standard input). Each line is shown with what matched it: a prompt and the command behind it, a reading and
the facts that it makes, a question, noise. Lines that nothing matched are marked ?, what a reading looked for in
vain is marked ✗, and what of the dialect never matched is listed at the end. Exits with 1 when something is
marked ✗.`,
		Example: `  pilotrix dialect try mine.yaml --session 12
  pilotrix dialect try mine.yaml console.txt --all`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			if (len(args) == 2) == (session != 0) {
				return usage(errors.New("say what to try it on: a text file, or --session ID (see logbook list)"))
			}
			d, err := shipped.Dialect(args[0])
			if err != nil {
				return usage(err)
			}
			trial := d.NewTrial()
			if session != 0 {
				err = p.trySession(trial, session, d)
			} else {
				err = tryText(trial, args[1])
			}
			if err != nil {
				return err
			}
			return p.reportTrial(trial, all)
		},
	}
	cmd.Flags().Int64Var(&session, "session", 0, "the `number` of a session in the logbook")
	cmd.Flags().BoolVar(&all, "all", false, "show the lines of known answers too that make no fact")
	return cmd
}

func (p *program) trySession(trial *dialect.Trial, id int64, d *dialect.Dialect) error {
	return p.withLogbook(func(book *logbook.Logbook) error { return transcript.TrySession(trial, book, id, d) })
}

func tryText(trial *dialect.Trial, path string) error {
	from := os.Stdin
	if path != "-" {
		file, err := os.Open(path)
		if err != nil {
			return usage(err)
		}
		defer file.Close()
		from = file
	}
	err := transcript.TryText(trial, from)
	if err != nil {
		err = fmt.Errorf("%s: %w", path, err)
	}
	if errors.Is(err, transcript.ErrNoText) {
		return usage(err)
	}
	return err
}

// reportTrial prints every line with what was made of it.
func (p *program) reportTrial(trial *dialect.Trial, all bool) error {
	lines, unused := trial.Result()
	unknown, faults := 0, 0
	for _, line := range lines {
		mark := " "
		if !line.Known() {
			mark = "?"
			unknown++
		}
		if len(line.Faults) > 0 {
			mark = "✗"
		}
		quiet := len(line.Matches) == 0 && mark == " "
		if quiet && !all {
			continue
		}
		fmt.Fprintf(p.out, "%s %-64s %s\n", mark, plain.Text(clipped(line.Line, 64)),
			plain.Text(strings.Join(line.Matches, " · ")))
		for _, fault := range line.Faults {
			faults++
			fmt.Fprintf(p.out, "✗ %-64s %s\n", "", plain.Text(fault))
		}
	}
	fmt.Fprintf(p.out, "\n%s; nothing knows %d of them (?); looked for in vain: %s (✗)\n",
		units.Many(len(lines), "line"), unknown, units.Many(faults, "thing"))
	if len(unused) > 0 {
		fmt.Fprintf(p.out, "never seen here: %s\n", strings.Join(unused, ", "))
	}
	if faults > 0 {
		return errFaults
	}
	return nil
}

var errFaults = errors.New("a reading looked for something in vain; see the lines with ✗")

func clipped(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}
