package findings

import (
	"fmt"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/tui/canvas"
)

// Evening notes that a break-even is being made; far tells how far it is.
func (m *Model) Evening(far func() (percent int)) {
	if m.outlook != nil {
		m.outlook.even, m.outlook.evenFar = nil, far
	}
}

// BreakEven shows from which rate on one value of a limit costs less than another; nil where it was not made.
func (m *Model) BreakEven(e *forecast.BreakEven) {
	if m.outlook != nil {
		m.outlook.even, m.outlook.evenFar = e, nil
	}
}

// evenBar is the width of the bars of cold deliveries.
const evenBar = 16

// drawEven draws what two values of a limit cost over rates of events, the cheaper one bright.
func (o *outlook) drawEven(c *canvas.Canvas, w, y int) int {
	if o.evenFar != nil {
		c.Rule(y, "break-even")
		c.Put(1, y+1, canvas.Dim, fmt.Sprintf("%d %% simulated   esc cancels", o.evenFar()))
		return y + 2
	}
	e := o.even
	if e == nil {
		return y
	}
	c.Rule(y, "break-even: "+e.Function+"."+e.Limit+" "+e.With+" against "+e.Without)
	y = canvas.Flow(c, 1, y+1, w-1, canvas.Bold, e.Sentence)
	edges := []int{14, 17 + evenBar + 6, 52, 65, 78}
	for i, t := range []string{"deliveries/s", "cold with " + e.Without, "with " + e.With,
		e.Unit + " with " + e.Without,
		"with " + e.With} {
		if edges[i] < w {
			c.Right(edges[i], y, canvas.Dim, t)
		}
	}
	y++
	for _, p := range e.Curve {
		styles := [2]canvas.Style{canvas.Good, canvas.Plain}
		if p.WorthIt() {
			styles = [2]canvas.Style{canvas.Plain, canvas.Good}
		}
		c.Right(edges[0], y, canvas.Plain, figure.Ratio(p.PerSecond))
		for i := range int(p.Cold*evenBar + 0.5) {
			c.Set(17+i, y, canvas.Cold, '▪')
		}
		c.Right(edges[1], y, canvas.Plain, figure.Percent(p.Cold))
		for i, t := range []string{figure.Percent(p.ColdWith), figure.Small(p.Without), figure.Small(p.With)} {
			style := canvas.Plain
			if i > 0 {
				style = styles[i-1]
			}
			if edges[i+2] < w {
				c.Right(edges[i+2], y, style, t)
			}
		}
		y++
	}
	return y
}
