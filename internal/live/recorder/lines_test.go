package recorder

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func appendText(text string) func([]byte) []byte {
	return func(b []byte) []byte { return append(b, text...) }
}

// A recording of lines is whole after each flush: lines that were cut off are dropped when it is opened again, values
// that span lines become one, an empty one is removed, and what is not a recording is left as it is.
func TestLines(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "scans.ndjson")
	l, err := OpenLines(path)
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{`{"a": 1}`, "{\n  \"a\":\r\n 2, \"b\": \"x\\ny\"}"} {
		if err := l.Append(appendText(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := l.Append(appendText("{\nbroken")); err == nil {
		t.Error("what is not JSON is taken")
	}
	if err := l.Flush(); err != nil || l.Count() != 2 {
		t.Errorf("%v, %d", err, l.Count())
	}
	want := "{\"a\": 1}\n{\"a\":2,\"b\":\"x\\ny\"}\n"
	if got, _ := os.ReadFile(path); string(got) != want {
		t.Errorf("%q", got)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(want+`{"a": 3`), 0o644); err != nil {
		t.Fatal(err)
	}
	if l, err = OpenLines(path); err != nil || l.Repaired != 7 || l.Entries != 2 {
		t.Fatalf("%v %+v", err, l)
	}
	if err := l.Append(appendText("{}")); err != nil {
		t.Fatal(err)
	}
	_ = l.Close()
	if got, _ := os.ReadFile(path); string(got) != want+"{}\n" {
		t.Errorf("%q", got)
	}
	for _, other := range []string{"not JSON\n", "half a line"} {
		if err := os.WriteFile(path, []byte(other), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := OpenLines(path); err == nil || !strings.Contains(err.Error(), "left as it is") {
			t.Errorf("%q is opened: %v", other, err)
		}
		if got, _ := os.ReadFile(path); string(got) != other {
			t.Errorf("it has become %q", got)
		}
	}
	_ = os.Remove(path)
	if l, err = OpenLines(path); err != nil {
		t.Fatal(err)
	}
	_ = l.Close()
	if _, err := os.Stat(path); err == nil {
		t.Error("an empty recording is left behind")
	}
}
