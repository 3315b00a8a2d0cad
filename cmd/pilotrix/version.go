package main

import (
	"encoding/json"
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// release is the release's name; builds of one set it: -ldflags "-X main.release=1.0.0".
var release = "unreleased"

// built is what this program was built from.
type built struct {
	Release string `json:"release"`
	Commit  string `json:"commit,omitempty"`
	Changed bool   `json:"changed,omitempty"` // files were changed since that commit
	Go      string `json:"go"`
	System  string `json:"system"`
}

func builtFrom() built {
	b := built{Release: release, Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH}
	info, known := debug.ReadBuildInfo()
	if !known {
		return b
	}
	if b.Release == "unreleased" && info.Main.Version != "" && info.Main.Version != "(devel)" {
		b.Release = info.Main.Version
	}
	for _, setting := range info.Settings {
		switch setting.Key {
		case "vcs.revision":
			b.Commit = setting.Value
		case "vcs.modified":
			b.Changed = setting.Value == "true"
		}
	}
	return b
}

func (p *program) versionCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "version", Short: "Say which release this is, and what it was built from", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			b := builtFrom()
			if asJSON {
				return json.NewEncoder(p.out).Encode(b)
			}
			text := "pilotrix " + b.Release
			if b.Commit != "" {
				text += ", commit " + b.Commit[:min(12, len(b.Commit))]
			}
			if b.Changed {
				text += ", changed since"
			}
			_, err := fmt.Fprintf(p.out, "%s, %s, %s\n", text, b.Go, b.System)
			return err
		},
	}
	p.addJSON(cmd, &asJSON, built{})
	return cmd
}
