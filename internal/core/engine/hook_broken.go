//go:build brokenrules

package engine

type hook struct{ broken rule }

// breaks reports whether a rule is to be broken.
func (h hook) breaks(r rule) bool { return h.broken == r }
