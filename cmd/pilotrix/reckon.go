package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/line"
	"pilotrix/core/units"
)

func (p *program) calcCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "reckon", Short: "The arithmetic: transfer times, block counters, erase ranges",
		Example: `  pilotrix reckon time lark-8.1.0.cgo --baud 115200 --latency 16ms
  pilotrix reckon time 9MiB --link 100Mbit --trip 40ms
  pilotrix reckon blocks 512
  pilotrix reckon erase --at 0x40000 --size 1310898 --sector 64KiB
  pilotrix reckon burn system wing-2.1.bin --sectors 8x8KiB,127x64KiB --part boot=0+0x8000 --protect boot --part system=0x10000+0x700000`,
	}
	cmd.AddCommand(p.calcTime(), p.calcBlocks(), p.calcErase(), p.calcBurn())
	return cmd
}

func (p *program) calcTime() *cobra.Command {
	var baud, block, window int
	var framing, link string
	var trip, latency time.Duration
	var asJSON bool
	cmd := &cobra.Command{
		Use: "time SIZE | FILE", Short: "What a transfer takes, by each protocol, and why", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			size, err := sizeOrFile(args[0])
			if err != nil {
				return usage(err)
			}
			frame, err := line.ParseFraming(framing)
			if err != nil {
				return usage(err)
			}
			rate, err := linkRate(link)
			if err != nil {
				return usage(err)
			}
			if err := sensible(baud, block, window, trip, latency); err != nil {
				return usage(err)
			}
			all := carrier.Estimates(size, arithmetic.Way{
				Baud:    baud,
				Framing: frame,
				Latency: latency,
				Link:    rate,
				Trip:    trip,
				Block:   block,
				Window:  window,
			})
			if asJSON {
				return json.NewEncoder(p.out).Encode(all)
			}
			fmt.Fprintf(p.out, "%d B\n", size)
			for _, e := range all {
				fmt.Fprintf(p.out, "%-10s %12s  %9.1f kB/s  %-34s %s\n", e.Protocol, e.Time.Round(100*time.Millisecond),
					e.Rate/1000, e.Terms, e.Why)
				if e.Warn != "" {
					fmt.Fprintf(p.out, "%-10s ! %s\n", "", e.Warn)
				}
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&baud, "baud", 0, "the serial line's `speed`")
	cmd.Flags().StringVar(&framing, "framing", line.DefaultFraming, "its `framing`")
	cmd.Flags().DurationVar(&latency, "latency", 0, "how `long` the serial adapter holds what arrives, such as 16ms")
	cmd.Flags().StringVar(&link, "link", "100Mbit", "the network's `rate`, in kbit, Mbit or Gbit a second")
	cmd.Flags().DurationVar(&trip, "trip", arithmetic.UsualTrip,
		"a round trip's `time`, the device's own delay with it")
	cmd.Flags().IntVar(&block, "block", 0, "only this block size of TFTP, in `bytes`")
	cmd.Flags().IntVar(&window, "window", 1, "with this window, in `blocks`")
	p.addJSON(cmd, &asJSON, []arithmetic.Estimate{})
	return cmd
}

// sensible refuses what no line, and no protocol, has.
func sensible(baud, block, window int, trip, latency time.Duration) error {
	switch {
	case baud < 0:
		return fmt.Errorf("--baud %d: a speed is above 0", baud)
	case block != 0 && (block < 8 || block > 65464):
		return fmt.Errorf("--block %d: TFTP has blocks of 8 to 65464 bytes (RFC 2348)", block)
	case window < 1 || window > 65535:
		return fmt.Errorf("--window %d: TFTP has windows of 1 to 65535 blocks (RFC 7440)", window)
	case trip < 0 || latency < 0:
		return fmt.Errorf("a time cannot be negative: --trip %s --latency %s", trip, latency)
	}
	return nil
}

func sizeOrFile(text string) (int64, error) {
	if info, err := os.Stat(text); err == nil && info.Mode().IsRegular() {
		return info.Size(), nil
	}
	size, err := units.ParseSize(text)
	return int64(size), err
}

// linkRate reads bits a second and returns bytes.
func linkRate(text string) (float64, error) {
	var n float64
	var unit string
	if _, err := fmt.Sscanf(text, "%g%s", &n, &unit); err == nil && n > 0 {
		if scale, known := map[string]float64{"bit": 1, "kbit": 1e3, "Mbit": 1e6, "Gbit": 1e9}[unit]; known {
			return n * scale / 8, nil
		}
	}
	return 0, fmt.Errorf("%q is no rate: want one like 100Mbit", text)
}

func (p *program) calcBlocks() *cobra.Command {
	return &cobra.Command{
		Use:   "blocks SIZE",
		Short: "The largest file that TFTP moves with a block size before its counter begins anew",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			block, err := units.ParseSize(args[0])
			if err != nil || block < 8 || block > 65464 {
				return usage(fmt.Errorf("%q is no block size: TFTP has 8 to 65464 bytes (RFC 2348)", args[0]))
			}
			most := arithmetic.LargestTFTP(int(block))
			fmt.Fprintf(p.out, "blocks of %.0f B: %d B (%.1f MiB)\n", block, most, float64(most)/(1<<20))
			return nil
		},
	}
}

