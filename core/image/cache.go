package image

import (
	"encoding/json"
	"io/fs"
	"slices"
	"sync"
	"time"

	"pilotrix/core/ownfile"
)

// cache keeps what was computed of files, by their identity: a file that was written since, or replaced
// by another, is computed again.
type cache struct {
	path string

	mu      sync.Mutex
	entries map[string]cached // by identity
	changed bool
}

// cached is what is known of one file: itself, or the images inside.
type cached struct {
	Digests Digests        `json:"digests"`
	Says    Says           `json:"says"`
	Kind    string         `json:"kind,omitempty"`  // of archive
	Whole   bool           `json:"whole,omitempty"` // it is an image itself
	Inside  []cachedInside `json:"inside,omitempty"`
	Problem string         `json:"problem,omitempty"`
	Seen    time.Time      `json:"seen"`
	Marks   string         `json:"marks"` // the patterns that said so, by their digest
}

type cachedInside struct {
	Place    string    `json:"place"`
	Modified time.Time `json:"modified"`
	Digests  Digests   `json:"digests"`
	Says     Says      `json:"says"`
}

// has reports whether the digests by some algorithms are known, of the file and of what is inside.
func (c cached) has(more []string) bool {
	return c.Digests.has(more) &&
		!slices.ContainsFunc(c.Inside, func(in cachedInside) bool { return !in.Digests.has(more) })
}

func (d Digests) has(more []string) bool {
	return !slices.ContainsFunc(more, func(name string) bool { return d.Of(name) == "" })
}

// Says is what an image says, by name.
type Says = map[string]string

// openCache reads a cache; one that cannot be read is begun again, since all in it can be computed.
func openCache(path string) *cache {
	c := &cache{path: path, entries: map[string]cached{}}
	if path == "" {
		return c
	}
	data, err := ownfile.Read(path)
	if err == nil && json.Unmarshal(data, &c.entries) != nil {
		c.entries = map[string]cached{}
	}
	return c
}

func (c *cache) get(identity string) (cached, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	entry, known := c.entries[identity]
	return entry, known
}

func (c *cache) put(identity string, entry cached) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.entries[identity] = entry
	c.changed = true
}

// forgetAfter is how long what is known of a file that is not on any shelf is kept.
const forgetAfter = 180 * 24 * time.Hour

// save writes the cache, with what other programs have put into it since it was read.
func (c *cache) save(now time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.path == "" || !c.changed {
		return nil
	}
	err := ownfile.Change(c.path, func(old []byte) ([]byte, error) {
		others := map[string]cached{}
		_ = json.Unmarshal(old, &others) // what cannot be read is begun again
		for identity, entry := range others {
			if ours, known := c.entries[identity]; !known || entry.Seen.After(ours.Seen) {
				c.entries[identity] = entry
			}
		}
		for identity, entry := range c.entries {
			if now.Sub(entry.Seen) > forgetAfter {
				delete(c.entries, identity)
			}
		}
		return json.Marshal(c.entries)
	})
	c.changed = err != nil
	return err
}

// identity names a file by what changes when it does.
func identity(path string, info fs.FileInfo) string {
	return path + "\x00" + numbers(info)
}
