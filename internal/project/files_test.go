package project

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// Anything but a file, and a file that is too large, is refused with the bound; nothing waits for it.
func TestWhatIsNoProjectFile(t *testing.T) {
	for want, make := range map[string]func(path string) error{
		"it is a pipe, not a file":               func(path string) error { return syscall.Mkfifo(path, 0o600) },
		"it is a folder":                         func(path string) error { return os.Mkdir(path, 0o755) },
		"it is a device or a socket, not a file": func(path string) error { return os.Symlink("/dev/zero", path) },
		"it has 2 MiB; the limit is 1 MiB": func(path string) error {
			return os.WriteFile(path, make([]byte, 2<<20), 0o644)
		},
		":2:1: it is nested more than 100 levels deep": func(path string) error {
			return os.WriteFile(path, []byte("nightdrill: 1\nx: "+strings.Repeat("[", 5000)+"\n"), 0o644)
		},
		":1:1: the line has 300000 bytes; the limit is 16384": func(path string) error {
			return os.WriteFile(path, []byte(strings.Repeat("- ", 150_000)), 0o644)
		},
		":10001:1: it has more than 10000 lines": func(path string) error {
			return os.WriteFile(path, []byte(strings.Repeat("a: 1\n", 20_000)), 0o644)
		},
	} {
		dir := t.TempDir()
		if err := make(filepath.Join(dir, File)); err != nil {
			t.Fatal(err)
		}
		if _, err := Load(t.Context(), dir); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// Making payloads is interrupted when the context ends, and says how far it was.
func TestLoadingEnds(t *testing.T) {
	dir := write(t, strings.Replace(good, "payloads:\n", "payloads:\n  many: {schema: scan.json, count: 100000}\n", 1))
	ctx, end := context.WithCancel(t.Context())
	heard := ""
	ctx = WithProgress(ctx, func(text string) {
		if heard = text; strings.HasPrefix(text, "payload 50 of") {
			end()
		}
	})
	_, err := Load(ctx, dir)
	const want = "payload 50 of 100000 of the set many was being made"
	if !errors.Is(err, context.Canceled) || !strings.Contains(err.Error(), want) || heard != want {
		t.Errorf("it ended with %v, having said %q", err, heard)
	}
}
