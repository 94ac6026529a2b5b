package anatomy

import (
	"slices"
)

// leastSeen is the least that is told apart from nothing, in milliseconds: about the time between two looks.
const leastSeen = 1

// Figure returns a figure of the report by the name that budgets have for it: the milliseconds of a class or of the
// imports, the number of files that were opened or of look-ups in vain. ok is false where it is not known.
func (r *Report) Figure(name string) (v float64, ok bool) {
	switch {
	case name == "imports":
		_, total := r.Flame()
		return ms(total), len(r.Imports) > 0 && r.Trusts(r.TreeTook)
	case name == "files" && r.Names != nil:
		return float64(r.Names.Opened), true
	case name == "lookups" && r.Names != nil:
		return float64(r.Names.Failed), true
	}
	class := slices.Index(Keys[:], name)
	if class < 0 || r.Clock == nil || !r.Trusts(r.ClockTook) {
		return 0, false
	}
	v = ms(r.Clock.Shares[class])
	if Class(class) != Running && v < leastSeen {
		v = 0 // it may be a look that came at an odd moment
	}
	return v, true
}
