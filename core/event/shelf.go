package event

import (
	"fmt"
	"time"
)

// The events of the images available, and the releases on the way.

// Fit is whether an image is for the device.
type Fit string

// The fits, the worst first; they are those of core/image.
const (
	FitNo      Fit = "no"
	FitFirst   Fit = "first" // once something is done before
	FitUnknown Fit = "unknown"
	FitYes     Fit = "yes"
)

// ShelfImage is an image as the shelf shows it, held against the device.
type ShelfImage struct {
	Name      string            `json:"name"`
	Path      string            `json:"path,omitempty"`
	Inside    string            `json:"inside,omitempty"`
	Whole     string            `json:"whole,omitempty"` // the kind of archive that it is itself, and is sent as
	Says      map[string]string `json:"says,omitempty"`  // by the image itself, or by its name
	Problem   string            `json:"problem,omitempty"`
	Release   string            `json:"release,omitempty"`
	Companion string            `json:"companion,omitempty"`
	Models    string            `json:"models,omitempty"`
	Size      int64             `json:"size"`
	Digests   map[string]string `json:"digests,omitempty"` // the others, by algorithm
	SHA256    string            `json:"sha256,omitempty"`
	Published string            `json:"published,omitempty"`
	Broken    bool              `json:"broken,omitempty"`
	Fit       Fit               `json:"fit"`
	Against   []string          `json:"against,omitempty"`
}

// HeldFile is a file that the device has itself.
type HeldFile struct {
	Name   string `json:"name"`
	Size   int64  `json:"size,omitempty"`
	Digest string `json:"digest,omitempty"` // the strongest that the device says, after its algorithm: "md5 9a0364b9…"
	Image  string `json:"image,omitempty"`  // of the shelf that it is, or may be
	By     string `json:"by,omitempty"`     // by what that is known: digest, or size and name
}

// HeldFiles are those of one place of the device: its store, a stick in its port.
type HeldFiles struct {
	Title  string     `json:"title"`
	Source string     `json:"source"` // the command that listed them
	At     time.Time  `json:"at"`
	Files  []HeldFile `json:"files"`
}

// Shelf is what the laptop has, held against what was read, and beside it what the device has itself.
type Shelf struct {
	Folders []string     `json:"folders"`
	Images  []ShelfImage `json:"images"`
	Total   int          `json:"total,omitempty"` // on the shelf, of which those are reported that fit best
	Held    []HeldFiles  `json:"held,omitempty"`
}

var shelfKind = declare(Kind[Shelf]{
	Name: "shelf",
	Sample: Shelf{
		Folders: []string{
			"x",
		},
		Images: []ShelfImage{{Name: "lark.cgo", Fit: "no", Against: []string{"made for another"}}},
		Held: []HeldFiles{
			{
				Title:  "the stick in its port",
				Source: "look stick",
				Files:  []HeldFile{{Name: "lark.cgo", Size: 9, By: "digest"}},
			},
		},
	},
})

func (Shelf) kind() *declaration { return shelfKind }

// UpgradeStep is one step of a chain of releases.
type UpgradeStep struct {
	From      string   `json:"from"`
	Release   string   `json:"release"`
	Image     string   `json:"image"`
	Size      int64    `json:"size"`
	Before    []string `json:"before,omitempty"`
	After     []string `json:"after,omitempty"`
	Companion string   `json:"companion,omitempty"`
}

// UpgradePath is the chain of releases from the running to the wanted one.
type UpgradePath struct {
	From      string        `json:"from"`
	To        string        `json:"to"`
	Steps     []UpgradeStep `json:"steps"`
	Takes     time.Duration `json:"takes,omitempty"` // as far as it can be computed
	Downgrade bool          `json:"downgrade,omitempty"`
	Others    []OtherPath   `json:"others,omitempty"`
}

// OtherPath is another way to the wanted release. Each release is a restart.
type OtherPath struct {
	Releases []string      `json:"releases"`
	Takes    time.Duration `json:"takes,omitempty"`
}

var upgradePathKind = declare(Kind[UpgradePath]{
	Name: "upgrade.path",
	Sample: UpgradePath{
		From:   "7.4.2",
		To:     "8.1.0",
		Steps:  []UpgradeStep{{From: "7.4.2", Release: "7.6.1", Before: []string{"licence"}}},
		Others: []OtherPath{{Releases: []string{"7.6.4", "8.1.0"}, Takes: time.Minute}},
	},
	Report: func(b UpgradePath) (string, bool) {
		return fmt.Sprintf("%s to %s in %d steps", b.From, b.To, len(b.Steps)), true
	},
})

func (UpgradePath) kind() *declaration { return upgradePathKind }
