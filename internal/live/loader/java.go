package loader

import (
	"path/filepath"
	"strings"
)

// begins is the class with which the loader for Java begins.
const begins = "nightdrill.Loader"

// OnClassPath completes the command of a Java virtual machine: the loader and the handler's file come before what
// the user has on the class path.
func OnClassPath(args []string, loader, file string) (out []string) {
	path := []string{loader, file}
	for i := 0; i < len(args); i++ {
		name, value, joined := strings.Cut(args[i], "=")
		switch {
		case (args[i] == "-cp" || args[i] == "-classpath" || args[i] == "--class-path") && i+1 < len(args):
			i++
			path = append(path, args[i])
		case joined && name == "--class-path":
			path = append(path, value)
		default:
			out = append(out, args[i])
		}
	}
	return append(out, "-cp", strings.Join(path, string(filepath.ListSeparator)), begins)
}
