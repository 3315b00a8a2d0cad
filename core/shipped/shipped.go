// Package shipped has the dialects, the runbooks and the upgrade paths that ship with the program, and finds one by its
// name or its path.
package shipped

import (
	"embed"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	_ "pilotrix/core/runbook/verbs" // what their steps can do
)

//go:embed dialects/*.yaml runbooks/*.yaml upgrade-paths/*.yaml
var files embed.FS

// DialectText is the text of a dialect that ships with the program.
func DialectText(name string) ([]byte, error) { return read("dialects", name) }

// RunbookText is the text of a runbook that ships with the program.
func RunbookText(name string) ([]byte, error) { return read("runbooks", name) }

func read(folder, name string) ([]byte, error) {
	data, err := files.ReadFile(path.Join(folder, name+".yaml"))
	if err != nil {
		return nil, fmt.Errorf("no file %s and none of that name ships with the program; there are %s", name,
			strings.Join(names(folder), ", "))
	}
	return data, nil
}

func names(folder string) (all []string) {
	entries, _ := fs.ReadDir(files, folder)
	for _, e := range entries {
		all = append(all, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return all
}

// DialectNames lists the dialects that ship with the program.
func DialectNames() []string { return names("dialects") }

// RunbookNames lists the runbooks that ship with the program.
func RunbookNames() []string { return names("runbooks") }

// library are the dialects that others may include.
var library = dialect.Library(DialectText)

// Dialect finds a dialect: a file by its path, or one that ships with the program.
func Dialect(name string) (*dialect.Dialect, error) {
	return find(name, library.Load, DialectText, library.Parse)
}

// Runbook finds a runbook: a file by its path, or one that ships with the program.
func Runbook(name string) (*runbook.Runbook, error) {
	return find(name, runbook.Load, RunbookText, runbook.Parse)
}

// find loads a file where a name is a path, and else parses the text that ships under it.
func find[T any](
	name string, load func(path string) (*T, error), text func(name string) ([]byte, error),
	parse func(name string, data []byte) (*T, error),
) (*T, error) {
	if strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml") {
		return load(name)
	}
	data, err := text(name)
	if err != nil {
		return nil, err
	}
	return parse(name+".yaml", data)
}

// UpgradePathsNames lists the files of allowed steps that ship with the program.
func UpgradePathsNames() []string { return names("upgrade-paths") }

// UpgradePathsText is the text of a file of allowed steps that ships with the program.
func UpgradePathsText(name string) ([]byte, error) { return read("upgrade-paths", name) }

// UpgradePaths finds a file of allowed steps: by its path, or one that ships with the program.
func UpgradePaths(name string) (*image.UpgradePaths, error) {
	return find(name, image.LoadUpgradePaths, UpgradePathsText, image.ParseUpgradePaths)
}
