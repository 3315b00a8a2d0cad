package screen

import "encoding/binary"

// history keeps the rows that scrolled off, packed: a byte of flags, the runs (style and length in
// bytes, as varints), then the text. A row of 80 plain columns takes 80-odd bytes.
type history struct {
	pages [][]byte
	index []place
	first int // rows dropped from the front so far
	limit int
}

type place struct{ page, offset uint32 }

const (
	pageSize    = 256 << 10
	wrappedFlag = 1
)

func (h *history) len() int { return len(h.index) }

// push packs a row. When the limit is passed, the oldest page goes with all of its rows.
func (h *history) push(r *row, clusters []string) {
	need := 16 + r.used*(4+binary.MaxVarintLen16*2)
	if len(h.pages) == 0 || cap(h.pages[len(h.pages)-1])-len(h.pages[len(h.pages)-1]) < need {
		h.pages = append(h.pages, make([]byte, 0, max(pageSize, need)))
	}
	last := len(h.pages) - 1
	h.index = append(h.index, place{uint32(last), uint32(len(h.pages[last]))})
	h.pages[last] = packRow(h.pages[last], r, clusters)
	if len(h.index) > h.limit {
		h.dropPage()
	}
}

func (h *history) dropPage() {
	rows := 0
	for rows < len(h.index) && h.index[rows].page == 0 {
		rows++
	}
	h.first += rows
	h.index = append([]place(nil), h.index[rows:]...)
	for i := range h.index {
		h.index[i].page--
	}
	h.pages = append([][]byte(nil), h.pages[1:]...)
}

func packRow(page []byte, r *row, clusters []string) []byte {
	flags := byte(0)
	if r.wrapped {
		flags = wrappedFlag
	}
	page = append(page, flags)
	cells := r.cells[:r.used]
	runs := 0
	for i := range cells {
		if i == 0 || cells[i].style != cells[i-1].style {
			runs++
		}
	}
	page = binary.AppendUvarint(page, uint64(runs))
	for start := 0; start < len(cells); {
		end := start + 1
		for end < len(cells) && cells[end].style == cells[start].style {
			end++
		}
		page = binary.AppendUvarint(page, uint64(cells[start].style))
		page = binary.AppendUvarint(page, uint64(textLen(cells[start:end], clusters)))
		start = end
	}
	return appendText(page, cells, clusters)
}

// unpack appends the runs of a kept row.
func (h *history) unpack(n int, runs []Run, styles []Style) (all []Run, wrapped bool) {
	at := h.index[n]
	data := h.pages[at.page][at.offset:]
	wrapped = data[0]&wrappedFlag != 0
	data = data[1:]
	count, size := binary.Uvarint(data)
	data = data[size:]
	begin := len(runs)
	for range count {
		style, size := binary.Uvarint(data)
		data = data[size:]
		length, size := binary.Uvarint(data)
		data = data[size:]
		runs = append(runs, Run{Style: styles[style], length: int(length)})
	}
	for i := begin; i < len(runs); i++ {
		runs[i].Text = string(data[:runs[i].length])
		data = data[runs[i].length:]
	}
	return runs, wrapped
}
