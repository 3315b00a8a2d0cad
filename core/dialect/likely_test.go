package dialect

import (
	"fmt"
	"testing"
)

// BenchmarkWeigh holds as many lines as a session keeps against five dialects.
func BenchmarkWeigh(b *testing.B) {
	var all []*Dialect
	for i := range 5 {
		d, err := Parse("d.yaml", []byte(fmt.Sprintf("dialect: d%d\nmodes: [{mode: a, prompt: '^[\\w-]+ / $'}, {mode: b, prompt: '^[^ ]+ // $'}]\n", i)))
		if err != nil {
			b.Fatal(err)
		}
		all = append(all, d)
	}
	lines := make([]string, 200)
	for i := range lines {
		lines[i] = fmt.Sprintf("  row %d of a listing that no prompt is", i)
	}
	for b.Loop() {
		Weigh(all, lines)
	}
}
