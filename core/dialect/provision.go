package dialect

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/source"
)

// Provision says how a new device provisions itself.
type Provision struct {
	Vendor source.Pattern `yaml:"vendor" jsonschema_description:"The vendor class that it tells when it asks for an address (DHCP option 60)"`
	Names  []string       `yaml:"names" jsonschema:"required" jsonschema_description:"The names that it asks for its configuration under, in that order; with ${name} for the host name that it was given, ${mac} for its hardware address as 02005e100001, ${mac_end} for the last six digits, ${mac_dashes} for 02-00-5e-10-00-01"`
}

// provisionText are what the names may hold.
var provisionText = []string{"name", "mac", "mac_end", "mac_dashes"}

// provision takes what a dialect says of that.
func (c *compiler) provision() {
	said := c.d.Document.Provision
	if said == nil {
		return
	}
	if len(said.Names) == 0 {
		c.complain("provision.names", "say the names that it asks for its configuration under")
	}
	for i, text := range said.Names {
		path := fmt.Sprintf("provision.names[%d]", i)
		t := c.template(path, text)
		if t == nil {
			continue
		}
		for _, name := range t.Uses() {
			if !slices.Contains(provisionText, name) {
				c.complain(path, "no %s is known of a new device; there are %s", name,
					strings.Join(provisionText, ", "))
			}
		}
		c.d.setups = append(c.d.setups, t)
	}
}

// Vendor reports whether a new device that says this vendor class may be of the dialect's kind; any may where the
// dialect says none.
func (d *Dialect) Vendor(class string) bool {
	p := d.Document.Provision
	return p == nil || p.Vendor == "" || p.Vendor.RE().MatchString(class)
}

// SetupNames are the names that a new device asks for its configuration under, in its order, by the host name that it
// is given, empty for none, and its MAC address. Those that need a name which there is none of are left out.
func (d *Dialect) SetupNames(name, mac string) (names []string, err error) {
	digits := strings.ReplaceAll(mac, ":", "")
	env := map[string]any{
		"name":       name,
		"mac":        digits,
		"mac_end":    digits[max(0, len(digits)-6):],
		"mac_dashes": strings.ReplaceAll(mac, ":", "-"),
	}
	for _, t := range d.setups {
		if name == "" && slices.Contains(t.Uses(), "name") {
			continue
		}
		text, err := t.Render(env)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(names, text) {
			names = append(names, text)
		}
	}
	return names, nil
}
