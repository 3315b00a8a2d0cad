package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/plain"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
	"pilotrix/core/units"
)

// openShelf reads the shelf in some folders, or in those that are registered.
func (p *program) openShelf(ctx context.Context, d *dialect.Dialect, folders []string) (*image.Shelf, error) {
	shelf, err := shelves.New(d, folders)
	if err != nil {
		return nil, err
	}
	began, report := time.Now(), time.Time{}
	err = shelf.Scan(ctx, func(at image.Progress) {
		if now := time.Now(); now.Sub(began) > time.Second && now.Sub(report) > 200*time.Millisecond {
			report = now
			fmt.Fprintf(p.err, "\rreading %d of %d: %s, %d MiB   ", at.Files+1, at.Total, filepath.Base(at.File),
				at.Bytes>>20)
		}
	})
	if !report.IsZero() {
		fmt.Fprintln(p.err)
	}
	return shelf, err
}

func (p *program) shelfCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "shelf", Short: "The images on this laptop: digests, what is inside archives, what they fit",
		Example: `  pilotrix shelf add ~/images
  pilotrix shelf list
  pilotrix shelf fit --fact device.model=G2-4 --fact running.release=7.4.2`,
	}
	cmd.AddCommand(p.shelfAdd(), p.shelfRemove(), p.shelfList(), p.shelfShow(), p.shelfFit())
	return cmd
}

func (p *program) shelfRemove() *cobra.Command {
	return &cobra.Command{
		Use:     "remove FOLDER",
		Short:   "Take a folder off the shelf; its files stay as they are",
		Args:    cobra.ExactArgs(1),
		Example: "  pilotrix shelf remove ~/images",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			r, _ := shelves.Load()
			return r.Folders, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			err := shelves.Forget(args[0])
			if errors.Is(err, shelves.ErrNotThere) {
				return usage(err)
			}
			return err
		},
	}
}

func (p *program) shelfAdd() *cobra.Command {
	var digest string
	var deep bool
	cmd := &cobra.Command{
		Use:     "add FOLDER | FILE --digest DIGEST",
		Short:   "Put a folder on the shelf, or a published digest beside an image",
		Example: "  pilotrix shelf add ~/images\n  pilotrix shelf add ~/images/lark-8.1.0.cgo --digest 'SHA256: 9f2c…'",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if digest != "" {
				return p.addDigest(cmd.Context(), args[0], digest)
			}
			place := args[0]
			if deep {
				place += image.Deep
			}
			if _, err := shelves.Add(place); err != nil {
				return usage(err)
			}
			return p.listShelf(cmd.Context(), nil, false)
		},
	}
	cmd.Flags().BoolVar(&deep, "subfolders", false, "with the folders below it")
	cmd.Flags().StringVar(&digest, "digest", "", "a published `digest`, as it was copied")
	return cmd
}

func (p *program) addDigest(ctx context.Context, place, text string) error {
	at, err := shelves.Paste(ctx, place, text)
	if errors.As(err, new(*shelves.NoDigest)) {
		return usage(err)
	}
	if err != nil {
		return err
	}
	what := ""
	if at.Inside != "" {
		what = ": " + plain.Text(at.Inside) + " inside"
	}
	fmt.Fprintf(p.out, "%s%s is as published by its %s\n", at.Place, what, at.Algorithm)
	return nil
}

func (p *program) shelfList() *cobra.Command {
	var folders []string
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the images, newest release first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return p.listShelf(cmd.Context(), folders, asJSON) },
	}
	cmd.Flags().StringArrayVar(&folders, "shelf", nil, "a `folder`, instead of those that were added")
	p.addJSON(cmd, &asJSON, []image.Item{})
	return cmd
}

func (p *program) listShelf(ctx context.Context, folders []string, asJSON bool) error {
	shelf, err := p.openShelf(ctx, nil, folders)
	if shelf == nil {
		return err
	}
	items := shelf.Items()
	if asJSON {
		return errors.Join(err, json.NewEncoder(p.out).Encode(append([]image.Item{}, items...)))
	}
	if len(shelf.Folders()) == 0 {
		fmt.Fprintln(p.out, "no folder is on the shelf; pilotrix shelf add FOLDER puts one there")
	}
	for _, item := range items {
		fmt.Fprintf(p.out, "%-10s %-28s %12d B  %.12s…  %-10s %s\n", dashed(item.Says[image.SaysRelease]), item.Name,
			item.Size, item.SHA256, publishedWord(item), placeText(item))
	}
	return err
}

