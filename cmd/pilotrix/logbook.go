package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/core/event"
	"pilotrix/core/evidence"
	"pilotrix/core/logbook"
	"pilotrix/core/state"
	"pilotrix/tui"
)

func (p *program) logbookCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "logbook", Short: "Show and replay what happened"}
	cmd.AddCommand(p.logbookList(), p.logbookShow(), p.logbookReplay(), p.logbookDraw())
	return cmd
}

func (p *program) withLogbook(use func(*logbook.Logbook) error) error {
	book, err := logbook.Open(p.logbookPath)
	if err != nil {
		return err
	}
	return errors.Join(use(book), book.Close())
}

func (p *program) logbookList() *cobra.Command {
	var most int
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the sessions, newest first", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return p.withLogbook(func(book *logbook.Logbook) error {
				entries, err := book.List(most)
				if err != nil {
					return err
				}
				if asJSON {
					return json.NewEncoder(p.out).Encode(append([]logbook.Entry{}, entries...))
				}
				for _, e := range entries {
					fmt.Fprintf(p.out, "%5d  %s  %-14s %-22s %-10s %s\n", e.ID, e.Began.Local().Format("2006-01-02 15:04:05"), e.Device, e.Runbook, e.Outcome, e.Target)
				}
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&most, "most", 50, "at most this `many`; 0 for all")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func entryID(args []string) (int64, error) {
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		return 0, usage(fmt.Errorf("%q is no entry's number; see logbook list", args[0]))
	}
	return id, nil
}

func (p *program) logbookShow() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "show ID", Short: "Tell one session: what was typed (⟩) and what came (│), and the course of its runbook", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := entryID(args)
			if err != nil {
				return err
			}
			return p.withLogbook(func(book *logbook.Logbook) error {
				entry, err := book.Find(id)
				if err != nil {
					return err
				}
				view, encoder := newCoursePrinter(p.out), json.NewEncoder(p.out)
				said := newTranscript(view.say)
				err = book.Events(id, func(e event.Event) error {
					if asJSON {
						return encoder.Encode(e)
					}
					view.tell(e)
					said.event(e)
					return nil
				})
				if !asJSON {
					said.end()
				}
				if err == nil && !asJSON && entry.Outcome == logbook.Broken {
					fmt.Fprintln(p.out, "\ncut off here: the program ended in the middle")
				}
				return err
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print every event as a line of JSON")
	return cmd
}

func (p *program) logbookReplay() *cobra.Command {
	var speed float64
	cmd := &cobra.Command{
		Use: "replay ID", Short: "Play one session again in the interface", Args: cobra.ExactArgs(1),
		Example: "  pilotrix logbook replay 12 --speed 20",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := entryID(args)
			if err != nil {
				return err
			}
			if speed <= 0 {
				return usage(errors.New("--speed: want a number above 0"))
			}
			if !onTerminal() {
				return usage(errors.New("replay needs a terminal; without one use logbook show"))
			}
			return p.withLogbook(func(book *logbook.Logbook) error {
				if _, err := book.Find(id); err != nil {
					return err
				}
				return tui.Replay(cmd.Context(), tui.ReplayOptions{
					Theme: p.theme, Leader: p.leader, Speed: speed,
					Play: func(ctx context.Context, show func(event.Event)) error { return play(ctx, book, id, speed, show) },
				})
			})
		},
	}
	cmd.Flags().Float64Var(&speed, "speed", 8, "how many `times` as fast as it happened")
	return cmd
}

// longestPause is how long a replay stands still, however long nothing happened.
const longestPause = 3 * time.Second

func play(ctx context.Context, book *logbook.Logbook, id int64, speed float64, show func(event.Event)) error {
	var last time.Time
	return book.Events(id, func(e event.Event) error {
		if !last.IsZero() {
			pause := min(time.Duration(float64(e.At.Sub(last))/speed), longestPause)
			timer := time.NewTimer(max(pause, 0))
			defer timer.Stop()
			select {
			case <-timer.C:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		last = e.At
		show(e)
		return nil
	})
}

func (p *program) logbookDraw() *cobra.Command {
	var out string
	names := slices.Sorted(maps.Keys(evidence.Charts))
	cmd := &cobra.Command{
		Use: "draw ID CHART --out FILE", Short: "Draw what happened as SVG or PDF: " + strings.Join(names, ", "), Args: cobra.ExactArgs(2),
		Example:   "  pilotrix logbook draw 12 reach --out reach.svg\n  pilotrix logbook draw 12 course --out course.pdf",
		ValidArgs: names,
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := entryID(args)
			if err != nil {
				return err
			}
			chart, known := evidence.Charts[args[1]]
			if !known {
				return usage(fmt.Errorf("no chart %q; there are %s", args[1], strings.Join(names, ", ")))
			}
			return p.withLogbook(func(book *logbook.Logbook) error {
				s := state.New()
				if err := book.Events(id, func(e event.Event) error { s.Apply(e); return nil }); err != nil {
					return err
				}
				return writeDrawing(chart(s), out)
			})
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "the `file` to write, ending in .svg or .pdf; it must not be there yet")
	_ = cmd.MarkFlagRequired("out")
	return cmd
}

// writeDrawing writes a drawing by the ending of the file's name, never over another file.
func writeDrawing(d *evidence.Drawing, out string) (err error) {
	write, known := map[string]func(io.Writer) error{".svg": d.SVG, ".pdf": d.PDF}[strings.ToLower(filepath.Ext(out))]
	if !known {
		return usage(fmt.Errorf("%s: want a name that ends in .svg or .pdf", out))
	}
	file, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, file.Close()) }()
	return write(file)
}
