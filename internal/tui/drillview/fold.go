package drillview

import (
	"fmt"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/tui/canvas"
)

// laneRow is a row of the lanes: one instance, or several that stopped, folded into a band.
type laneRow struct {
	lane *draw.Lane
	band []*draw.Lane // of one function, or of all where there is one band
	name string
}

// band is what a band was drawn from, and how busy its instances were together.
type band struct {
	n     int
	w     draw.Window
	busy  []float64
	calls int
}

// fold returns the rows of the lanes where there is room for some of them: the instances that
// stopped first are folded, those of each function into one band, or of all into one where even
// that would leave too little.
func fold(lanes []*draw.Lane, rows int, name func(fn int32) string) (out []laneRow) {
	functions := map[int32]bool{}
	for _, l := range lanes {
		functions[l.Instance.Function] = true
	}
	bands := 1
	var shown map[*draw.Lane]bool
	var all []*draw.Lane // that are folded
	var hidden map[int32][]*draw.Lane
	for try := 0; ; try++ {
		shown, all, hidden = map[*draw.Lane]bool{}, nil, map[int32][]*draw.Lane{}
		for _, l := range latest(lanes, max(rows-bands, 0)) {
			shown[l] = true
		}
		for _, l := range lanes {
			if fn := l.Instance.Function; !shown[l] {
				all, hidden[fn] = append(all, l), append(hidden[fn], l)
			}
		}
		if len(hidden) <= bands || rows < 2*len(functions) || try > len(functions) {
			break
		}
		bands = len(hidden)
	}
	if len(hidden) > bands { // one for all
		out = append(out, laneRow{band: all, name: fmt.Sprintf("+%d more", len(all))})
		hidden = nil
	}
	said := map[int32]bool{}
	for _, l := range lanes {
		fn := l.Instance.Function
		if of := hidden[fn]; len(of) > 0 && !said[fn] {
			said[fn] = true
			out = append(out, laneRow{band: of, name: fmt.Sprintf("%s +%d", name(fn), len(of))})
		}
		if shown[l] {
			out = append(out, laneRow{lane: l})
		}
	}
	return out
}

// mostFolded bounds the instances, the latest of a band, whose work is drawn.
const mostFolded = 300

// drawBand draws how busy the instances of a band were together.
func (m *Model) drawBand(c *canvas.Canvas, y int, row laneRow, w draw.Window, now clock.Time) {
	b := m.bands[row.name]
	if b == nil || b.n != len(row.band) || b.w != w {
		b = &band{n: len(row.band), w: w, busy: make([]float64, w.Cells)}
		for k, l := range row.band {
			if b.calls += len(l.Invocations); k < len(row.band)-mostFolded {
				continue
			}
			for i, cell := range m.chart.Row(l, w, now) {
				b.busy[i] += cell.Share
			}
		}
		if m.bands == nil {
			m.bands = map[string]*band{}
		}
		m.bands[row.name] = b
	}
	most := 0.0
	for _, v := range b.busy {
		most = max(most, v)
	}
	c.PutUpTo(1, y, left-1, canvas.Dim, row.name)
	for i, v := range b.busy {
		if v > 0 {
			c.Set(left+i, y, canvas.Dim, height(v/most))
		}
	}
	c.Right(m.w-1, y, canvas.Dim, fmt.Sprint(b.calls))
}
