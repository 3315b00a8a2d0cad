package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
)

// MakeShelf gives the shelf of a session, and what was wrong with making it: there always is one.
type MakeShelf func() (*image.Shelf, error)

// ShelfFor is a runbook's shelf, so that both look at the same images, or else one of the folders said or
// registered. Where the register or a pattern is broken the shelf is empty: a console is worth more.
func ShelfFor(prepared *runbook.Prepared, d *dialect.Dialect, folders []string) (*image.Shelf, error) {
	if prepared != nil && prepared.Kit.Shelf != nil {
		return prepared.Kit.Shelf, nil
	}
	shelf, err := shelves.New(d, folders)
	if err != nil {
		shelf = image.NewShelf(image.ShelfOptions{})
	}
	return shelf, err
}

// ShowShelf reports to the session what is on the shelf, now and whenever a folder changes, until ctx ends.
func (o *Opened) ShowShelf(ctx context.Context, made MakeShelf) {
	shelf, err := made()
	o.warn(err)
	last := ""
	report := func(err error) {
		if text := fmt.Sprint(err); text != last { // what goes on being wrong is said once
			last = text
			o.warn(err)
		}
		if len(shelf.Folders()) > 0 {
			o.Emit(runbook.ShelfEvent(shelf, o.Dialect(), o.Facts()))
		}
	}
	if err := shelf.Scan(ctx, nil); ctx.Err() == nil {
		report(err)
	}
	o.warn(shelf.Watch(ctx, report))
}

// AddFolder puts a folder on the shelf of this session and of those to come.
func AddFolder(made MakeShelf, folder string) error {
	if rest, found := strings.CutPrefix(folder, "~"); found {
		folder = xdg.Home + rest
	}
	place, err := shelves.Add(folder)
	if err != nil {
		return err
	}
	shelf, _ := made() // what was wrong with it is reported already
	shelf.Add(place)
	return nil
}

// KitFolders are the folders of the shelf that a runbook works with: those said, or else those of the images that it is
// given where none is registered. No folder, and none registered, is no shelf.
func KitFolders(book *runbook.Runbook, values map[string]string, said []string) (folders []string, any bool, err error) {
	register, err := shelves.Load()
	if err != nil || len(said)+len(register.Folders) > 0 {
		return said, err == nil, err
	}
	for _, input := range book.Inputs {
		folder := filepath.Dir(values[input.Input])
		_, err := os.Stat(folder) // one that is not there is reported with the input
		if input.Kind == runbook.KindImage && values[input.Input] != "" && err == nil &&
			!slices.Contains(folders, folder) {
			folders = append(folders, folder)
		}
	}
	return folders, len(folders) > 0, nil
}

// Kit is what a runbook works with before a session is open.
func Kit(shelf *image.Shelf) runbook.Kit {
	return runbook.Kit{
		Shelf:            shelf,
		UpgradePaths:     shipped.UpgradePaths,
		UpgradePathNames: shipped.UpgradePathsNames(),
	}
}

// Kit is what a runbook works with in this session.
func (o *Opened) Kit(shelf *image.Shelf) runbook.Kit {
	kit := Kit(shelf)
	kit.Network, kit.CutOff = o.host, o.cutOff
	return kit
}
