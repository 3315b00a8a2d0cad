//go:build !race

package test

import (
	"go/ast"
	"go/types"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
)

// TestEveryKeyIsReadBySomething looks for code that reads the field after each key of the languages: a key
// that nothing reads would be accepted and do nothing.
func TestEveryKeyIsReadBySomething(t *testing.T) {
	t.Parallel()
	read := readFields(t)
	documents := []any{dialect.Document{}, runbook.Document{}, runbook.Common{}, image.UpgradePaths{}}
	for _, verb := range runbook.Verbs() {
		documents = append(documents, verb.New())
	}
	seen := map[reflect.Type]bool{}
	keys := 0
	for _, document := range documents {
		eachKey(reflect.TypeOf(document), seen, func(of reflect.Type, field reflect.StructField) {
			keys++
			name := of.PkgPath() + "." + of.Name() + "." + field.Name
			assert.True(t, read[name], "nothing reads the key %s (%s)", field.Tag.Get("yaml"), name)
		})
	}
	assert.Greater(t, keys, 150)
	assert.False(t, read["pilotrix/core/dialect.Document.Nothing"])
}

// eachKey visits the fields with a key of a type and of all that it holds.
func eachKey(t reflect.Type, seen map[reflect.Type]bool, visit func(reflect.Type, reflect.StructField)) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map:
		eachKey(t.Elem(), seen, visit)
	case reflect.Struct:
		if seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			field := t.Field(i)
			key, _, _ := strings.Cut(field.Tag.Get("yaml"), ",")
			if key != "" {
				visit(t, field)
			}
			if field.IsExported() || field.Anonymous {
				eachKey(field.Type, seen, visit)
			}
		}
	}
}

// readFields are the struct fields of the program that some code selects, by their types' names.
func readFields(t *testing.T) map[string]bool {
	t.Helper()
	loaded, err := packages.Load(&packages.Config{Mode: packages.LoadSyntax | packages.NeedDeps, Dir: ".."},
		"./core/...", "./cmd/...", "./demo/...", "./tui/...")
	require.NoError(t, err)
	read := map[string]bool{}
	for _, p := range loaded {
		require.Empty(t, p.Errors, p.PkgPath)
		for _, file := range p.Syntax {
			ast.Inspect(file, func(n ast.Node) bool {
				if sel, ok := n.(*ast.SelectorExpr); ok {
					noteField(read, p.TypesInfo.Selections[sel])
				}
				return true
			})
		}
	}
	return read
}

// noteField notes the field that is selected, under the struct that declares it: it may lie in one that is
// embedded.
func noteField(read map[string]bool, sel *types.Selection) {
	if sel == nil || sel.Kind() != types.FieldVal {
		return
	}
	of := sel.Recv()
	for _, i := range sel.Index() {
		if pointer, ok := of.Underlying().(*types.Pointer); ok {
			of = pointer.Elem()
		}
		structure, ok := of.Underlying().(*types.Struct)
		if !ok {
			return
		}
		field := structure.Field(i)
		if named, ok := of.(*types.Named); ok && named.Obj().Pkg() != nil {
			read[named.Obj().Pkg().Path()+"."+named.Obj().Name()+"."+field.Name()] = true
		}
		of = field.Type()
	}
}
