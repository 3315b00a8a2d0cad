package image

import (
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"testing"
)

// FuzzArchive looks into whatever a file may hold: it ends, and what it finds has a digest.
func FuzzArchive(f *testing.F) {
	f.Add([]byte("PK\x03\x04\x14\x00\x00\x00"))
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Add([]byte("BZh91AY&SY"))
	f.Add([]byte("\xfd7zXZ\x00\x00\x04"))
	f.Add(append(make([]byte, 257), "ustar\x0000"...))
	var packed bytes.Buffer
	gz := gzip.NewWriter(&packed)
	_, _ = gz.Write(cargo("7.5.0"))
	_ = gz.Close()
	f.Add(packed.Bytes())
	folder := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		place := filepath.Join(folder, "fuzzed.img")
		if err := os.WriteFile(place, data, 0o600); err != nil {
			t.Fatal(err)
		}
		items, err := NewShelf(ShelfOptions{Headers: headers()}).Look(t.Context(), place)
		if err != nil {
			t.Fatal(err)
		}
		for _, item := range items {
			if item.Problem == "" && len(item.SHA256) != 64 {
				t.Fatalf("%+v", item)
			}
		}
	})
}

// FuzzUpgradePaths plans by whatever a file may say.
func FuzzUpgradePaths(f *testing.F) {
	f.Add([]byte(paths), "7.4.2")
	f.Add([]byte("upgrade-paths: x\nnever: ['7.5']\nprefer: ['7.6']\nsteps: [{from: ['7'], to: ['8'], prefer: true}, {from: ['8'], to: ['7'], never: why}]\n"),
		"8.1")
	items := made("7.4.2", "7.6.1*", "7.6.1", "8.1", "8.2-rc1", "Q.15.08")
	f.Fuzz(func(t *testing.T, text []byte, running string) {
		p, err := ParseUpgradePaths("fuzzed.yaml", text)
		if err != nil {
			return
		}
		for _, wanted := range items {
			path, err := p.Plan(items, facts(), running, wanted)
			if err != nil {
				continue
			}
			seen := map[string]bool{}
			for _, step := range path.Steps {
				if seen[step.Release] {
					t.Fatalf("%s twice in %v", step.Release, chainText(path.Steps))
				}
				seen[step.Release] = true
			}
		}
	})
}
