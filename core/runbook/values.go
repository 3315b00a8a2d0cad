package runbook

import (
	"maps"

	"pilotrix/core/event"
	"pilotrix/core/image"
)

// Value is what a step makes for later ones, under a name.
type Value interface {
	// Tree is what expressions see of it: a text, a number, a map, or a list of maps.
	Tree() any
}

// What a Value may have.
type (
	// Masks is a Value with a secret in it.
	Masks interface {
		// Shown is its tree with a mark in the place of each secret.
		Shown() any
	}
	// Shelved is a Value whose rows stand for files.
	Shelved interface {
		// Files are those of a row, by what is put behind the name that a loop gives the row.
		Files(row map[string]any) map[string]*image.Image
	}
)

// Plain is a Value that is nothing but what expressions see.
func Plain(tree any) Value { return plain{tree} }

type plain struct{ tree any }

// Tree implements Value.
func (p plain) Tree() any { return p.tree }

// Made are the values that steps have made so far, by name.
type Made map[string]Value

// Into puts what expressions see of them among other names.
func (m Made) Into(env map[string]any) {
	for name, value := range m {
		env[name] = value.Tree()
	}
}

// Mask puts them there again, without their secrets.
func (m Made) Mask(env map[string]any) {
	for name, value := range m {
		if secret, ok := value.(Masks); ok {
			env[name] = secret.Shown()
		}
	}
}

// files are those that a row stands for, by the names that a step calls them.
func (m Made) files(name string, row map[string]any) map[string]*image.Image {
	images := map[string]*image.Image{}
	for _, value := range m {
		if rows, ok := value.(Shelved); ok {
			for behind, img := range rows.Files(row) {
				images[name+behind] = img
			}
		}
	}
	return images
}

// Masked is a tree with a mark in the place of one of its values.
func Masked(tree map[string]any, name string) map[string]any {
	tree = maps.Clone(tree)
	tree[name] = event.Redacted
	return tree
}
