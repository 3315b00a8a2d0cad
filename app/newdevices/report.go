package newdevices

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"pilotrix/core/provision"
)

// expects reports whether it was said who or how many are expected.
func (o *Options) expects() bool { return o.Expect > 0 || o.Devices != nil }

// left is how many of those that are expected are not done.
func (o *Options) left(all []provision.Course) (n int) {
	done := map[string]bool{}
	for _, c := range all {
		if c.Done {
			done[c.Client.MAC] = true
		}
	}
	for mac := range o.Devices.All() {
		if !done[mac] {
			n++
		}
	}
	return max(n, o.Expect-len(done))
}

// Report writes how far each device has come, and reports whether one that is expected is not done.
func (v *Service) Report(to io.Writer) (missing bool, err error) {
	return v.opt.report(to, v.desk.All())
}

func (o *Options) report(to io.Writer, all []provision.Course) (missing bool, err error) {
	out := tabwriter.NewWriter(to, 0, 0, 2, ' ', 0)
	row := func(mac, addr, name, state string) {
		fmt.Fprintln(out, strings.TrimRight(fmt.Sprintf("%s\t%s\t%s\t%s", mac, addr, name, state), "\t "))
	}
	seen, done := map[string]bool{}, 0
	for _, c := range all {
		if c.Alone || c.Waits && !c.Done {
			continue
		}
		if len(seen) == 0 {
			row("MAC", "ADDRESS", "NAME", "STATE")
		}
		seen[c.Client.MAC] = true
		if c.Done {
			done++
		}
		addr := "-"
		if c.Addr.IsValid() {
			addr = c.Addr.String()
		}
		own, _ := o.Devices.Of(c.Client.MAC)
		row(c.Client.MAC, addr, cmp.Or(own.Name, c.Client.HostName, "-"), c.Text())
	}
	if o.Devices != nil {
		for _, mac := range o.Devices.Order {
			if !seen[mac] {
				own, _ := o.Devices.Of(mac)
				row(mac, "-", cmp.Or(own.Name, "-"), "never asked")
			}
		}
	}
	if err := out.Flush(); err != nil {
		return false, err
	}
	left := len(seen) - done
	if o.expects() {
		left = o.left(all)
	}
	if len(seen) > 0 || o.expects() {
		_, err = fmt.Fprintf(to, "%d done, %d not\n", done, left)
	}
	return o.expects() && left > 0, err
}
