package line

import (
	"cmp"
	"slices"
	"strings"

	"go.bug.st/serial"
)

// Port is a serial port of this machine.
type Port struct {
	Path   string `json:"path"`
	Maker  string `json:"maker,omitempty"`   // of the USB adapter
	Name   string `json:"product,omitempty"` // of the USB adapter
	Serial string `json:"serial,omitempty"`  // of the USB adapter
	UsedBy string `json:"used_by,omitempty"` // the process that holds it
}

// String is the path with what is known of the adapter.
func (p Port) String() string {
	var about []string
	for _, part := range []string{p.Maker, p.Name} {
		if part != "" {
			about = append(about, part)
		}
	}
	if p.Serial != "" {
		about = append(about, "serial number "+p.Serial)
	}
	if len(about) == 0 {
		return p.Path
	}
	return p.Path + " (" + strings.Join(about, ", ") + ")"
}

// Ports lists the serial ports of this machine, by path.
func Ports() ([]Port, error) {
	paths, err := serial.GetPortsList()
	if err != nil {
		return nil, err
	}
	ports := make([]Port, 0, len(paths))
	for _, path := range paths {
		port := Port{Path: path}
		describe(&port)
		ports = append(ports, port)
	}
	slices.SortFunc(ports, func(a, b Port) int { return cmp.Compare(a.Path, b.Path) })
	return ports, nil
}
