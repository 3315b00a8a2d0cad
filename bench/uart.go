package bench

// resample reads bytes sent at one speed with a receiver set to another, as a UART does: the sender
// draws its bits on the line, the receiver starts at each falling edge and samples in the middle of
// its own bit times. A stop bit found low gives a zero byte, which is what a tty makes of it.
func resample(sent []byte, from, to int) []byte {
	if from == to || from <= 0 || to <= 0 {
		return sent
	}
	wave := make([]bool, 0, 10*len(sent)+2)
	for _, b := range sent {
		wave = append(wave, false)
		for bit := range 8 {
			wave = append(wave, b>>bit&1 == 1)
		}
		wave = append(wave, true)
	}
	step := float64(from) / float64(to) // sender's bits in one of the receiver's
	level := func(at float64) bool {
		i := int(at)
		return i >= len(wave) || wave[i]
	}
	var got []byte
	for at := 0.0; at < float64(len(wave)); {
		if level(at) {
			at = float64(int(at)) + 1 // edges are at the sender's bit limits
			continue
		}
		value := byte(0)
		for bit := range 8 {
			if level(at + (1.5+float64(bit))*step) {
				value |= 1 << bit
			}
		}
		if !level(at + 9.5*step) {
			value = 0
			at += 9.5 * step
			for at < float64(len(wave)) && !level(at) { // wait for the line to go up again
				at = float64(int(at)) + 1
			}
		} else {
			at += 9.5 * step
		}
		got = append(got, value)
	}
	return got
}
