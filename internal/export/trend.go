package export

import (
	"image/color"
	"io"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/core/trend"
)

// trendRow is the height of a figure's drawing, in points.
const trendRow = 92.0

// TrendFile writes the trends of a drill to a file, as SVG or PDF by its ending. A file that is there is only written
// over when told to.
func TrendFile(path string, t *trend.Trends, over bool) error {
	return drawing(path, "trends are", over, func(to io.Writer, kind string) error {
		return drawTrends(kind, t).finish(to)
	})
}

func drawTrends(kind string, t *trend.Trends) *sheet {
	var lines []string
	for _, sentence := range t.Sentences {
		lines = append(lines, wrapped(sentence, usualWidth-2*margin)...)
	}
	top := margin + 34 + 13*float64(len(lines)) + 10
	s := newSheet(kind, usualWidth, top+trendRow*float64(max(len(t.Series), 1))+margin)
	s.text(margin, margin+8, ink, textSize+4, "Trends over commits: "+t.Drill)
	of := t.Machine
	if t.Branch != "" {
		of = "branch " + t.Branch + ", " + of
	}
	s.text(margin, margin+22, quiet, textSize, text.Plural(t.Runs, "run")+", "+of)
	for i, line := range lines {
		s.text(margin, margin+40+13*float64(i), ink, textSize, line)
	}
	for i := range t.Series {
		s.series(t, &t.Series[i], top+trendRow*float64(i))
	}
	return s
}

// trendColor returns the colour of a figure: cold or warm.
func trendColor(s *trend.Series) color.Color {
	if s.Warm() {
		return lamp
	}
	return frost
}

// series draws a figure over commits: a dot for each, the level between changes, and the commits of these.
func (s *sheet) series(t *trend.Trends, of *trend.Series, top float64) {
	_, high := of.Range()
	n := len(of.Points)
	p := &plot{sheet: s, x: margin + names, y: top + 14, w: s.w - 2*margin - names - 60, h: trendRow - 40,
		ax: draw.Axis{Lo: -0.5, Hi: float64(t.Commits) - 0.5}, ay: draw.Linear(high)}
	p.beside(draw.ShortMillis)
	s.text(margin, p.y+8, ink, textSize, s.fit(textSize, names-50, of.Function))
	s.text(margin, p.y+20, trendColor(of), textSize-1, of.Figure)
	s.text(margin, p.y+31, quiet, textSize-1, text.Plural(n, "commit"))
	of.Levels(t.Commits, func(from, to int, level float64) {
		s.line(quiet, 0.9, xy{p.px(float64(from) - 0.5), p.py(level)}, xy{p.px(float64(to) - 0.5), p.py(level)})
	})
	for _, point := range of.Points {
		s.dot(p.px(float64(point.Place)), p.py(point.Value), 1.7, trendColor(of))
	}
	s.text(p.x+p.w+6, p.py(of.Latest())+3, ink, textSize-1, draw.ShortMillis(of.Latest()))
	for _, c := range of.Changes {
		x := p.px(float64(of.Points[c.At].Place) - 0.5)
		s.dashed(coral, 0.8, xy{x, p.y - 8}, xy{x, p.y + p.h})
		s.text(x+2, p.y-3, coral, textSize-1, c.Commit)
	}
	s.line(faint, 0.6, xy{p.x, p.y + p.h}, xy{p.x + p.w, p.y + p.h})
	const day = "2 Jan 2006"
	s.text(p.x, p.y+p.h+12, quiet, textSize-1, t.From.Format(day))
	if t.Commits > 1 {
		s.textRight(p.x+p.w, p.y+p.h+12, quiet, textSize-1, t.To.Format(day))
	}
}
