// Package programs looks for the programs that commands name.
package programs

import (
	"os"
	"path/filepath"

	"nightdrill.dev/internal/core/suggest"
)

// Nearest returns a hint for a command that is not on the PATH, to be appended to a message: the
// program whose name is close, or else what to do.
func Nearest(name string) string {
	var names []string
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	if w := suggest.Word(name, names); w != "" {
		return "; did you mean " + w + "?"
	}
	return "; install it, or name the program with its path"
}
