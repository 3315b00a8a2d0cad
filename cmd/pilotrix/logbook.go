package main

import (
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

	"github.com/spf13/cobra"

	"pilotrix/core/event"
	"pilotrix/core/evidence"
	"pilotrix/core/logbook"
	"pilotrix/core/ownfile"
	"pilotrix/core/plain"
	"pilotrix/core/state"
	"pilotrix/core/transcript"
	"pilotrix/core/units"
	"pilotrix/tui"
)

func (p *program) logbookCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "logbook", Short: "Show, replay and keep what happened"}
	cmd.AddCommand(p.logbookList(), p.logbookShow(), p.logbookReplay(), p.logbookDraw(), p.logbookExport(),
		p.logbookImport(), p.logbookNote(), p.logbookPrune())
	return cmd
}

// withLogbook looks at the logbook; nothing is made or changed by that.
func (p *program) withLogbook(use func(*logbook.Logbook) error) error {
	book, err := logbook.OpenToRead(p.Logbook)
	if err != nil {
		return err
	}
	return errors.Join(use(book), book.Close())
}

// withBook changes the logbook.
func (p *program) withBook(use func(*logbook.Logbook) error) error {
	if p.Logbook == "none" {
		return usage(errors.New("there is no logbook with --logbook none"))
	}
	book, err := logbook.Open(p.Logbook)
	if err != nil {
		return err
	}
	return errors.Join(use(book), book.Close())
}

func (p *program) logbookList() *cobra.Command {
	var filter logbook.Filter
	var since, until string
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the sessions, newest first", Args: cobra.NoArgs,
		Example: `  pilotrix logbook list --device mare-gw1 --end failed --end 'cut off'
  pilotrix logbook list --since 30d --text 'no such word'`,
		RunE: func(*cobra.Command, []string) (err error) {
			if filter.Since, err = units.ParseWhen(since); err != nil {
				return usage(fmt.Errorf("--since: %w", err))
			}
			if filter.Until, err = units.ParseWhen(until); err != nil {
				return usage(fmt.Errorf("--until: %w", err))
			}
			entries := []logbook.Entry{}
			err = p.withLogbook(func(book *logbook.Logbook) error {
				found, err := book.Select(filter)
				entries = append(entries, found...)
				return err
			})
			switch {
			case errors.Is(err, logbook.ErrNone):
				fmt.Fprintln(p.err, err)
			case err != nil:
				return err
			}
			if asJSON {
				return json.NewEncoder(p.out).Encode(entries)
			}
			for _, e := range entries {
				p.printEntry(e, e.Target)
			}
			return nil
		},
	}
	flags := cmd.Flags()
	flags.IntVar(&filter.Most, "most", 50, "at most this `many`; 0 for all")
	flags.StringVar(&filter.Device, "device", "", "those of a device: its `name` or its target, or a part of it")
	flags.StringVar(&filter.Runbook, "runbook", "", "those with a runbook: its `name`, or a part of it")
	flags.StringArrayVar(&filter.Ends, "end", nil, "those that ended so: done, failed, stopped, …, 'cut off', open")
	flags.StringVar(&since, "since", "",
		"those that began then or later: a `time` such as 2026-03-02, or 30d for so long ago")
	flags.StringVar(&until, "until", "", "those that began before that `time`")
	flags.StringVar(&filter.Text, "text", "", "those with a `text` in what came, was typed, or was told")
	p.addJSON(cmd, &asJSON, []logbook.Entry{})
	return cmd
}

// printEntry prints an entry as one row.
func (p *program) printEntry(e logbook.Entry, more string) {
	fmt.Fprintf(p.out, "%5d  %s  %-14s %-22s %-10s %s\n", e.ID, e.Began.Local().Format("2006-01-02 15:04:05"),
		plain.Text(e.Device), plain.Text(e.Runbook), plain.Text(e.Outcome), plain.Text(more))
}

func (p *program) logbookExport() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use: "export ID…", Short: "Write sessions as JSON Lines, to be read elsewhere", Args: cobra.MinimumNArgs(1),
		Example: "  pilotrix logbook export 12 --out mare-gw1.jsonl",
		RunE: func(_ *cobra.Command, args []string) error {
			export := func(to io.Writer) error {
				return p.withLogbook(func(book *logbook.Logbook) error {
					for i := range args {
						id, err := entryID(args[i:])
						if err == nil {
							err = book.Export(id, to)
						}
						if err != nil {
							return err
						}
					}
					return nil
				})
			}
			if out == "" {
				return export(p.out)
			}
			return ownfile.WriteNew(out, 0o600, export)
		},
	}
	cmd.Flags().StringVar(&out, "out", "",
		"into a `file`, which must not be there yet; to the standard output unless said")
	return cmd
}

func (p *program) logbookImport() *cobra.Command {
	return &cobra.Command{
		Use: "import FILE", Short: "Take exported sessions into this logbook", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			file, err := os.Open(args[0])
			if err != nil {
				return usage(err)
			}
			defer file.Close()
			return p.withBook(func(book *logbook.Logbook) error {
				ids, err := book.Import(file)
				switch {
				case len(ids) > 0 && err != nil:
					return fmt.Errorf("%s: %w; %s stands here as cut off: logbook list", args[0], err, entryNames(ids))
				case err != nil:
					return fmt.Errorf("%s: %w; nothing of it was taken in", args[0], err)
				}
				for _, id := range ids {
					fmt.Fprintf(p.out, "entry %d\n", id)
				}
				return nil
			})
		},
	}
}