func dashed(text string) string {
	if text == "" {
		return "–"
	}
	return text
}

func publishedWord(item image.Item) string {
	switch {
	case item.Broken():
		return "✗ broken"
	case item.Proved():
		return "✓ published"
	}
	if len(item.Lists) > 0 {
		return "? list"
	}
	return "– none"
}

func placeText(item image.Item) string {
	switch {
	case item.Problem != "":
		return "! " + plain.Text(item.Problem)
	case len(item.Lists) > 0:
		return "! " + plain.Text(item.Lists[0])
	case item.Kind != "":
		return "a " + item.Kind + ", sent whole"
	case item.Packed():
		return "in " + plain.Text(filepath.Base(item.Path))
	case item.Says[image.SaysCompanion] != "":
		return strings.ToLower(item.Says[image.SaysCompanion]) + " for " + item.Says[image.SaysFor]
	}
	return item.Says[image.SaysModels]
}

func (p *program) shelfShow() *cobra.Command {
	var folders []string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "show NAME",
		Short: "All that is known of one image; NAME may be a path or the beginning of its SHA-256",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			item, err := p.findItem(cmd.Context(), folders, args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return json.NewEncoder(p.out).Encode(item)
			}
			p.showItem(item)
			return nil
		},
	}
	cmd.Flags().StringArrayVar(&folders, "shelf", nil, "a `folder`, instead of those that were added")
	p.addJSON(cmd, &asJSON, image.Item{})
	return cmd
}

// findItem finds an image on the shelf, or looks into a file.
func (p *program) findItem(ctx context.Context, folders []string, name string) (image.Item, error) {
	shelf, err := p.openShelf(ctx, nil, folders)
	if shelf == nil || ctx.Err() != nil {
		return image.Item{}, err
	}
	p.caution(err)
	item, err := shelf.Find(name)
	if err == nil {
		return item, nil
	}
	if items, lookErr := shelf.Look(ctx, name); lookErr == nil && len(items) > 0 {
		return items[0], nil
	}
	return item, err
}

func (p *program) showItem(item image.Item) {
	row := func(label, text string) {
		if text != "" {
			fmt.Fprintf(p.out, "%-14s %s\n", label, text)
		}
	}
	row("name", item.Name)
	row("file", plain.Text(item.Path))
	row("inside", plain.Text(item.Inside))
	if item.Kind != "" {
		row("sent", "whole: this "+item.Kind+" is the image")
	}
	row("size", fmt.Sprintf("%d B", item.Size))
	for _, name := range []string{image.SaysMaker, image.SaysModels, image.SaysArchitecture, image.SaysRelease, image.SaysBoot, image.SaysLicence, image.SaysCompanion, image.SaysFor} {
		row(name, item.Says[name])
	}
	row("sha256", item.SHA256)
	row("sha512", item.SHA512)
	row("md5", item.MD5)
	row("crc32", item.CRC32)
	for _, name := range slices.Sorted(maps.Keys(item.More)) {
		row(name, item.More[name])
	}
	if len(item.Published) == 0 {
		row("published", "no digest")
	}
	for _, reason := range item.Lists {
		row("published", plain.Text(reason))
	}
	for _, published := range item.Published {
		word := "as published"
		if !published.Holds {
			word = "NOT as published"
		}
		row(published.Algorithm, fmt.Sprintf("%s in %s", word, published.From))
	}
	row("problem", item.Problem)
	for _, e := range carrier.Estimates(item.Size,
		arithmetic.Way{Link: arithmetic.UsualLink, Trip: arithmetic.UsualTrip}) {
		row("by "+e.Protocol, fmt.Sprintf("about %s (%s) %s", e.Time.Round(100*time.Millisecond), e.Terms, e.Warn))
	}
}

