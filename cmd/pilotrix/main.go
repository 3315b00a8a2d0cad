// Command pilotrix steers one network device live over its console: rescue, transfer, install,
// restart, proof.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"pilotrix/app"
	"pilotrix/bench"
	"pilotrix/core/plain"
	"pilotrix/core/runbook/engine"
)

// Exit codes, as scripts rely on them; those of a run are runbook.Exit….
const (
	exitFailed = 1
	exitUsage  = 2
	exitFault  = 70 // an internal error
)

// program is what every command shares.
type program struct {
	app.Settings
	out, err io.Writer
	theme    string
	leader   string
	begun    bool // flags and arguments were accepted
}

// exit carries an exit code; its text was printed already when empty.
type exit struct {
	code int
	text string
}

func (e exit) Error() string { return e.text }

// usage marks an error in what was given, not in what happened: that a disk is full, or a folder may not be written, is
// not for want of a better word.
func usage(err error) error {
	if err == nil {
		return nil
	}
	var machine syscall.Errno
	if errors.As(err, &machine) && !errors.Is(err, fs.ErrNotExist) &&
		!slices.Contains([]error{syscall.ENOTDIR, syscall.EISDIR, syscall.EINVAL}, error(machine)) {
		return err
	}
	return exit{exitUsage, err.Error()}
}

func main() {
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	endOnSignals(cancel)
	log.SetOutput(io.Discard) // what libraries say there is not for the terminal that the interface draws on
	p := &program{
		out: &output{to: &plain.Writer{To: os.Stdout}, gone: cancel},
		err: &plain.Writer{To: os.Stderr, Also: "\r"},
	}
	if onTerminal() {
		p.Ask = p.askTerminal
	}
	os.Exit(p.run(ctx, os.Args[1:]))
}

func (p *program) run(ctx context.Context, args []string) (code int) {
	defer func() {
		if fault := recover(); fault != nil {
			fmt.Fprintf(p.err, "pilotrix: a fault of this program: %v\n%s", fault, debug.Stack())
			code = exitFault
		}
	}()
	root := p.root()
	root.SetArgs(joinAwkward(args))
	root.SetOut(p.out)
	root.SetErr(p.err)
	err := root.ExecuteContext(ctx)
	if out, ok := p.out.(*output); ok && out.failed() != nil &&
		(err == nil || errors.Is(err, out.failed()) || errors.Is(err, context.Canceled)) {
		err = out.failed()
	}
	if err == nil {
		return 0
	}
	text := err.Error()
	if cause := context.Cause(ctx); cause != nil { // the word of a program for it says nothing to a reader
		text = strings.ReplaceAll(text, context.Canceled.Error(), cause.Error())
	}
	code = exitFailed
	var coded exit
	if errors.As(err, &coded) {
		if code = coded.code; coded.text == "" {
			text = ""
		}
	} else if errors.As(err, new(app.UnrecordedError)) {
		code = engine.ExitUnrecorded
	} else if out, ok := p.out.(*output); !p.begun && (!ok || out.failed() == nil) {
		code = exitUsage
		text += "\nSee pilotrix --help."
	}
	if text != "" {
		for i, line := range strings.Split(text, "\n") {
			fmt.Fprintln(p.err, map[bool]string{true: "pilotrix: "}[i == 0]+plain.Text(line))
		}
	}
	return code
}

// caution says what went wrong without being a reason to stop.
func (p *program) caution(err error) {
	if err != nil {
		fmt.Fprintln(p.err, "pilotrix:", plain.Text(strings.ReplaceAll(err.Error(), "\n", "; ")))
	}
}

// joinAwkward lets --awkward stand alone, for all of it, or before its switches.
func joinAwkward(args []string) (joined []string) {
	for i := 0; i < len(args); i++ {
		if args[i] == "--awkward" && i+1 < len(args) && !strings.HasPrefix(args[i+1], "-") {
			if _, err := bench.ParseAwkward(args[i+1]); err == nil || strings.Contains(args[i+1], ",") {
				joined = append(joined, args[i]+"="+args[i+1])
				i++
				continue
			}
		}
		joined = append(joined, args[i])
	}
	return joined
}

func (p *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "pilotrix",
		Short: "Steer one network device live over its console",
		Long: `Pilotrix steers one router, switch, gateway or firewall live over its serial console or a shell
session: it finds the device on the line, moves images, types the exact command at the right moment,
stops before what cannot be undone, and keeps what happened.`,
		Example: `  pilotrix                                          devices, ports, what was cut off: what there is to open
  pilotrix demo                                     the whole job on a simulated router
  pilotrix open '/dev/ttyUSB0?speed=9600'           a console, nothing else
  pilotrix run rescue-over-serial --on /dev/ttyUSB0 --dialect brindle-r40 \
      --set image=tern-4.2.1.brm --set user=harbour --secret password=env:PASS --approve all`,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			p.begun = true
			return p.checkFlags()
		},
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return noCommand(cmd, args[0])
			}
			if !onTerminal() {
				return cmd.Help()
			}
			return p.start(cmd.Context())
		},
	}
	flags := root.PersistentFlags()
	flags.StringVar(&p.Logbook, "logbook", filepath.Join(xdg.DataHome, "pilotrix", "logbook.db"),
		"the logbook's `file`; none keeps nothing")
	flags.StringVar(&p.theme, "theme", "auto", "colours for a `ground`: auto (as the terminal says), dark or light")
	flags.StringVar(&p.leader, "leader", "ctrl+g", "the one `key` besides function keys that does not go to the device")
	root.AddCommand(p.demoCommand(), p.openCommand(), p.deviceCommand(), p.runCommand(), p.planCommand(),
		p.sendCommand(), p.receiveCommand(), p.huntCommand(), p.portsCommand(), p.dialectCommand(), p.runbookCommand(),
		p.upgradePathsCommand(), p.benchCommand(), p.logbookCommand(), p.shelfCommand(), p.serveCommand(),
		p.provisionCommand(), p.pasteCommand(), p.calcCommand(), p.versionCommand())
	holdToText(root)
	p.completions(root)
	return root
}

// onTerminal reports whether a person sits in front of the program.
func onTerminal() bool {
	return term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stdout.Fd()))
}
