package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// program is the path of the program under test, built once.
var program string

// Variables of the tests: the program that was built already, and the folder that dev/board keeps its files in.
const (
	programBuilt = "PILOTRIX_TEST_PROGRAM"
	boardKept    = "PILOTRIX_BOARD"
)

func TestMain(m *testing.M) {
	if program = os.Getenv(programBuilt); program != "" { // a test that runs itself in a network of its own
		os.Exit(m.Run())
	}
	folder, err := os.MkdirTemp("", "pilotrix-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(folder, "pilotrix")
	build := exec.Command("go", "build", "-o", program, "pilotrix/cmd/pilotrix")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	if cache, err := os.UserCacheDir(); err == nil && os.Getenv(boardKept) == "" {
		_ = os.Setenv(boardKept, filepath.Join(cache, "pilotrix-board"))
	}
	home := filepath.Join(folder, "home") // of the runs that have none of their own
	for _, variable := range homeAt(home) {
		name, value, _ := strings.Cut(variable, "=")
		_ = os.Setenv(name, value)
	}
	looking := watchArguments()
	code := m.Run()
	for _, wrong := range append(looking.end(), secretsIn(home)...) {
		fmt.Fprintf(os.Stderr, "a secret is to be read in %s\n", wrong)
		code = 1
	}
	_ = os.RemoveAll(folder)
	os.Exit(code)
}
