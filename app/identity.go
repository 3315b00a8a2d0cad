package app

import (
	"fmt"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/inventory"
)

// watchIdentity keeps what a device is known by when it is first read, and says loudly when another one answers at its
// target.
func (o *Opened) watchIdentity(saved inventory.Device) {
	o.follow(func(body event.Body) {
		fact, ok := body.(event.Fact)
		if !ok || fact.Name != o.Dialect().IdentityFact() {
			return
		}
		if err := keepIdentity(saved.Device, fact.Value); err != nil {
			o.Emit(event.Note{Level: event.Error, Text: err.Error()})
		}
	})
}

func keepIdentity(name, read string) error {
	kept, err := inventory.Load(inventory.Usual())
	if err != nil {
		return err
	}
	device, known := kept.Find(name)
	switch {
	case !known || device.Identity == read:
		return nil
	case device.Identity != "":
		return fmt.Errorf("this is another device: %s is known by %s, and %s answers at %s", name, device.Identity,
			read, device.Target)
	}
	device.Identity = read
	return kept.Put(name, device)
}

// KeepDialect keeps the dialect that was chosen for a device that is kept, where none is kept of it.
func KeepDialect(name string, d *dialect.Dialect) error {
	kept, err := inventory.Load(inventory.Usual())
	if err != nil {
		return err
	}
	device, found := kept.Find(name)
	if !found || device.Dialect != "" && device.Dialect != "none" {
		return nil
	}
	device.Dialect = d.Dialect
	return kept.Put(name, device)
}
