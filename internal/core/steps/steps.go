// Package steps bounds what Go templates do: those that people write may have loops in loops,
// or templates that call each other, and run for hours without writing anything.
//
// Parse has a template report each turn of a loop and of each call, by writing a mark; Execute
// carries it out, takes the marks out of what it writes, and ends it when it is told to, or has
// taken too many steps.
package steps

import (
	"bytes"
	"fmt"
	"slices"
	"text/template"
	"text/template/parse"
)

const (
	// most is how many steps one execution may take: turns of loops, calls of templates, and
	// pieces that are written.
	most = 5_000_000
	// askEvery is after how many steps it is asked whether to go on.
	askEvery = 256
	// mostWritten is the most that one execution may write, in bytes.
	mostWritten = 64 << 20
	// deepest is how deep templates may call each other: an error takes time with the square
	// of that.
	deepest = 1000
)

// What is written to report a step. They are told from text by where they are, not by what
// they hold.
var turn, enter, leave = []byte{'t'}, []byte{'e'}, []byte{'l'}

// Template is a template that counts its steps. It can be carried out by several at once.
type Template struct{ t *template.Template }

// execution takes what a template writes.
type execution struct {
	bytes.Buffer
	steps, depth int
	stop         func() error
}

func (x *execution) Write(b []byte) (int, error) {
	x.steps++
	switch {
	case x.steps > most:
		return 0, fmt.Errorf("it takes more than %d steps", most)
	case x.steps%askEvery == 0 && x.stop != nil:
		if err := x.stop(); err != nil {
			return 0, err
		}
	}
	if len(b) == 1 {
		switch &b[0] {
		case &turn[0]:
			return 1, nil
		case &enter[0]:
			if x.depth++; x.depth > deepest {
				return 0, fmt.Errorf("templates call each other more than %d deep", deepest)
			}
			return 1, nil
		case &leave[0]:
			x.depth--
			return 1, nil
		}
	}
	if x.Len()+len(b) > mostWritten {
		return 0, fmt.Errorf("it writes more than %d MiB", mostWritten>>20)
	}
	return x.Buffer.Write(b)
}

// Parse reads a template; its options and functions are set already.
func Parse(t *template.Template, text string) (*Template, error) {
	t, err := t.Parse(text)
	if err != nil {
		return nil, err
	}
	for _, each := range t.Templates() {
		if each.Tree != nil && each.Root != nil {
			count(each.Root)
			each.Root.Nodes = slices.Concat([]parse.Node{mark(enter)}, each.Root.Nodes, []parse.Node{mark(leave)})
		}
	}
	return &Template{t}, nil
}

func mark(of []byte) parse.Node { return &parse.TextNode{NodeType: parse.NodeText, Text: of} }

// count inserts a mark at the beginning of each loop in a list.
func count(list *parse.ListNode) {
	if list == nil {
		return
	}
	for _, n := range list.Nodes {
		switch n := n.(type) {
		case *parse.RangeNode:
			count(n.List)
			count(n.ElseList)
			n.List.Nodes = append([]parse.Node{mark(turn)}, n.List.Nodes...)
		case *parse.IfNode:
			count(n.List)
			count(n.ElseList)
		case *parse.WithNode:
			count(n.List)
			count(n.ElseList)
		}
	}
}

// Execute carries the template out, and returns what it writes. It asks stop, now and then,
// whether to go on; nil is for always.
func (t *Template) Execute(data any, stop func() error) ([]byte, error) {
	x := execution{stop: stop}
	if err := t.t.Execute(&x, data); err != nil {
		return nil, err
	}
	return x.Bytes(), nil
}
