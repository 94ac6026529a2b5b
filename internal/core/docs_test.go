package core

import (
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"
)

var (
	mdLink  = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	mdFence = regexp.MustCompile("(?ms)^```.*?^```$")
)

// anchors returns the places of a page that links may name: its headings, as repositories show them.
func anchors(text string) (out []string) {
	for line := range strings.Lines(mdFence.ReplaceAllString(text, "")) {
		title, ok := strings.CutPrefix(strings.TrimLeft(line, "#"), " ")
		if !ok || !strings.HasPrefix(line, "#") {
			continue
		}
		out = append(out, strings.Map(func(r rune) rune {
			switch {
			case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_':
				return unicode.ToLower(r)
			case r == ' ':
				return '-'
			}
			return -1
		}, strings.TrimSpace(title)))
	}
	return out
}

// Every link of a page leads somewhere, and every page is led to from the README or from another page; a page of more
// than two screens has an example.
func TestPages(t *testing.T) {
	pages := map[string]string{}
	for _, pattern := range []string{"../../*.md", "../../docs/*.md", "../../docs/*/*.md", "../../examples/*/*.md"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			content, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			pages[filepath.Clean(file)] = string(content)
		}
	}
	if len(pages) < 25 {
		t.Fatalf("only %d pages", len(pages))
	}
	led := map[string]bool{}
	for page, text := range pages {
		for _, m := range mdLink.FindAllStringSubmatch(mdFence.ReplaceAllString(text, ""), -1) {
			to, err := url.Parse(m[1])
			if err != nil || to.Scheme != "" {
				if err != nil || to.Scheme != "https" && to.Scheme != "http" {
					t.Errorf("%s: %s is not a link", page, m[1])
				}
				continue
			}
			target := page
			if to.Path != "" {
				target = filepath.Join(filepath.Dir(page), filepath.FromSlash(to.Path))
			}
			if _, err := os.Stat(target); err != nil {
				t.Errorf("%s: %s leads nowhere", page, m[1])
				continue
			}
			if target != page {
				led[target] = true
			}
			if to.Fragment != "" && !slices.Contains(anchors(pages[target]), to.Fragment) {
				t.Errorf("%s: %s leads to no heading", page, m[1])
			}
		}
		lines := strings.Count(text, "\n")
		if strings.Contains(page, "docs") && lines > 2*47 && !strings.Contains(text, "```") && !strings.Contains(page,
			"keys.md") && !strings.Contains(page, "RATIONALE.md") && !strings.Contains(page, "reference") {
			t.Errorf("%s has %d lines and no example", page, lines)
		}
	}
	for page := range pages {
		if name := filepath.Base(page); !led[page] && name != "README.md" && name != "CHANGELOG.md" {
			t.Errorf("nothing leads to %s", page)
		}
	}
	for _, picture := range slices.Concat(glob(t, "../../docs/screenshots/*"), glob(t, "../../docs/*.svg")) {
		if !led[picture] {
			t.Errorf("nothing shows %s", picture)
		}
	}
}

func glob(t *testing.T, pattern string) []string {
	t.Helper()
	out, err := filepath.Glob(pattern)
	if err != nil {
		t.Fatal(err)
	}
	return out
}
