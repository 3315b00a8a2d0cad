// Package arithmetic does the arithmetic of the job: what a line carries, how long a transfer takes by each
// protocol and why, what a block counter can count, which sectors an erase takes.
package arithmetic

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/line"
)

// LineRate is how many characters a second a serial line carries each way.
func LineRate(baud int, framing line.Framing) float64 {
	return float64(baud) / float64(framing.Bits())
}

// XMODEMOverhead is what a block costs besides its data: header byte, number and its complement,
// two bytes of CRC, and the one byte that answers.
const XMODEMOverhead = 6

// XMODEMRate is the most data a second that XMODEM moves over a line of that rate: it stops and
// waits, so the answer's one character counts too.
func XMODEMRate(lineRate float64, block int) float64 { return XMODEMRateBehind(0, lineRate, block) }

// CharacterTime is what one character takes on a line that carries so many a second, 0 for none.
func CharacterTime(lineRate float64) time.Duration {
	if lineRate <= 0 {
		return 0
	}
	return time.Duration(float64(time.Second) / lineRate)
}

// XMODEMRateBehind is the same behind an adapter that delivers only so often: each answer waits for it, for
// half of that as a rule and for all of it at worst, which is what is computed with.
func XMODEMRateBehind(latency time.Duration, lineRate float64, block int) float64 {
	if lineRate <= 0 {
		return 0
	}
	return float64(block) / (float64(block+XMODEMOverhead)/lineRate + latency.Seconds())
}

// TransferTime is how long size bytes take at rate bytes a second.
func TransferTime(size int64, rate float64) time.Duration {
	if rate <= 0 {
		return 0
	}
	return time.Duration(float64(size) / rate * float64(time.Second))
}

// Bytes that each packet costs on an Ethernet besides a TFTP block: preamble and gap 20, frame 18, IPv4
// 20, UDP 8, TFTP 4.
const tftpOverhead = 20 + 18 + 20 + 8 + 4

// ethernetPayload is what one frame carries of an IPv4 packet; longer ones are cut into fragments, each
// with a frame and an IP header of its own.
const (
	ethernetPayload = 1500
	fragmentHead    = 20 + 18 + 20
	fragmentData    = 1480
)

// TFTPRate is the data a second that TFTP moves: after each window of blocks it waits for an answer. Link
// is in bytes a second, trip is a round trip's time with the device's own delay.
func TFTPRate(block, window int, link float64, trip time.Duration) float64 {
	packet := float64(block + tftpOverhead)
	if over := block + 32 - ethernetPayload; over > 0 {
		packet += math.Ceil(float64(over)/fragmentData) * fragmentHead
	}
	data := float64(window * block)
	seconds := float64(window)*packet/link + trip.Seconds()
	return data / seconds
}

// StreamRate is what HTTP and FTP move: TCP's segments of 1448 bytes in frames of 1538, or a window of 64
// KiB a round trip, whichever is less.
func StreamRate(link float64, trip time.Duration) float64 {
	const window = 64 << 10
	rate := link * 1448 / 1538
	if trip > 0 {
		rate = min(rate, window/trip.Seconds())
	}
	return rate
}

// LargestTFTP is the largest file that TFTP moves with blocks of that size before its block counter of 16
// bits starts again: 65,535 blocks, the last of them not full.
func LargestTFTP(block int) int64 { return 65535*int64(block) - 1 }

// Estimate is what a protocol would take, and why.
type Estimate struct {
	Protocol string        `json:"protocol"`
	Terms    string        `json:"terms"`
	Rate     float64       `json:"rate"` // bytes a second
	Time     time.Duration `json:"time"`
	Why      string        `json:"why"`
	Warn     string        `json:"warn,omitempty"`
}

// Way is what is known of the way to a device. The zero value of a field leaves out what needs it.
type Way struct {
	Baud    int
	Framing line.Framing
	Latency time.Duration // of the adapter: how often it delivers what arrives
	Link    float64       // bytes a second
	Trip    time.Duration // a round trip
	Block   int           // of TFTP
	Window  int           // of TFTP
	Device  float64       // what the device itself takes, bytes a second
}

// Usual values where nothing is known: a device's port of 100 Mbit/s and a millisecond.
const (
	UsualLink = 100e6 / 8
	UsualTrip = time.Millisecond
)

