package proc

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/payload"
)

// A command is run to its end: how it went, what it wrote, how long it took.
func TestRun(t *testing.T) {
	for script, want := range map[string]string{
		"echo built": "built|", "echo a; echo b >&2; exit 3": "a b|sh exited with code 3",
		"kill -9 $$":      "|sh killed by signal 9 (killed)",
		"printf 'no end'": "no end|", "printf '\\033[31mred\\n'": "·[31mred|",
	} {
		r := Run(t.Context(), Command{Args: []string{"sh", "-c", script}})
		got := strings.Join(r.Lines, " ") + "|"
		if r.Err != nil {
			got += r.Err.Error()
		}
		if got != want || r.Took <= 0 {
			t.Errorf("%s: %q in %v, want %q", script, got, r.Took, want)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	r := Run(ctx, Command{Args: []string{"sh", "-c", "echo begun; sleep 60"}})
	if r.Err == nil || !strings.Contains(r.Err.Error(), "sh was interrupted after") || r.Took > 20*time.Second {
		t.Errorf("interrupted: %v after %v", r.Err, r.Took)
	}
	if r := Run(t.Context(), Command{Args: []string{"no-such-command-anywhere"}}); r.Err == nil ||
		errors.Is(r.Err, context.Canceled) {
		t.Errorf("a missing command: %v", r.Err)
	}
	if r := Run(t.Context(), Command{Args: []string{"/bin/sh"}, Dir: "/no/such/folder"}); r.Err == nil ||
		!strings.Contains(r.Err.Error(), "no folder /no/such/folder") {
		t.Errorf("a missing folder: %v", r.Err)
	}
}

// Values of variables that look secret are starred, in what is kept and in what
// is handed on.
func TestSecretsAreStarred(t *testing.T) {
	var lines []string
	r := Run(t.Context(), Command{Args: []string{"sh", "-c",
		`echo "$HARBOUR_TOKEN and $HARBOUR, $SHORT_KEY"; env | grep HARBOUR_TOKEN`},
		Env:  []string{"HARBOUR_TOKEN=tern-4711", "HARBOUR=holm", "SHORT_KEY=ab"},
		Line: func(_ time.Time, text string) { lines = append(lines, text) }})
	want := Stars + " and holm, ab HARBOUR_TOKEN=" + Stars
	if got := strings.Join(r.Lines, " "); got != want || strings.Join(lines, " ") != want {
		t.Errorf("kept %q, handed on %q, want %q", got, lines, want)
	}
	for name, want := range map[string]bool{"DB_PASSWORD": true, "API_KEY": true, "apikey": true, "KEY": true,
		"GITHUB_TOKEN": true, "MY_SECRET": true, "AUTHORIZATION": true,
		"KEYBOARD": false, "PATH": false, "MONKEY": false, "LEVEL": false, "HARBOUR": false} {
		if payload.SecretVariable(name) != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
	if Mask([]string{"A=long enough", "TOKEN=short"}) != nil {
		t.Error("there is nothing to be starred")
	}
	if os.Getenv("HARBOUR_TOKEN") != "" {
		t.Error("the test's own environment was changed")
	}
}

// Lines are forgotten when no one needs them any more.
func TestForgotten(t *testing.T) {
	p, err := Start(Command{Args: []string{"sh", "-c", "for i in 1 2 3; do echo $i; done"}})
	if err != nil {
		t.Fatal(err)
	}
	p.Gone()
	if got := strings.Join(p.Output.Last(2), " "); got != "2 3" {
		t.Errorf("the last two are %q", got)
	}
	if p.Output.Forget(); len(p.Output.Last(10)) != 0 {
		t.Error("they are still there")
	}
}
