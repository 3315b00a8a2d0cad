package provision

import (
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"

	"pilotrix/core/ownfile"
	"pilotrix/core/source"
)

// Document is a file of the devices that are meant, each with what is its own.
type Document struct {
	BootFile source.Text            `yaml:"boot-file" jsonschema_description:"The file that all are told to fetch, unless a device says another"`
	Options  map[string]source.Text `yaml:"options" jsonschema_description:"Options by their numbers that all are given: addresses, hex 01 04 c0, or a text"`
	Devices  []Entry                `yaml:"devices" jsonschema:"required" jsonschema_description:"The devices that are answered"`
}

// Entry is one device.
type Entry struct {
	MAC           source.Text            `yaml:"mac" jsonschema:"required" jsonschema_description:"Its MAC address, such as 02:00:5e:10:00:01"`
	Name          source.Text            `yaml:"name" jsonschema_description:"The host name that it is given"`
	Address       source.Text            `yaml:"address" jsonschema_description:"The address that it is given; the next free one unless said"`
	BootFile      source.Text            `yaml:"boot-file" jsonschema_description:"The file that it is told to fetch"`
	Configuration source.Text            `yaml:"configuration" jsonschema_description:"The file that it has to have fetched before it is done"`
	Options       map[string]source.Text `yaml:"options" jsonschema_description:"Options by their numbers, besides those of all"`
}

// Devices are those of a file.
type Devices struct {
	Order []string // their MAC addresses
	all   map[string]Device
}

// Device is one, ready to be answered.
type Device struct {
	Name, BootFile, Configuration string
	Address                       netip.Addr // not valid unless said
	Custom                        Custom
}

// LoadDevices reads a file. What is wrong in it is named with its line.
func LoadDevices(path string) (*Devices, error) {
	data, err := ownfile.Read(path)
	if err != nil {
		return nil, err
	}
	return ParseDevices(path, data)
}

// ParseDevices reads a text; name is used in complaints.
func ParseDevices(name string, data []byte) (*Devices, error) {
	var doc Document
	f, err := source.Decode(name, data, &doc)
	if err != nil {
		return nil, err
	}
	d := &Devices{all: map[string]Device{}}
	common := customOf(f, "options", doc.Options)
	for i, e := range doc.Devices {
		at := fmt.Sprintf("devices[%d]", i)
		mac, err := net.ParseMAC(string(e.MAC))
		switch {
		case e.MAC == "":
			continue
		case err != nil || len(mac) != 6:
			f.Complain(at+".mac", "%q is no MAC address: want one like 02:00:5e:10:00:01", e.MAC)
			continue
		case slices.Contains(d.Order, mac.String()):
			f.Complain(at+".mac", "%s is there twice", mac)
		}
		one := Device{
			Name:          string(e.Name),
			BootFile:      string(e.BootFile),
			Configuration: string(e.Configuration),
			Custom:        maps.Clone(common),
		}
		if one.BootFile == "" {
			one.BootFile = string(doc.BootFile)
		}
		if e.Address != "" {
			if one.Address, err = netip.ParseAddr(string(e.Address)); err != nil || !one.Address.Is4() {
				f.Complain(at+".address", "%q is no address: want one like 192.0.2.61", e.Address)
			}
		}
		if one.Custom == nil {
			one.Custom = Custom{}
		}
		maps.Copy(one.Custom, customOf(f, at+".options", e.Options))
		d.Order = append(d.Order, mac.String())
		d.all[mac.String()] = one
	}
	if len(doc.Devices) == 0 {
		f.Complain("devices", "no device is listed")
	}
	return d, f.Err()
}

func customOf(f *source.File, at string, options map[string]source.Text) Custom {
	custom := Custom{}
	for _, number := range slices.Sorted(maps.Keys(options)) {
		code, value, err := ParseOption(number, string(options[number]))
		if err != nil {
			f.Complain(at+"."+number, "%v", err)
			continue
		}
		custom[code] = value
	}
	return custom
}

// Of is the device of a MAC address.
func (d *Devices) Of(mac string) (Device, bool) {
	if d == nil {
		return Device{}, false
	}
	one, known := d.all[mac]
	return one, known
}

// All are the devices by their MAC addresses.
func (d *Devices) All() map[string]Device {
	if d == nil {
		return nil
	}
	return d.all
}