// entryNames are entries in words.
func entryNames(ids []int64) string {
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = strconv.FormatInt(id, 10)
	}
	return "entry " + strings.Join(names, ", ")
}

func (p *program) logbookNote() *cobra.Command {
	return &cobra.Command{
		Use: "note ID TEXT…", Short: "Add something of your own to a session", Args: cobra.MinimumNArgs(2),
		Example: "  pilotrix logbook note 12 the old power supply was replaced before this",
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := entryID(args)
			if err != nil {
				return err
			}
			return p.withBook(func(book *logbook.Logbook) error { return book.Note(id, strings.Join(args[1:], " ")) })
		},
	}
}

func (p *program) logbookPrune() *cobra.Command {
	var older, to string
	var really bool
	cmd := &cobra.Command{
		Use: "prune", Short: "Tell which sessions are old, or too much, and remove them with --yes", Args: cobra.NoArgs,
		Long: `Tells which sessions would go: those older than --older, and the oldest until the rest takes no more than
--size. Of each device the newest session stays, whatever its age, and so does what goes on now.`,
		Example: "  pilotrix logbook prune --older 365d\n  pilotrix logbook prune --size '500 MB' --yes",
		RunE: func(*cobra.Command, []string) error {
			before, err := units.ParseWhen(older)
			if err != nil {
				return usage(fmt.Errorf("--older: %w", err))
			}
			most := 0.0
			if to != "" {
				if most, err = units.ParseSize(to); err != nil {
					return usage(fmt.Errorf("--size: %w", err))
				}
			}
			if older == "" && to == "" {
				return usage(errors.New("say which: --older 365d, or --size '500 MB'"))
			}
			return p.withBook(func(book *logbook.Logbook) error {
				gone, err := book.Prunable(before, int64(most))
				if err != nil {
					return err
				}
				var bytes int64
				for _, e := range gone {
					bytes += e.Bytes
					p.printEntry(e.Entry, units.Bytes(e.Bytes))
				}
				if !really || len(gone) == 0 {
					fmt.Fprintf(p.out, "would go: %s, %s; --yes removes them for good\n",
						units.Many(len(gone), "session"), units.Bytes(bytes))
					return nil
				}
				fmt.Fprintf(p.out, "removed: %s, %s\n", units.Many(len(gone), "session"), units.Bytes(bytes))
				return book.Prune(gone)
			})
		},
	}
	cmd.Flags().StringVar(&older, "older", "", "those that began before a `time`, such as 365d ago")
	cmd.Flags().StringVar(&to, "size", "", "the oldest, until the rest takes no more than this `size`")
	cmd.Flags().BoolVar(&really, "yes", false, "remove them")
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
	var only string
	cmd := &cobra.Command{
		Use:   "show ID",
		Short: "Show one session: what was asked (⟩), what was answered (│) and in what time, and the course of its runbook",
		Args:  cobra.ExactArgs(1),
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
				view, encoder := transcript.New(p.out), json.NewEncoder(p.out)
				said := transcript.NewExchanges(view, only)
				err = book.Events(id, func(e event.Event) error {
					switch {
					case !asJSON:
						said.Report(e)
					case only == "" || logbook.Holds(e, only):
						return encoder.Encode(e)
					}
					return nil
				})
				if !asJSON {
					said.End()
				}
				if err == nil && !asJSON && entry.Outcome == logbook.Broken {
					fmt.Fprintln(p.out, "\ncut off here: the program ended in the middle")
				}
				return err
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print every event as a line of JSON")
	cmd.Flags().StringVar(&only, "text", "", "only the exchanges and events with a `text` in them")
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
				player, err := book.Player(id, speed)
				if err != nil {
					return err
				}
				return tui.Replay(cmd.Context(), tui.ReplayOptions{Theme: p.theme, Leader: p.leader, Player: player})
			})
		},
	}
	cmd.Flags().Float64Var(&speed, "speed", 8, "how many `times` as fast as it happened")
	return cmd
}

func (p *program) logbookDraw() *cobra.Command {
	var out string
	names := slices.Sorted(maps.Keys(evidence.Charts))
	cmd := &cobra.Command{
		Use:       "draw ID CHART --out FILE",
		Short:     "Draw what happened as SVG or PDF: " + strings.Join(names, ", "),
		Args:      cobra.ExactArgs(2),
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
				if _, err := book.Find(id); err != nil {
					return err
				}
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
func writeDrawing(d *evidence.Drawing, out string) error {
	write, known := map[string]func(io.Writer) error{".svg": d.SVG, ".pdf": d.PDF}[strings.ToLower(filepath.Ext(out))]
	if !known {
		return usage(fmt.Errorf("%s: want a name that ends in .svg or .pdf", out))
	}
	return ownfile.WriteNew(out, 0o644, write)
}
