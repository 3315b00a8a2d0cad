package runbook

import (
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
)

// maxShown is how many images of a shelf are reported: those that fit best, the newest first. Each change of a shelf is
// reported again, and kept.
const maxShown = 300

// ShelfEvent says what is on a shelf, held against what is known of a device, and which files the device has itself.
func ShelfEvent(shelf *image.Shelf, d *dialect.Dialect, facts *device.Facts) event.Shelf {
	items := shelf.Items()
	report := event.Shelf{Folders: shelf.Folders(), Held: heldFiles(items, d, facts), Total: len(items)}
	fits := make([]image.Fit, len(items))
	shown := make([]int, len(items))
	for i, item := range items {
		fits[i], shown[i] = item.FitTo(facts), i
	}
	if len(shown) > maxShown {
		slices.SortStableFunc(shown, func(a, b int) int {
			return slices.Index(fitOrder, fits[a].Verdict) - slices.Index(fitOrder, fits[b].Verdict)
		})
		shown = shown[:maxShown]
		slices.Sort(shown)
	}
	for _, i := range shown {
		report.Images = append(report.Images, shelfImage(items[i], fits[i]))
	}
	return report
}

func shelfImage(item image.Item, fit image.Fit) event.ShelfImage {
	one := event.ShelfImage{
		Name:    item.Name,
		Inside:  insideText(item),
		Whole:   item.Kind,
		Release: item.Says[image.SaysRelease],
		Models:  item.Says[image.SaysModels],
		Path:    item.Path,
		Says:    item.Says,
		Problem: item.Problem,
		Size:    item.Size,
		SHA256:  item.SHA256,
		Broken:  item.Broken(),
		Fit:     event.Fit(fit.Verdict),
	}
	if item.Says[image.SaysCompanion] != "" {
		one.Companion, one.Release = strings.TrimSpace(
			strings.ToLower(item.Says[image.SaysCompanion])+" "+item.Says[image.SaysFor]), ""
	}
	if item.SHA256 != "" {
		one.Digests = map[string]string{"sha512": item.SHA512, "md5": item.MD5, "crc32": item.CRC32}
	}
	if item.Proved() {
		one.Published = item.Published[0].From
	}
	for _, reason := range fit.Against() {
		one.Against = append(one.Against, reason.Text)
	}
	return one
}

// heldFiles are the files of the device that were read, each with the image of the shelf that it is.
func heldFiles(items []image.Item, d *dialect.Dialect, facts *device.Facts) (all []event.HeldFiles) {
	for _, place := range d.FileStores() {
		held, from := place.Held(facts)
		if from.At.IsZero() {
			continue
		}
		report := event.HeldFiles{Title: place.Title, Source: from.Source, At: from.At}
		for _, one := range held {
			report.Files = append(report.Files, heldFile(items, one))
		}
		all = append(all, report)
	}
	return all
}

func heldFile(items []image.Item, one image.Held) event.HeldFile {
	report := event.HeldFile{Name: one.Name, Size: one.Size}
	for _, algorithm := range image.Algorithms {
		if digest := one.Digests[algorithm]; digest != "" && report.Digest == "" {
			report.Digest = algorithm + " " + digest
		}
	}
	for _, item := range items {
		by, _ := item.SameAs(one)
		if by == image.SameByDigest || by == image.SameName && report.By == "" {
			report.Image, report.By = item.Name, string(by)
		}
	}
	return report
}

func insideText(item image.Item) string {
	if !item.Packed() {
		return ""
	}
	return item.Path[strings.LastIndexAny(item.Path, `/\`)+1:]
}
