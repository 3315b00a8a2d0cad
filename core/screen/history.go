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

// packedRun is a run of a kept row; its text lies in the row's page.
type packedRun struct {
	style uint16
	text  []byte
}

const (
	pageSize    = 256 << 10
	wrappedFlag = 1
)

func (h *history) len() int { return len(h.index) }

// push packs a row. When the limit is passed, the oldest page goes with all of its rows.
func (h *history) push(r *row, clusters []string) {
	last := h.room(16 + r.used*(4+binary.MaxVarintLen16*2))
	h.pages[last] = packRow(h.pages[last], r, clusters)
	if len(h.index) > h.limit {
		h.dropPage()
	}
}

// keep adds a row that is packed already.
func (h *history) keep(packed []byte) {
	last := h.room(len(packed))
	h.pages[last] = append(h.pages[last], packed...)
}

// room begins a row of at most that many bytes and returns its page.
func (h *history) room(need int) (page int) {
	if len(h.pages) == 0 || cap(h.pages[len(h.pages)-1])-len(h.pages[len(h.pages)-1]) < need {
		h.pages = append(h.pages, make([]byte, 0, max(pageSize, need)))
	}
	page = len(h.pages) - 1
	h.index = append(h.index, place{uint32(page), uint32(len(h.pages[page]))})
	return page
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

// packRuns packs a row out of runs.
func packRuns(runs []packedRun, wrapped bool) []byte {
	flags := byte(0)
	if wrapped {
		flags = wrappedFlag
	}
	out := binary.AppendUvarint([]byte{flags}, uint64(len(runs)))
	for _, run := range runs {
		out = binary.AppendUvarint(out, uint64(run.style))
		out = binary.AppendUvarint(out, uint64(len(run.text)))
	}
	for _, run := range runs {
		out = append(out, run.text...)
	}
	return out
}

// packed is a row as it is kept.
func (h *history) packed(n int) []byte {
	at := h.index[n]
	page := h.pages[at.page]
	if n+1 < len(h.index) && h.index[n+1].page == at.page {
		return page[at.offset:h.index[n+1].offset]
	}
	return page[at.offset:]
}

// wraps reports whether the text of a row goes on in the next.
func (h *history) wraps(n int) bool {
	at := h.index[n]
	return h.pages[at.page][at.offset]&wrappedFlag != 0
}

// runs are the pieces of a row.
func (h *history) runs(n int) []packedRun {
	data := h.packed(n)[1:]
	count, size := binary.Uvarint(data)
	data = data[size:]
	all := make([]packedRun, count)
	lengths := make([]int, count)
	for i := range all {
		style, size := binary.Uvarint(data)
		data = data[size:]
		length, size := binary.Uvarint(data)
		data = data[size:]
		all[i].style, lengths[i] = uint16(style), int(length)
	}
	for i := range all {
		all[i].text, data = data[:lengths[i]], data[lengths[i]:]
	}
	return all
}

// unpack appends the runs of a kept row.
func (h *history) unpack(n int, runs []Run, styles []Style) (all []Run, wrapped bool) {
	for _, run := range h.runs(n) {
		runs = append(runs, Run{Style: styles[run.style], Text: string(run.text)})
	}
	return runs, h.wraps(n)
}

// pop takes the newest row out.
func (h *history) pop(styles []Style) (runs []Run, wrapped bool) {
	last := len(h.index) - 1
	runs, wrapped = h.unpack(last, nil, styles)
	at := h.index[last]
	h.index = h.index[:last]
	h.pages[at.page] = h.pages[at.page][:at.offset]
	h.pages = h.pages[:at.page+1]
	return runs, wrapped
}
