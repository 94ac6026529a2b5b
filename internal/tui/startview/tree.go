package startview

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/anatomy"
)

// tree is what was loaded, as it is walked.
type tree struct {
	all      []anatomy.Import
	children [][]int // of each, the largest first; those of the root are last
	at       int     // -1 for none
	want     string
}

func newTree(r *anatomy.Report) *tree {
	t := &tree{all: r.Imports, children: make([][]int, len(r.Imports)+1), at: -1}
	for i := range t.all {
		p := t.all[i].Parent
		if p < 0 {
			p = len(t.all)
		}
		t.children[p] = append(t.children[p], i)
	}
	for _, c := range t.children {
		slices.SortStableFunc(c, func(a, b int) int { return cmp.Compare(t.all[b].Total, t.all[a].Total) })
	}
	if roots := t.roots(); len(roots) > 0 {
		t.at = roots[0]
	}
	return t
}

func (t *tree) roots() []int { return t.children[len(t.all)] }

// total is the time of all together.
func (t *tree) total() (sum time.Duration) {
	for _, i := range t.roots() {
		sum += t.all[i].Total
	}
	return sum
}

func (t *tree) siblings(i int) []int {
	if p := t.all[i].Parent; p >= 0 {
		return t.children[p]
	}
	return t.roots()
}

func (t *tree) up() {
	if t != nil && t.at >= 0 && t.all[t.at].Parent >= 0 {
		t.at = t.all[t.at].Parent
	}
}

func (t *tree) down() {
	if t != nil && t.at >= 0 && len(t.children[t.at]) > 0 {
		t.at = t.children[t.at][0]
	}
}

// beside goes to the next one of the same parent, or of those that the filter wants.
func (t *tree) beside(by int) {
	if t == nil || t.at < 0 {
		return
	}
	all := t.siblings(t.at)
	if t.want != "" {
		all = t.wanted()
	}
	if len(all) == 0 {
		return
	}
	t.at = all[min(max(slices.Index(all, t.at)+by, 0), len(all)-1)]
}

// fits reports whether the filter wants one.
func (t *tree) fits(i int) bool {
	return t.want == "" || strings.Contains(strings.ToLower(t.all[i].Name), t.want)
}

// wanted returns those that the filter wants, the largest first.
func (t *tree) wanted() (out []int) {
	for i := range t.all {
		if t.fits(i) {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(t.all[b].Total, t.all[a].Total) })
	return out
}

func (t *tree) filter(want string) {
	if t == nil {
		return
	}
	if t.want = strings.ToLower(want); t.want != "" {
		if all := t.wanted(); len(all) > 0 {
			t.at = all[0]
		}
	}
}

// path returns the one under the cursor and those above it, the outermost first.
func (t *tree) path() (out []int) {
	for i := t.at; i >= 0; i = t.all[i].Parent {
		out = append(out, i)
	}
	slices.Reverse(out)
	return out
}
