package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// page is a part of the tutorial: a file to write, or commands with what they print.
type page struct {
	file, content string
	commands      []command
}

type command struct{ line, want string }

var fence = regexp.MustCompile("(?ms)(?:^`([^`\n]+)`:\n\n)?^```(\\w+)\n(.*?)^```$")

// pagesOf divides the tutorial into what its reader does.
func pagesOf(text string) (out []page) {
	for _, m := range fence.FindAllStringSubmatch(text, -1) {
		p := page{file: m[1], content: m[3]}
		if m[2] == "console" {
			for line := range strings.Lines(m[3]) {
				if c, ok := strings.CutPrefix(line, "$ "); ok {
					p.commands = append(p.commands, command{line: strings.TrimSpace(c)})
				} else if n := len(p.commands); n > 0 {
					p.commands[n-1].want += line
				}
			}
		}
		out = append(out, p)
	}
	return out
}

// pattern turns what a command is said to print into an expression: … in a line stands for any text, alone for lines.
func pattern(want string) *regexp.Regexp {
	var b strings.Builder
	b.WriteString(`^\s*`)
	for line := range strings.Lines(want) {
		if strings.TrimSpace(line) == "…" {
			b.WriteString("(?:[^\n]*\n)*?")
			continue
		}
		b.WriteString(`[ \t]*`)
		for i, part := range strings.Split(strings.TrimRight(line, "\n"), "…") {
			if i > 0 {
				b.WriteString("[^\n]*?")
			}
			for k, word := range strings.Fields(part) {
				if k > 0 {
					b.WriteString(`\s+`)
				}
				b.WriteString(regexp.QuoteMeta(word))
			}
			b.WriteString(`[ \t]*`)
		}
		b.WriteString("\n+")
	}
	b.WriteString("$")
	return regexp.MustCompile(b.String())
}

// The tutorial is done line by line, as its reader does it, and prints what it says.
func TestTheTutorial(t *testing.T) {
	has(t, "python3")
	dir := filepath.Join(t.TempDir(), "fares")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	commands, files := 0, 0
	for _, p := range pagesOf(read(t, "../../docs/tutorial.md")) {
		if p.file != "" {
			files++
			if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, p.file)), 0o755); err != nil {
				t.Fatal(err)
			}
			put(t, filepath.Join(dir, p.file), p.content)
		}
		for _, c := range p.commands {
			commands++
			sh := exec.Command("sh", "-c", c.line)
			sh.Dir, sh.Env = dir, append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
			out, _ := sh.CombinedOutput() // what is printed counts
			if !pattern(c.want).Match(out) {
				t.Fatalf("$ %s\n%s\nbut the tutorial says\n%s", c.line, out, c.want)
			}
		}
	}
	if commands < 10 || files < 4 {
		t.Errorf("%d commands and %d files: the tutorial is not read as it should be", commands, files)
	}
}
