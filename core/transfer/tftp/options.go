package tftp

import (
	"fmt"
	"math"
	"strconv"
	"time"
)

// Terms are what a transfer was agreed on. The zero value of a field means that its option was not
// spoken of; Block and Window are always set.
type Terms struct {
	Block   int           // bytes a block
	Window  int           // blocks before an acknowledgement, RFC 7440
	Timeout time.Duration // before something is sent again, RFC 2349
	Size    int64         // of the file, RFC 2349; -1 when not known
}

func plainTerms() Terms { return Terms{Block: DefaultBlock, Window: 1, Size: -1} }

// Limits are the most that this side agrees to.
type Limits struct {
	Block  int // 0 means MostBlock
	Window int // 0 means 64
}

const usualWindow = 64

func (l Limits) orUsual() Limits {
	if l.Block == 0 {
		l.Block = MaxBlock
	}
	if l.Window == 0 {
		l.Window = usualWindow
	}
	return l
}

// Names of the options: RFC 2348, 2349, 2349, 7440.
const (
	optBlock   = "blksize"
	optTimeout = "timeout"
	optSize    = "tsize"
	optWindow  = "windowsize"
)

// options are those that are known, each with its range and what this side agrees to, -1 for nothing.
var options = map[string]struct {
	from, to int64
	agree    func(n int64, terms *Terms, limits Limits, write bool) int64
}{
	optBlock: {minBlock, MaxBlock, func(n int64, terms *Terms, limits Limits, _ bool) int64 {
		terms.Block = min(int(n), limits.Block)
		return int64(terms.Block)
	}},
	optWindow: {1, 65535, func(n int64, terms *Terms, limits Limits, _ bool) int64 {
		terms.Window = min(int(n), limits.Window)
		return int64(terms.Window)
	}},
	optTimeout: {1, 255, func(n int64, terms *Terms, _ Limits, _ bool) int64 {
		terms.Timeout = time.Duration(n) * time.Second
		return n
	}},
	optSize: {0, math.MaxInt64, func(n int64, terms *Terms, _ Limits, write bool) int64 {
		if write { // the sender says how much comes; it is echoed
			terms.Size = n
		}
		return terms.Size
	}},
}

// agree answers the options of a request: what this side takes, possibly less than was asked for, and
// the terms that follow. Options that are not known, or out of their range, are left out of the answer,
// which refuses them (RFC 2347). Size is the file's own, -1 when this side does not know it.
func agree(asked []option, limits Limits, size int64, write bool) (answer []option, terms Terms) {
	limits = limits.orUsual()
	terms = plainTerms()
	if !write {
		terms.Size = size
	}
	for _, o := range asked {
		n, err := strconv.ParseInt(o.value, 10, 64)
		kind, known := options[o.name]
		if err != nil || !known || n < kind.from || n > kind.to {
			continue
		}
		if value := kind.agree(n, &terms, limits, write); value >= 0 {
			answer = append(answer, option{o.name, strconv.FormatInt(value, 10)})
		}
	}
	if fits := max(1, maxInFlight/terms.Block); terms.Window > fits {
		terms.Window = fits
		for i := range answer {
			if answer[i].name == optWindow {
				answer[i].value = strconv.Itoa(fits)
			}
		}
	}
	return answer, terms
}

// maxInFlight bounds a window in bytes: more than that does not stay in a receiver's buffer, nor in a
// processor's cache.
const maxInFlight = 1 << 20

// accept reads the other side's answer to the options we asked for. It may take less, never more
// (RFC 2348, 7440), and nothing that was not asked for (RFC 2347).
func accept(asked, answer []option, write bool, size int64) (Terms, error) {
	terms := plainTerms()
	if write {
		terms.Size = size
	}
	for _, o := range answer {
		want, was := request{options: asked}.option(o.name)
		if !was {
			return terms, fmt.Errorf("it answers the option %s, which was not asked for", clean([]byte(o.name)))
		}
		n, err := strconv.ParseInt(o.value, 10, 64)
		if err != nil || n < 0 {
			return terms, fmt.Errorf("its option %s has the value %q", clean([]byte(o.name)), clean([]byte(o.value)))
		}
		most, _ := strconv.ParseInt(want, 10, 64)
		switch o.name {
		case optBlock, optWindow:
			least := int64(1)
			if o.name == optBlock {
				least = minBlock
			}
			if n < least || n > most {
				return terms, fmt.Errorf("it answers %s %d where %d was asked for", o.name, n, most)
			}
			if o.name == optBlock {
				terms.Block = int(n)
			} else {
				terms.Window = int(n)
			}
		case optTimeout:
			if n != most {
				return terms, fmt.Errorf("it answers timeout %d where %d was asked for", n, most)
			}
			terms.Timeout = time.Duration(n) * time.Second
		case optSize:
			if !write {
				terms.Size = n
			}
		}
	}
	return terms, nil
}
