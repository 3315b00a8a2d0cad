package tftp

// numbering is how blocks, which are counted from 1 without an end here, are numbered on the wire. RFC 1350 leaves open
// what comes after 65535: nearly everybody goes on with 0, some old ones with 1.
type numbering struct{ afterIsOne bool }

const lastNumber = 65535

// number is a block's number on the wire.
func (n numbering) number(block int64) uint16 {
	if n.afterIsOne && block > 0 {
		return uint16((block-1)%lastNumber + 1)
	}
	return uint16(block)
}

// nearest is the block of that number that is nearest to another one.
func (n numbering) nearest(to int64, number uint16) int64 {
	if !n.afterIsOne {
		return to + int64(int16(number-uint16(to)))
	}
	if number == 0 {
		return 0 // the answer to the request has that number, and no other
	}
	away := (int64(number) - int64(n.number(to)) + lastNumber) % lastNumber
	if away > lastNumber/2 {
		away -= lastNumber
	}
	return to + away
}

// rollsOver reports whether this is the first block whose number may be one or the other.
func rollsOver(block int64) bool { return block == lastNumber+1 }

// asksAtRollover are how often a receiver has to ask for the block after number 65535 before it is sent with another
// number. The last time but one nothing is sent, so that what it asks for then is not what is on its way.
const asksAtRollover = 4

// rolloverText say what may be wrong where the transfer stops there.
const rolloverText = "; its number rolls over there, which some devices do not take, neither to 0 nor to 1: larger blocks keep the file below 65,536 of them"
