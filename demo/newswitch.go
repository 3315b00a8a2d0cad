package demo

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"path/filepath"

	"pilotrix/bench"
	"pilotrix/bench/maskel"
)

// newSwitchSize is the size of the new switch's images, their heads left out.
const newSwitchSize = 1_572_864

// NewSwitch is a switch as it comes, for Tangle Ness: without a setup, with an old release.
func NewSwitch(lan *bench.LAN) *maskel.NewSwitch {
	return maskel.NewOne(maskel.NewSettings{Model: "S8", Serial: "MS8-000104", MAC: [6]byte{2, 0, 0x5e, 0x10, 0, 1}, Runs: "2.8"}, lan)
}

// NewSwitchImage is an image for the new switches.
func NewSwitchImage(release string, size int) []byte {
	return maskel.MakeLoad(maskel.Load{Release: release, Models: []string{"S8", "S16"}, Boot: "1.0"}, size)
}

// NewSwitchSetup is the setup that was made for the new switch.
func NewSwitchSetup() []byte {
	return []byte("# setup of tangle-sw2, made on 2026-11-20\nname tangle-sw2\n" + maskel.UserLine(user, password) + "port 1 to 6 tide gauges\nport 7 to 8 uplink\n")
}

// NewSwitchShelf makes the shelf of that switch's scene in a folder: the wanted image, its setup, one whose name lies about its
// release, and one for another model.
func NewSwitchShelf(folder string, size int) error {
	shelf := filepath.Join(folder, "shelf")
	wanted, setup := NewSwitchImage("3.2", size), NewSwitchSetup()
	old, other := NewSwitchImage("3.1", size/4), maskel.MakeLoad(maskel.Load{Release: "3.2", Models: []string{"S24"}, Boot: "1.4"}, size/4)
	sums := fmt.Sprintf("%x  strand-s8-3.2.msl\n%x  tangle-sw2.setup\n", sha256.Sum256(wanted), sha256.Sum256(setup))
	return errors.Join(
		write(shelf, "strand-s8-3.2.msl", wanted), write(shelf, "tangle-sw2.setup", setup), write(shelf, "strand-s8-3.3.msl", old),
		write(shelf, "strand-3.2-s24.msl", other), write(shelf, "SHA256SUMS", []byte(sums)),
	)
}
