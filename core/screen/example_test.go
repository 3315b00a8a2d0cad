package screen_test

import (
	"fmt"

	"pilotrix/core/screen"
)

// A screen takes what a device writes, in any pieces, and has what it shows.
func Example() {
	s := screen.New(40, 5)
	s.Write([]byte("tern> copy\r\n 10 %\r 50"))
	s.Write([]byte(" %\r100 % done\r\n\x1b[1mtern>\x1b[0m "))
	for n := range 5 {
		if text := s.Text(n); text != "" {
			fmt.Println(text)
		}
	}
	// Output:
	// tern> copy
	// 100 % done
	// tern>
}
