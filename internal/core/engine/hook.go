//go:build !brokenrules

package engine

type hook struct{}

// breaks reports whether a rule is to be broken: none is.
func (hook) breaks(rule) bool { return false }
