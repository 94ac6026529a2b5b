// Command architecture draws docs/architecture.svg: the packages of each layer, as they are in the
// source, and the places that an event passes. It is run in the root of the module.
package main

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// floor is a layer, with the packages below some folders of internal.
type floor struct {
	title string
	roots []string
}

var floors = []floor{
	{"commands and screens", []string{"cli", "tui"}},
	{"an open project", []string{"session"}},
	{"the machine, and files", []string{"live", "project", "store", "export", "demo", "files", "programs"}},
	{"computation: no I/O, no clock", []string{"core"}},
}

// way is where an event passes, in order.
var way = []string{"live/front", "session", "live/runner", "core/engine", "live/proc", "live/transport", "core/plan",
	"core/record", "store", "core/measure", "core/report"}

// Sizes in pixels.
const (
	width   = 980
	margin  = 16
	chip    = 24 // height of a package
	gap     = 8
	letter  = 7.6
	between = 34 // of floors
)

func main() {
	text, err := draw()
	if err == nil {
		_, err = os.Stdout.WriteString(text)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "architecture:", err)
		os.Exit(1)
	}
}

func draw() (string, error) {
	var b strings.Builder
	y := margin
	for i, f := range floors {
		names, err := packages(f.roots)
		if err != nil {
			return "", err
		}
		if i > 0 {
			fmt.Fprintf(&b, `<path d="M%d %dv%dm-6-8 6 8 6-8" class="arrow"/>`+"\n", width/2, y-between+3, between-7)
		}
		var chips strings.Builder
		x, row := 2*margin, y+34
		for _, name := range names {
			label := strings.TrimPrefix(name, "core/")
			w := int(float64(len(label))*letter) + 18
			at := slices.Index(way, name)
			if at >= 0 {
				w += 22
			}
			if x+w > width-2*margin {
				x, row = 2*margin, row+chip+gap
			}
			class, left := "package", x+9
			if at >= 0 {
				class, left = "passed", x+31
				fmt.Fprintf(&chips, `<circle cx="%d" cy="%d" r="9" class="number"/>`, x+16, row+chip/2)
				fmt.Fprintf(&chips, `<text x="%d" y="%d" class="on">%d</text>`+"\n", x+16, row+chip/2+4, at+1)
			}
			fmt.Fprintf(&chips, `<rect x="%d" y="%d" width="%d" height="%d" rx="4" class="%s"/>`, x, row, w, chip,
				class)
			fmt.Fprintf(&chips, `<text x="%d" y="%d">%s</text>`+"\n", left, row+16, label)
			x += w + gap
		}
		h := row + chip + margin - y
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="8" class="floor"/>`+
			`<text x="%d" y="%d" class="title">%s</text>`+"\n", margin, y, width-2*margin, h, 2*margin, y+22, f.title)
		b.WriteString(chips.String())
		y += h + between
	}
	y += margin - between
	head := fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" `+
		`font-family="Helvetica, Arial, sans-serif" font-size="13">`, width, y, width, y) + "\n" +
		`<title>The packages of Night Drill, and an event's way through them</title>` + "\n<style>" +
		`.floor{fill:#f3f4f7;stroke:#b9bdc6}.package{fill:#fff;stroke:#b9bdc6}.passed{fill:none;stroke:#96590a}` +
		`.number{fill:#96590a}.on{fill:#fff;text-anchor:middle;font-size:11px}.title{fill:#5d6472}` +
		`.arrow{fill:none;stroke:#5d6472;stroke-width:1.5}text{fill:#1d2330}</style>` + "\n" +
		fmt.Sprintf(`<rect width="%d" height="%d" fill="#fff"/>`, width, y) + "\n"
	return head + b.String() + "</svg>\n", nil
}

// packages returns the folders below some of internal that hold Go code, in alphabetical order below
// each.
func packages(roots []string) (out []string, err error) {
	for _, root := range roots {
		files, err := filepath.Glob(filepath.Join("internal", root, "*.go"))
		if err != nil {
			return nil, err
		}
		below, err := filepath.Glob(filepath.Join("internal", root, "*", "*.go"))
		if err != nil {
			return nil, err
		}
		var of []string
		for _, file := range append(files, below...) {
			name := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(file)), "internal/")
			if name != "core" && !strings.HasSuffix(file, "_test.go") { // the core's own are tests of the whole
				of = append(of, name)
			}
		}
		slices.SortFunc(of, func(a, b string) int {
			return cmp.Or(cmp.Compare(strings.Count(a, "/"), strings.Count(b, "/")), cmp.Compare(a, b))
		})
		out = append(out, slices.Compact(of)...)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no packages below internal: run it in the root of the module")
	}
	return out, nil
}