// OverLine is what a file of a size takes over the line itself, where that has a speed.
func OverLine(size int64, w Way) (all []Estimate) {
	if w.Baud <= 0 {
		return nil
	}
	rate := LineRate(w.Baud, w.Framing)
	for _, v := range []struct {
		name  string
		block int
	}{{"xmodem", 128}, {"xmodem-1k", 1024}} {
		r := XMODEMRateBehind(w.Latency, rate, v.block)
		why := fmt.Sprintf("%.0f B/s on the line, %d of %d are data", rate, v.block, v.block+XMODEMOverhead)
		if w.Latency > 0 {
			why += fmt.Sprintf("; each answer waits up to %s for the adapter", w.Latency)
		}
		all = append(all, Estimate{
			v.name, fmt.Sprintf("blocks of %d B at %d baud", v.block, w.Baud), r, TransferTime(size, r),
			why, "",
		})
	}
	return all
}

// AtMost is an estimate for a file of a size where nothing is faster than a rate, in bytes a second; 0 is no limit.
func (e Estimate) AtMost(rate float64, size int64) Estimate {
	if rate > 0 && e.Rate > rate {
		e.Rate, e.Time = rate, TransferTime(size, rate)
		e.Why = fmt.Sprintf("the device takes at most %.0f kB/s", rate/1000)
	}
	return e
}

// TFTPEstimates is what a file of a size takes by TFTP: with the blocks that the way says, or with the usual ones.
func TFTPEstimates(size int64, w Way) (all []Estimate) {
	shapes := [][2]int{{512, 1}, {1428, 1}, {1428, 16}}
	if w.Block > 0 {
		shapes = [][2]int{{w.Block, max(1, w.Window)}}
	}
	for _, s := range shapes {
		all = append(all, tftpEstimate(size, s[0], s[1], w))
	}
	return all
}

// StreamEstimate is what it takes by a protocol that moves it as one stream of TCP.
func StreamEstimate(size int64, w Way) []Estimate {
	rate := StreamRate(w.Link, w.Trip)
	return []Estimate{
		{
			Terms: "one stream",
			Rate:  rate,
			Time:  TransferTime(size, rate),
			Why:   "TCP keeps the way full, up to 64 KiB a round trip",
		},
	}
}

func tftpEstimate(size int64, block, window int, w Way) Estimate {
	rate := TFTPRate(block, window, w.Link, w.Trip)
	e := Estimate{Terms: fmt.Sprintf("blocks of %d B", block), Rate: rate, Time: TransferTime(size, rate)}
	blocks := size/int64(block) + 1
	e.Why = fmt.Sprintf("%d blocks, each waits %s for its answer", blocks, w.Trip)
	if window > 1 {
		e.Terms += fmt.Sprintf(", windows of %d", window)
		e.Why = fmt.Sprintf("%d blocks, %d go out before one waits %s for its answer", blocks, window, w.Trip)
	}
	if size > LargestTFTP(block) {
		e.Warn = fmt.Sprintf("more than %d B: the block counter begins anew, which old devices do not survive",
			LargestTFTP(block))
	}
	return e
}

// Erase is the part of a flash that an erase takes.
type Erase struct {
	Begin, End int64 // End is after the last byte
	Sectors    int64
	Before     int64 // bytes erased before what is written: they are somebody else's
	After      int64 // and after it
}

// EraseRange rounds a range outwards to whole sectors.
func EraseRange(at, size, sector int64) (Erase, error) {
	if at < 0 || size <= 0 || sector <= 0 {
		return Erase{}, fmt.Errorf("an erase needs an address, a size and a sector's size above 0; got %d, %d and %d",
			at, size, sector)
	}
	if at > math.MaxInt64-size-sector {
		return Erase{}, fmt.Errorf("address %#x and size %d are more than any flash has", at, size)
	}
	begin := at / sector * sector
	end := (at + size + sector - 1) / sector * sector
	return Erase{
		Begin:   begin,
		End:     end,
		Sectors: (end - begin) / sector,
		Before:  at - begin,
		After:   end - at - size,
	}, nil
}

// ParseAddress reads an address as bootloaders and people write it: 0x40000, $40000, 40000h are
// hexadecimal, 262144 is decimal.
func ParseAddress(text string) (int64, error) {
	clean := strings.ToLower(strings.NewReplacer("_", "", ",", "", " ", "").Replace(text))
	base := 10
	switch {
	case strings.HasPrefix(clean, "0x"):
		clean, base = clean[2:], 16
	case strings.HasPrefix(clean, "$"):
		clean, base = clean[1:], 16
	case strings.HasSuffix(clean, "h"):
		clean, base = clean[:len(clean)-1], 16
	}
	n, err := strconv.ParseInt(clean, base, 64)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is no address: want one like 0x40000 or 262144", text)
	}
	return n, nil
}