func (p *program) calcErase() *cobra.Command {
	var at, size, sector string
	cmd := &cobra.Command{
		Use: "erase", Short: "The sectors that a range takes, and what else is in them", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			begin, err := arithmetic.ParseAddress(at)
			if err != nil {
				return usage(err)
			}
			length, err := sizeOrFile(size)
			if err != nil {
				return usage(err)
			}
			one, err := units.ParseSize(sector)
			if err != nil {
				return usage(err)
			}
			e, err := arithmetic.EraseRange(begin, length, int64(one))
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "erase   %#x to %#x, +%#x  (%d to %d)\n", e.Begin, e.End-1, e.End-e.Begin, e.Begin,
				e.End-1)
			fmt.Fprintf(p.out, "sectors %d of %#x\n", e.Sectors, int64(one))
			fmt.Fprintf(p.out,
				"before  %d B in the first sector are not the file's\nafter   %d B in the last one are not\n", e.Before,
				e.After)
			return nil
		},
	}
	cmd.Flags().StringVar(&at, "at", "", "the first `address`: 0x40000 or 262144")
	cmd.Flags().StringVar(&size, "size", "", "a `size`, or a file")
	cmd.Flags().StringVar(&sector, "sector", "64KiB", "a sector's `size`")
	_ = cmd.MarkFlagRequired("at")
	_ = cmd.MarkFlagRequired("size")
	return cmd
}

func (p *program) calcBurn() *cobra.Command {
	var base, sectors string
	var parts, protect []string
	cmd := &cobra.Command{
		Use:     "burn PART SIZE | FILE",
		Short:   "What writing a file into a part of a flash erases, or why it may not be",
		Args:    cobra.ExactArgs(2),
		Example: "  pilotrix reckon burn system 3000001 --base 0x9f000000 --sectors 8x8KiB,127x64KiB \\\n    --part boot=0+0x8000 --protect boot --part system=0x10000+0x700000",
		RunE: func(_ *cobra.Command, args []string) error {
			flash, err := flashOf(base, sectors, parts, protect)
			if err != nil {
				return usage(err)
			}
			size, err := sizeOrFile(args[1])
			if err != nil {
				return usage(err)
			}
			burn, err := flash.Burns(args[0], size)
			if err != nil {
				return err
			}
			from, last := burn.EraseAt()
			fmt.Fprintf(p.out, "erase  %#x to %#x, +%#x  (%s in %s)\n", from, last, burn.Erase.Size(),
				units.Bytes(burn.Erase.Size()), units.Many(burn.Sectors, "sector"))
			from, last = burn.WriteAt()
			fmt.Fprintf(p.out, "write  %#x to %#x, +%#x  (%s)\n", from, last, burn.Write.Size(),
				units.Bytes(burn.Write.Size()))
			fmt.Fprintf(p.out, "left   %s of part %s\n", units.Bytes(burn.Left), burn.Part.Name)
			return nil
		},
	}
	cmd.Flags().StringVar(&base, "base", "0", "the flash's first `address` on the device")
	cmd.Flags().StringVar(&sectors, "sectors", "", "its `sectors` from its beginning on, such as 8x8KiB,127x64KiB")
	cmd.Flags().StringArrayVar(&parts, "part", nil,
		"a `part` of it: its name, where it begins, its size, such as system=0x10000+0x700000")
	cmd.Flags().StringArrayVar(&protect, "protect", nil, "the `name` of a part that is never erased")
	_ = cmd.MarkFlagRequired("sectors")
	_ = cmd.MarkFlagRequired("part")
	return cmd
}

// flashOf is a map of a flash as the flags say it.
func flashOf(base, sectors string, parts, protect []string) (flash arithmetic.Flash, err error) {
	if flash.Base, err = arithmetic.ParseAddress(base); err != nil {
		return flash, err
	}
	if flash.Sectors, err = arithmetic.ParseSectors(sectors); err != nil {
		return flash, err
	}
	for _, text := range parts {
		part, err := arithmetic.ParsePart(text)
		if err != nil {
			return flash, err
		}
		part.Protected = slices.Contains(protect, part.Name)
		flash.Parts = append(flash.Parts, part)
	}
	for _, name := range protect {
		if _, err := flash.Part(name); err != nil {
			return flash, fmt.Errorf("--protect: %w", err)
		}
	}
	return flash, flash.Check()
}
