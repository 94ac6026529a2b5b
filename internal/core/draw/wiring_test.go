package draw

import (
	"math/bits"
	"testing"

	"nightdrill.dev/internal/core/rng"
)

// On maps of all sizes no two nodes lie on each other, wires end where their
// nodes are, and no wire runs through a node, or, but for a few, along another;
// what is small enough fits.
func TestMapsOfAllSizes(t *testing.T) {
	hidden := map[uint64]bool{} // maps on which a wire lies upon another
	for seed := range uint64(3000) {
		r := rng.New(seed, 3)
		m := Wiring{}
		for range 1 + r.Below(12) {
			m.Sources = append(m.Sources, WiringNode{Lines: r.Below(3)})
		}
		for range 1 + r.Below(12) {
			m.Functions = append(m.Functions, WiringNode{Lines: r.Below(3)})
		}
		for range r.Below(20) {
			m.Wires = append(m.Wires, WiringWire{Source: r.Below(len(m.Sources)), Function: r.Below(len(m.Functions))})
		}
		w, h := 80+r.Below(100), 20+r.Below(30)
		p := m.Lay(w, h)
		for _, boxes := range [][]Box{p.Sources, p.Functions} {
			rows := map[int]bool{}
			for _, b := range boxes {
				if b.X < 0 || b.X+b.W > w || b.Y < 0 || b.Y+b.H > p.H || b.H < 1 {
					t.Fatalf("seed %d: a node at %+v of %d x %d", seed, b, w, p.H)
				}
				for y := b.Y; y < b.Y+b.H; y++ {
					if rows[y] {
						t.Fatalf("seed %d: two nodes in row %d", seed, y)
					}
					rows[y] = true
				}
			}
		}
		starts := map[Corner]bool{}
		for i, x := range m.Wires {
			path := p.Wires[i]
			s, f := p.Sources[x.Source], p.Functions[x.Function]
			first, last := path[0], path[len(path)-1]
			if first.Y < s.Y || first.Y >= s.Y+s.H || last.Y != f.Y || first.X <= s.X+s.W || last.X >= f.X ||
				starts[first] {
				t.Fatalf("seed %d: wire %d runs %v, from %+v to %+v", seed, i, path, s, f)
			}
			starts[first] = true
			for k := 1; k < len(path); k++ {
				a, b := path[k-1], path[k]
				if a.X != b.X && a.Y != b.Y || b.X < a.X || b.X > last.X || b.X < first.X {
					t.Fatalf("seed %d: wire %d goes from %v to %v", seed, i, a, b)
				}
			}
		}
		along := map[Corner]int{} // cells that wires to a function run along
		for i, path := range p.Strokes(&m) {
			for _, s := range path {
				if f, there := along[s.Corner]; s.Arms&(North|South) == 0 && there && f != m.Wires[i].Function {
					hidden[seed] = true
				} else if s.Arms&(North|South) == 0 {
					along[s.Corner] = m.Wires[i].Function
				}
			}
		}
		names := max(len(m.Sources), len(m.Functions))
		ports := map[int]int{}
		for _, x := range m.Wires {
			ports[x.Source]++
		}
		for _, n := range ports {
			names += max(n-1, 0)
		}
		if names <= h && p.H > max(names, h) {
			t.Fatalf("seed %d: %d rows where %d are enough and there are %d", seed, p.H, names, h)
		}
	}
	if len(hidden) > 60 { // crowded ones, whose wires want it both ways
		t.Errorf("on %d of 3000 maps a wire lies upon another", len(hidden))
	}
}

// Twelve sources and twelve functions stand in a terminal of 160 by 47, with room
// for words on every wire.
func TestTwelveByTwelve(t *testing.T) {
	m := Wiring{}
	for i := range 12 {
		m.Sources = append(m.Sources, WiringNode{Lines: 1})
		m.Functions = append(m.Functions, WiringNode{Lines: 1})
		m.Wires = append(m.Wires, WiringWire{Source: i, Function: (i * 5) % 12})
	}
	p := m.Lay(158, 43)
	if p.H > 43 {
		t.Errorf("%d rows", p.H)
	}
	for i, l := range p.Label {
		if l.W < 20 {
			t.Errorf("wire %d has %d cells for words", i, l.W)
		}
	}
}

// Wires to one function flow together; where one passes another that leads
// elsewhere, both go on as they were.
func TestWiresJoinAndPass(t *testing.T) {
	m := Wiring{Sources: make([]WiringNode, 3), Functions: make([]WiringNode, 2),
		Wires: []WiringWire{{Source: 0, Function: 1}, {Source: 1, Function: 0}, {Source: 2, Function: 1}}}
	p := m.Lay(80, 20)
	strokes := p.Strokes(&m)
	joins, turns, over := 0, 0, map[Corner]int{}
	for i, path := range strokes {
		for k, s := range path {
			if k > 0 && max(s.X-path[k-1].X, s.Y-path[k-1].Y, path[k-1].Y-s.Y) != 1 {
				t.Errorf("wire %d leaps from %v to %v", i, path[k-1], s)
			}
			switch bits.OnesCount8(s.Arms) {
			case 3:
				joins++
			case 2:
				if s.Arms != East|West && s.Arms != North|South {
					turns++
				}
			default:
				t.Errorf("wire %d has the arms %04b at %v", i, s.Arms, s.Corner)
			}
			over[s.Corner] |= 1 << m.Wires[i].Function
		}
		if last := path[len(path)-1]; last.Corner != p.Wires[i][len(p.Wires[i])-1] {
			t.Errorf("wire %d ends at %v", i, last)
		}
	}
	passes := 0
	for _, fns := range over {
		if fns == 3 {
			passes++
		}
	}
	if joins == 0 || turns == 0 || passes == 0 {
		t.Errorf("%d joins, %d turns, %d cells with wires to both", joins, turns, passes)
	}
}
