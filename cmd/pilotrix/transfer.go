package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/line"
	"pilotrix/core/network"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/tftp"
	"pilotrix/core/transfer/xmodem"
	"pilotrix/core/units"
)

func (p *program) sendCommand() *cobra.Command {
	var flags targetFlags
	var push pushing
	var protocol string
	var scale float64
	cmd := &cobra.Command{
		Use:   "send FILE --on TARGET | --to ADDRESS",
		Short: "Send a file to a receiver that waits on the line, or by TFTP to a recovery loader",
		Long: `Sends a file to a receiver that waits on the line, or by TFTP to a loader. A recovery loader listens for
a few seconds only: the request is repeated until it is answered, or the timeout is over.`,
		Example: `  pilotrix send kernel.img --on '/dev/ttyUSB0?speed=115200' --protocol xmodem-1k
  pilotrix send kernel.img --on unix:/run/board.sock --protocol ymodem
  pilotrix send recovery.img --protocol tftp --to 192.0.2.1 --timeout 10m`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if protocol == carrier.TFTP.Name || push.to != "" && !cmd.Flags().Changed("protocol") {
				return p.push(cmd.Context(), args[0], push)
			}
			variant, target, err := transferArgs(protocol, flags.on)
			if err != nil {
				return usage(err)
			}
			return p.sendOver(cmd.Context(), args[0], target, scale, variant)
		},
	}
	flags.add(cmd)
	addTimeScale(cmd, &scale, 8)
	push.add(cmd)
	cmd.Flags().StringVar(&protocol, "protocol", "xmodem-1k",
		"the `protocol`: xmodem, xmodem-1k, ymodem or ymodem-g over the line; tftp over the network")
	return cmd
}

// sendOver sends a file over the line.
func (p *program) sendOver(
	ctx context.Context, path string, target line.Target, scale float64, variant xmodem.Variant,
) error {
	file, err := os.Open(path)
	if err != nil {
		return usage(err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	header := xmodem.Header{Name: filepath.Base(path), Size: knownSize(info), Modified: info.ModTime()}
	return p.transfer(
		ctx,
		target,
		scale,
		info.Size(),
		func(ctx context.Context, port transfer.Duplex, opt xmodem.Options) (xmodem.Result, error) {
			return xmodem.Send(ctx, port, []xmodem.File{{Header: header, Data: file}}, opt)
		},
		variant,
	)
}

// pushing is what sending by TFTP has to be told.
type pushing struct {
	to, as        string
	timeout       time.Duration
	block, window int
}

func (o *pushing) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.to, "to", "", "by TFTP: the loader's `address`, with a port or without")
	cmd.Flags().StringVar(&o.as, "as", "", "by TFTP: the `name` it is sent under; its own unless said")
	cmd.Flags().DurationVar(&o.timeout, "timeout", 10*time.Minute, "by TFTP: how `long` the window is waited for")
	cmd.Flags().IntVar(&o.block, "block", 0, "by TFTP: the block size to ask for, in `bytes`")
	cmd.Flags().IntVar(&o.window, "window", 0, "by TFTP: the window to ask for, in `blocks`")
}

// push sends a file to a TFTP server, again and again until its window opens.
func (p *program) push(ctx context.Context, path string, o pushing) error {
	if o.to == "" {
		return usage(errors.New("say where the loader is: --to ADDRESS"))
	}
	to, err := netip.ParseAddrPort(o.to)
	if err != nil {
		addr, addrErr := netip.ParseAddr(o.to)
		if addrErr != nil {
			return usage(fmt.Errorf("--to %q: want an address, or an address with a port", o.to))
		}
		to = netip.AddrPortFrom(addr, tftp.Port)
	}
	info, err := os.Stat(path)
	if err != nil {
		return usage(err)
	}
	limited, cancel := context.WithTimeout(ctx, o.timeout)
	defer cancel()
	client := tftp.Client{
		Network: network.Host{},
		Block:   o.block,
		Window:  o.window,
		Progress: func(at transfer.Progress) {
			fmt.Fprintf(p.err, "\r%s", progressText(at, info.Size()))
		},
		Remark: func(text string) { fmt.Fprintf(p.err, "\n%s\n", text) },
	}
	open := func() (io.ReadCloser, error) { return os.Open(path) }
	result, err := client.PutWhenOpen(
		limited,
		to,
		cmp.Or(o.as, filepath.Base(path)),
		knownSize(info),
		open,
		tftp.Opening{
			Trying: func(tries int) { fmt.Fprintf(p.err, "\rwaiting for %s to take it, try %d   ", to, tries) },
			Cut: func(sent int64, err error) {
				fmt.Fprintf(p.err, "\nbroken off after %d B: %v; beginning again\n", sent, err)
			},
		},
	)
	fmt.Fprintln(p.err)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "done: %d B in %s, %s, %s resent\n", result.Bytes, result.Took.Round(time.Millisecond),
		result.Terms, units.Many(result.Resent, "block"))
	return nil
}

