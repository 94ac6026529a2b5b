package project

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/programs"
)

// interpreters are programs that are given a file of code.
var interpreters = regexp.MustCompile(
	`^(python[0-9.]*|node|nodejs|deno|bun|ruby|perl|php|lua|java|sh|bash|dash|zsh|ksh)$`)

var (
	// codeFiles are the endings of files that interpreters are given.
	codeFiles = []string{".py", ".mjs", ".cjs", ".js", ".ts", ".mts", ".rb", ".pl", ".php", ".lua", ".java", ".jar",
		".sh"}
	// withValue are options of interpreters that are followed by a value.
	withValue = []string{"-X", "-W", "-r", "--require", "--import", "--loader", "--experimental-loader", "--env-file",
		"-I"}
	// inPlace are options after which no file of code follows.
	inPlace = []string{"-m", "-c", "-e", "--eval", "-p", "-cp", "-classpath", "--class-path", "-E"}
)

// script returns the file of code that a command gives to an interpreter, "" where there is
// none, or it cannot be told.
func script(command []string) string {
	if !interpreters.MatchString(filepath.Base(command[0])) {
		return ""
	}
	for i := 1; i < len(command); i++ {
		arg := command[i]
		switch {
		case slices.Contains(inPlace, arg):
			return ""
		case slices.Contains(withValue, arg):
			i++
		case strings.HasPrefix(arg, "-"):
		case slices.Contains(codeFiles, filepath.Ext(arg)) && !strings.Contains(arg, "{"):
			return arg
		default:
			return ""
		}
	}
	return ""
}

// foreign returns which other system a program was built for, "" where it is one for this
// system, no binary, or cannot be read.
func foreign(path string) string {
	h, ok := programs.HeadOf(path)
	if !ok || h.Java > 0 || h.OS != "darwin" && emulated() {
		return ""
	}
	if h.OS == runtime.GOOS {
		if slices.Contains(h.Archs, runtime.GOARCH) || runtime.GOOS == "darwin" && runtime.GOARCH == "arm64" {
			return "" // which runs programs for the other, too
		}
		if arch := h.Archs[0]; arch == "386" || !slices.Contains(plan.TargetArchs, arch) {
			return "" // it may run
		}
	}
	return fmt.Sprintf("%s/%s, and this machine is %s/%s", h.OS, strings.Join(h.Archs, " and "), runtime.GOOS,
		runtime.GOARCH)
}

// emulated reports whether the system hands programs for others to an emulator (Linux,
// binfmt_misc).
func emulated() bool {
	entries, _ := os.ReadDir("/proc/sys/fs/binfmt_misc")
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool {
		return e.Name() != "register" &&
			e.Name() != "status"
	})
}
