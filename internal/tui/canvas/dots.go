package canvas

// Dots is a drawing in dots, two in the width of a cell and four in its height: cells with any are
// Braille characters.
type Dots struct {
	w, h   int // in cells
	bits   []byte
	styles []Style
}

// NewDots returns an empty drawing of a size in cells.
func NewDots(w, h int) *Dots {
	w, h = max(w, 0), max(h, 0)
	return &Dots{w: w, h: h, bits: make([]byte, w*h), styles: make([]Style, w*h)}
}

// bit is that of each dot of a cell in a Braille character, by its column and row (Unicode, block
// Braille Patterns).
var bit = [2][4]byte{{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}}

// Set sets a dot: x counts from the left, y from the top, both from 0. A cell has the style of its
// last dot.
func (d *Dots) Set(x, y int, style Style) {
	if x < 0 || y < 0 || x >= 2*d.w || y >= 4*d.h {
		return
	}
	i := y/4*d.w + x/2
	d.bits[i] |= bit[x%2][y%4]
	d.styles[i] = style
}

// Rise returns the row of dots at a height from 0, the bottom, to 1.
func (d *Dots) Rise(at float64) int {
	return 4*d.h - 1 - max(min(int(at*float64(4*d.h)), 4*d.h-1), 0)
}

// Draw draws the cells that have any dots.
func (d *Dots) Draw(c *Canvas, x, y int) {
	for i, bits := range d.bits {
		if bits != 0 {
			c.Set(x+i%d.w, y+i/d.w, d.styles[i], 0x2800+rune(bits))
		}
	}
}
