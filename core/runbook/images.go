package runbook

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"pilotrix/core/image"
)

// findImage finds what an input names: a file by its path, looked into when it is an archive, or else an image of the
// shelf by its name or digest. A file in the working folder comes before one of that name on the shelf.
func (p *Prepared) findImage(name string) (*image.Image, error) {
	if _, missing := os.Stat(name); missing != nil && p.Kit.Shelf != nil && !strings.ContainsAny(name, `/\`) {
		item, err := p.Kit.Shelf.Find(name)
		if err != nil {
			return nil, err
		}
		return item.Image, usable(item)
	}
	if item, on := p.onShelf(name); on {
		return item.Image, usable(item)
	}
	path, inside, chosen := name, "", false
	if _, err := os.Stat(name); err != nil {
		path, inside, chosen = strings.Cut(name, "!")
	}
	shelf := image.NewShelf(image.ShelfOptions{Headers: p.Dialect.Headers()})
	items, err := shelf.Look(context.Background(), path)
	if err != nil {
		return nil, err
	}
	return oneOf(items, name, inside, chosen)
}

// oneOf is the image of a file that is meant: the only one, or the one that was chosen.
func oneOf(items []image.Item, name, inside string, chosen bool) (*image.Image, error) {
	var choices []string
	for _, item := range items {
		if len(items) == 1 && !chosen || chosen && item.Inside == inside {
			return item.Image, usable(item)
		}
		what := item.Inside
		if what == "" {
			what = "(the file whole)"
		}
		choices = append(choices, fmt.Sprintf("%s as %s!%s", what, item.Path, item.Inside))
	}
	if chosen {
		return nil, fmt.Errorf("%s: nothing of that name is in it; there is %s", name, strings.Join(choices, ", "))
	}
	return nil, fmt.Errorf("%s can be several images; say which is meant: %s", name, strings.Join(choices, ", "))
}

// onShelf finds the one image of the shelf that a path leads to: it has the digests published beside it.
func (p *Prepared) onShelf(path string) (found image.Item, on bool) {
	place, err := filepath.Abs(path)
	if p.Kit.Shelf == nil || err != nil {
		return found, false
	}
	count := 0
	for _, item := range p.Kit.Shelf.Items() {
		if at, err := filepath.Abs(item.Path); err == nil && at == place {
			found = item
			count++
		}
	}
	return found, count == 1
}

func usable(item image.Item) error {
	switch {
	case item.Problem != "":
		return fmt.Errorf("%s cannot be used: %s", item.Name, item.Problem)
	case item.Broken():
		return fmt.Errorf("%s", item.FitTo(NoFacts).Text())
	}
	return nil
}