// knownSize is a file's size, -1 of what is no plain file, such as a pipe.
func knownSize(info os.FileInfo) int64 {
	if !info.Mode().IsRegular() {
		return -1
	}
	return info.Size()
}

// progressText is how far a transfer is; what depends on the size is left out where that is not known.
func progressText(at transfer.Progress, size int64) string {
	text := fmt.Sprintf("%d B  %.1f kB/s  %d resent   ", at.Bytes, at.Rate/1000, at.Resent)
	if size > 0 {
		text = fmt.Sprintf("%d B of %d  %.1f kB/s  %d resent  ", at.Bytes, size, at.Rate/1000, at.Resent)
	}
	if size > 0 && at.Rate > 0 {
		text += fmt.Sprintf("%s left   ", at.Left.Round(time.Second))
	}
	return text
}

func (p *program) receiveCommand() *cobra.Command {
	var flags targetFlags
	var protocol, to string
	var scale float64
	cmd := &cobra.Command{
		Use:   "receive --on TARGET",
		Short: "Receive a file from a sender on the line",
		Long: `Receives a file from a sender on the line. Nothing is ever overwritten. XMODEM says neither name nor
size: --to is the file then, and its end may hold padding. YMODEM says both: --to is a folder.`,
		Example: `  pilotrix receive --on /dev/ttyUSB0 --protocol xmodem --to saved.conf
  pilotrix receive --on /dev/ttyUSB0 --protocol ymodem --to ./from-device`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			variant, target, err := transferArgs(protocol, flags.on)
			if err != nil {
				return usage(err)
			}
			if to == "" && !variant.Batch() {
				return usage(errors.New("XMODEM does not say a name: give the file with --to"))
			}
			return p.transfer(
				cmd.Context(),
				target,
				scale,
				0,
				func(ctx context.Context, port transfer.Duplex, opt xmodem.Options) (xmodem.Result, error) {
					var last *os.File
					result, err := xmodem.Receive(ctx, port, func(h xmodem.Header) (io.WriteCloser, error) {
						file, err := transfer.Create(to, h.Name, variant.Batch())
						last = file
						return file, err
					}, opt)
					if err != nil && last != nil {
						err = transfer.KeepPart(last.Name(), err)
					}
					return result, err
				},
				variant,
			)
		},
	}
	flags.add(cmd)
	addTimeScale(cmd, &scale, 8)
	cmd.Flags().StringVar(&protocol, "protocol", "ymodem", "the `protocol`: xmodem, xmodem-1k, ymodem or ymodem-g")
	cmd.Flags().StringVar(&to, "to", "", "the `file`, or the folder for YMODEM")
	return cmd
}

func transferArgs(protocol, on string) (xmodem.Variant, line.Target, error) {
	variant, err := xmodem.Parse(protocol)
	if err != nil {
		return 0, line.Target{}, err
	}
	if on == "" {
		return 0, line.Target{}, errors.New("say where the device is: --on TARGET")
	}
	target, err := line.ParseTarget(on)
	return variant, target, err
}

type carry func(ctx context.Context, port transfer.Duplex, opt xmodem.Options) (xmodem.Result, error)

// transfer moves a file outside of a runbook, with its progress on standard error.
func (p *program) transfer(
	ctx context.Context, target line.Target, scale float64, size int64, move carry, variant xmodem.Variant,
) error {
	o, err := p.begin(ctx, app.Opening{Target: target, Scale: scale})
	if err != nil {
		return err
	}
	o.Begin()
	var result xmodem.Result
	var last time.Time
	err = o.Transfer(ctx, func(ctx context.Context, port transfer.Duplex) (err error) {
		result, err = move(ctx, port, xmodem.Options{
			Variant:   variant,
			Clock:     o.Clock(),
			Character: arithmetic.CharacterTime(o.LineRate()),
			Progress: func(progress transfer.Progress) {
				if time.Since(last) > 500*time.Millisecond {
					last = time.Now()
					fmt.Fprintf(p.err, "\r%s  %s", progress.State, progressText(progress, max(size, progress.Size)))
				}
			},
		})
		return err
	})
	if !last.IsZero() {
		fmt.Fprintln(p.err)
	}
	err = errors.Join(err, o.Close("the transfer ended"))
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "done: %d B in %s, %s, %d resent, padding %d B\n", result.Bytes,
		result.Took.Round(10*time.Millisecond), units.Many(result.Blocks, "block"), result.Resent, result.Padding)
	return nil
}