func (p *program) shelfFit() *cobra.Command {
	var folders, facts []string
	var paths, to string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Hold the images against a device, and plan the releases to one of them",
		Example: `  pilotrix shelf fit --fact device.model=G2-4 --fact device.architecture=plover64 --fact running.release=7.4.2
  pilotrix shelf fit … --upgrade-paths cormel-g2 --to lark-8.1.0.cgo`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			known, err := app.Assume(facts)
			if err != nil {
				return usage(fmt.Errorf("--fact %w", err))
			}
			shelf, err := p.openShelf(cmd.Context(), nil, folders)
			if shelf == nil || cmd.Context().Err() != nil {
				return err
			}
			p.caution(err)
			if to != "" {
				return p.planTo(shelf, known, paths, to, asJSON)
			}
			return p.printFits(shelf, known, asJSON)
		},
	}
	cmd.Flags().StringArrayVar(&folders, "shelf", nil, "a `folder`, instead of those that were added")
	cmd.Flags().StringArrayVar(&facts, "fact", nil, "what is known of the device, `name=value`")
	cmd.Flags().StringVar(&paths, "upgrade-paths", "", "the file of allowed upgrade steps, or its `name`")
	cmd.Flags().StringVar(&to, "to", "", "plan the releases to this `image`")
	p.addJSON(cmd, &asJSON, []fitted{})
	return cmd
}

// fitted is an image held against a device.
type fitted struct {
	Name string    `json:"name"`
	Fit  image.Fit `json:"fit"`
}

func (p *program) printFits(shelf *image.Shelf, known *device.Facts, asJSON bool) error {
	all := []fitted{}
	for _, item := range shelf.Items() {
		if item.Says[image.SaysCompanion] == "" {
			all = append(all, fitted{item.Name, item.FitTo(known)})
		}
	}
	if asJSON {
		return json.NewEncoder(p.out).Encode(all)
	}
	marks := map[image.Verdict]string{image.Yes: "✓", image.No: "✗", image.First: "◇", image.Unknown: "?"}
	for _, f := range all {
		fmt.Fprintf(p.out, "%s %-28s %s\n", marks[f.Fit.Verdict], f.Name, f.Fit.Text())
	}
	return nil
}

func (p *program) planTo(shelf *image.Shelf, known *device.Facts, paths, to string, asJSON bool) error {
	wanted, err := shelf.Find(to)
	if err != nil {
		return usage(err)
	}
	allowed, err := shipped.UpgradePaths(paths)
	if err != nil {
		return usage(err)
	}
	running, _ := known.Get(image.FactRelease)
	path, err := allowed.Plan(shelf.Items(), known, running.Text, wanted)
	if err != nil {
		return err
	}
	upgrades := path.Steps
	if asJSON {
		trees := make([]map[string]any, len(upgrades))
		for i, upgrade := range upgrades {
			trees[i] = upgrade.Tree()
		}
		return json.NewEncoder(p.out).Encode(trees)
	}
	if len(upgrades) == 0 {
		fmt.Fprintf(p.out, "%s runs already\n", running.Text)
	}
	for _, upgrade := range upgrades {
		fmt.Fprintf(p.out, "%s ━▶ %-10s %s%s%s\n", upgrade.From, upgrade.Release, upgrade.Item.Name,
			listed("  before: ", upgrade.Before), listed("  after: ", upgrade.After))
	}
	if path.Downgrade {
		fmt.Fprintf(p.out, "This is a downgrade: what the newer release has converted, the older one may not read.\n")
	}
	for _, other := range path.Others {
		var releases []string
		for _, upgrade := range other {
			releases = append(releases, upgrade.Release)
		}
		fmt.Fprintf(p.out, "another way, %s, instead of %s: %s\n", effort(other), effort(upgrades),
			strings.Join(releases, ", "))
	}
	return nil
}

// effort is what a way costs on any device: how long that takes depends on the one it is gone on, and is reported by a
// plan.
func effort(way []image.UpgradeStep) string {
	var bytes int64
	for _, upgrade := range way {
		bytes += upgrade.Item.Size
	}
	if len(way) == 1 {
		return "1 restart and " + units.Bytes(bytes) + " to bring there"
	}
	return fmt.Sprintf("%d restarts and %s to bring there", len(way), units.Bytes(bytes))
}

func listed(label string, words []string) string {
	if len(words) == 0 {
		return ""
	}
	return label + strings.Join(words, ", ")
}
