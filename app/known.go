package app

import (
	"errors"
	"os"
	"path/filepath"
	"slices"

	"github.com/adrg/xdg"

	"pilotrix/core/dialect"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
)

// Known is what there is to open and what is known of it, with a logbook. It is what the start screen shows.
type Known struct{ Logbook string }

// Inventory are the devices that are kept.
func (Known) Inventory() (*inventory.Inventory, error) { return inventory.Load(inventory.Usual()) }

// Ports are the serial ports of this machine.
func (Known) Ports() ([]line.Port, error) { return line.Ports() }

// Folders are those of the shelf.
func (Known) Folders() []string {
	register, err := shelves.Load()
	if err != nil {
		return nil
	}
	return register.Folders
}

// Book is what the logbook knows of each device, by its name, and which sessions were cut off and not taken up again.
func (k Known) Book() (known map[string]logbook.Known, cut []logbook.Last, err error) {
	if k.Logbook == NoLogbook {
		return nil, nil, nil
	}
	book, err := logbook.OpenToRead(k.Logbook)
	if errors.Is(err, logbook.ErrNone) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer book.Close()
	known, err = book.Known()
	cut, cutErr := book.Unsettled()
	return known, cut, errors.Join(err, cutErr)
}

// Dialects are those that a device may be found to talk.
func Dialects() (all []*dialect.Dialect) {
	for _, name := range shipped.DialectNames() {
		if d, err := shipped.Dialect(name); err == nil {
			all = append(all, d)
		}
	}
	return all
}

// RunbookNames are the runbooks that can be named, the user's own by their paths.
func RunbookNames() []string {
	own, _ := filepath.Glob(filepath.Join(xdg.ConfigHome, "pilotrix", "runbooks", "*.yaml"))
	own = slices.DeleteFunc(own, func(path string) bool { // reading a pipe may take for ever
		info, err := os.Stat(path)
		return err != nil || !info.Mode().IsRegular()
	})
	return append(own, shipped.RunbookNames()...)
}
