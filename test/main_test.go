package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// program is the path of the program under test, built once.
var program string

func TestMain(m *testing.M) {
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
	code := m.Run()
	_ = os.RemoveAll(folder)
	os.Exit(code)
}
