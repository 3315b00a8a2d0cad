package line

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Port is a serial port of this machine.
type Port struct {
	Path   string `json:"path"`
	Maker  string `json:"maker,omitempty"`   // of the USB adapter
	Name   string `json:"product,omitempty"` // of the USB adapter
	Serial string `json:"serial,omitempty"`  // of the USB adapter
	Place  string `json:"place,omitempty"`   // where it is plugged in, as the system counts its buses and sockets
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

// Is reports whether two ports are the same adapter: by the serial number, or where it has none by its make
// and the place it is plugged in at.
func (p Port) Is(other Port) bool {
	switch {
	case p.Serial != "" || other.Serial != "":
		return p.Serial == other.Serial && p.Name == other.Name
	case p.Place != "" || other.Place != "":
		return p.Place == other.Place && p.Name == other.Name
	}
	return p.Path == other.Path
}

// Ports lists the serial ports of this machine, by path. It opens none of them: that would set a line again
// that something else talks on.
func Ports() ([]Port, error) {
	paths, err := portPaths()
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

// Finder is a line that knows which adapter it is on.
type Finder interface {
	Port() Port
}

// Latent is a line whose adapter delivers what arrives only so often.
type Latent interface {
	Latency() time.Duration
}

// Same finds the port that a lost line was on: at its path, or wherever the same adapter is now. Another
// adapter under the same path is refused, with both named.
func Same(t Target, was Port, ports []Port) (Target, error) {
	here := slices.IndexFunc(ports, func(p Port) bool { return p.Path == was.Path })
	if here >= 0 && ports[here].Is(was) {
		return t, nil
	}
	for _, port := range ports {
		if port.Is(was) {
			t.Address = port.Path
			return t, nil
		}
	}
	if here < 0 {
		return t, &Error{Target: t, Reason: ErrNoSuch, Remedy: "the adapter " + was.String() + " is not plugged in"}
	}
	return t, &Error{
		Target: t,
		Remedy: fmt.Sprintf(
			"another adapter is there now: %s, where %s was; plug that one in again, or open the new one by itself",
			ports[here], was),
	}
}
