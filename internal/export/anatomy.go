package export

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/pprof/profile"

	"nightdrill.dev/internal/core/anatomy"
)

// Anatomy writes a report on a start to a folder: its JSON, its drawing as SVG and as PDF, and the tree of imports as a
// pprof profile and as folded stacks. Files of an earlier report are written over. It returns what was written, in
// words.
func Anatomy(dir string, r *anatomy.Report) (string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	name := strings.ReplaceAll(r.Function, "@", "-") + "-start"
	files := map[string][]byte{}
	content, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return "", err
	}
	files[name+".json"] = append(content, '\n')
	for _, kind := range []string{"svg", "pdf"} {
		var b bytes.Buffer
		if err := anatomySheet(kind, r).finish(&b); err != nil {
			return "", err
		}
		files[name+"."+kind] = b.Bytes()
	}
	if len(r.Imports) > 0 {
		var b bytes.Buffer
		if err := importProfile(r).Write(&b); err != nil {
			return "", err
		}
		files[name+"-imports.pb.gz"] = b.Bytes()
		files[name+"-imports.folded"] = []byte(r.Folded())
	}
	for file, content := range files {
		if err := Put(filepath.Join(dir, file), content, true); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%s: %s.json, .svg, .pdf, -imports.pb.gz, -imports.folded", dir, name), nil
}

// importProfile returns the tree as a profile: a sample for each module, with those that load it as its stack.
func importProfile(r *anatomy.Report) *profile.Profile {
	p := &profile.Profile{SampleType: []*profile.ValueType{{Type: "time", Unit: "nanoseconds"}},
		PeriodType: &profile.ValueType{Type: "time", Unit: "nanoseconds"}, Period: 1, DurationNanos: int64(r.TreeTook)}
	places := map[string]*profile.Location{}
	place := func(name string) *profile.Location {
		if l := places[name]; l != nil {
			return l
		}
		f := &profile.Function{ID: uint64(len(p.Function) + 1), Name: name, SystemName: name}
		l := &profile.Location{ID: uint64(len(p.Location) + 1), Line: []profile.Line{{Function: f}}}
		p.Function, p.Location, places[name] = append(p.Function, f), append(p.Location, l), l
		return l
	}
	for i := range r.Imports {
		s := &profile.Sample{Value: []int64{int64(r.Imports[i].Own)}}
		stack := r.Stack(i)
		for k := range stack { // the innermost first
			s.Location = append(s.Location, place(stack[len(stack)-1-k]))
		}
		p.Sample = append(p.Sample, s)
	}
	return p
}

var classColors = [anatomy.Classes]color.Color{anatomy.Running: lamp, anatomy.Waiting: coral, anatomy.Disk: steel,
	anatomy.Network: frost, anatomy.Sleeping: faint, anatomy.Unseen: mist}

// Sizes of the drawing of a start, in points.
const (
	startWidth = 860.0
	startEdge  = 24.0
	laneHigh   = 14.0
	laneNames  = 130.0
	deepest    = 24 // rows of the tree
	mostLanes  = 16
)

func anatomySheet(kind string, r *anatomy.Report) *sheet {
	lanes := r.Lanes(mostLanes)
	nodes, total := r.Flame()
	rows := 0
	for _, n := range nodes {
		rows = max(rows, min(n.Depth+1, deepest))
	}
	sentences := r.Sentences()
	high := 2*startEdge + 40 + 14*float64(len(sentences)+len(r.Unavailable)) + 90 + laneHigh*float64(len(lanes)+3) +
		laneHigh*float64(rows+3)
	s := newSheet(kind, startWidth, high)
	wide := startWidth - 2*startEdge
	y := startEdge + 12
	s.text(startEdge, y, ink, 1.4*textSize, fmt.Sprintf("The start of %s: %s ms from exec to ready", r.Function,
		msOf(r.Median())))
	y += 16
	for _, line := range sentences {
		s.text(startEdge, y, ink, textSize, line)
		y += 14
	}
	if a := r.Clock; a != nil && r.Trusts(r.ClockTook) {
		y += 8
		at, x := time.Duration(0), startEdge
		for class, d := range a.Shares {
			from := startEdge + wide*float64(at)/float64(a.Total)
			s.rect(from, y, wide*float64(d)/float64(a.Total), laneHigh, classColors[class])
			at += d
		}
		y += laneHigh + 13
		for class, d := range a.Shares {
			if d < 50*time.Microsecond {
				continue
			}
			words := fmt.Sprintf("%s %s ms, %.0f %%", anatomy.Words[class], msOf(d), 100*float64(d)/float64(a.Total))
			s.rect(x, y-7, 8, 8, classColors[class])
			s.text(x+12, y, ink, textSize, words)
			x += s.width(textSize, words) + 30
		}
		y += 22
		span := wide - laneNames
		for part := range 5 {
			x := startEdge + laneNames + span*float64(part)/4
			s.textMiddle(x, y, quiet, textSize, fmt.Sprintf("%.0f", float64(a.Total*time.Duration(part)/4)/
				float64(time.Millisecond)))
			s.line(mist, 0.7, xy{x, y + 4}, xy{x, y + 6 + laneHigh*float64(len(lanes))})
		}
		y += 6
		for _, l := range lanes {
			s.text(startEdge, y+10, ink, textSize, s.fit(textSize, laneNames-8, l.Name))
			for _, p := range l.Spans {
				s.rect(startEdge+laneNames+span*float64(p.From)/float64(a.Total), y+2, max(span*float64(p.To-p.From)/
					float64(a.Total), 0.3), laneHigh-4, classColors[p.Class])
			}
			y += laneHigh
		}
	}
	if total > 0 && r.Trusts(r.TreeTook) {
		y += 20
		s.text(
			startEdge,
			y,
			quiet,
			textSize,
			fmt.Sprintf("What %s loaded: %s ms together, in a start of its own of %s ms",
				r.Language, msOf(total), msOf(r.TreeTook)),
		)
		y += 6
		for _, n := range nodes {
			width := wide * float64(n.To-n.From) / float64(total)
			if n.Depth >= deepest || width < 0.4 {
				continue
			}
			x, top := startEdge+wide*float64(n.From)/float64(total), y+laneHigh*float64(n.Depth)
			fill := rime
			if n.Depth%2 == 1 {
				fill = glow
			}
			s.rect(x, top, max(width-0.5, 0.3), laneHigh-1, fill)
			if width > 30 {
				s.text(x+3, top+10, ink, textSize, s.fit(textSize, width-6, r.Imports[n.Import].Name))
			}
		}
		y += laneHigh * float64(rows)
	}
	y += 14
	for _, u := range r.Unavailable {
		s.text(startEdge, y, quiet, textSize, s.fit(textSize, wide, "Not seen: "+u))
		y += 14
	}
	return s
}

func msOf(d time.Duration) string {
	if d >= 10*time.Millisecond {
		return fmt.Sprintf("%.0f", float64(d)/float64(time.Millisecond))
	}
	return fmt.Sprintf("%.2f", float64(d)/float64(time.Millisecond))
}
