package canvas

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
)

func rowsText(rows []Row) string {
	var lines []string
	for _, r := range rows {
		line := ""
		for _, s := range r {
			line += s.Text
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "|")
}

// Wrapped rows hold all of the text, none is too wide, and what goes on is
// indented by one.
func TestWrap(t *testing.T) {
	for _, c := range []struct {
		rows []Row
		want string
	}{
		{Rows(Plain, "short", ""), "short|"},
		{Rows(Plain, "0123456789abcdefghij"), "0123456789| abcdefghi| j"},
		{[]Row{{{Dim, "01234"}, {Bad, "56789ab"}}}, "0123456789| ab"},
		{Rows(Plain, "船が着く船が着く"), "船が着く船| が着く"},
		{Rows(Plain, "01234567👩‍🚀👩‍🚀x"), "01234567👩‍🚀| 👩‍🚀x"},
		{Rows(Plain, "GET /quo?car=1&x"), "GET /quo?| car=1&x"},
		{Rows(Plain, "an 0123456789"), "an 0123456| 789"},
		{Rows(Plain, "0123456789", "x"), "0123456789|x"},
	} {
		if got := rowsText(Wrap(c.rows, 10)); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
	long := strings.Repeat("e\u0301船x", 20_000) // and quickly
	rows := Wrap(Rows(Plain, long), 70)
	for _, r := range rows {
		if n := ansi.StringWidth(rowsText([]Row{r})); n > 70 {
			t.Fatalf("a row is %d wide", n)
		}
	}
	if got := strings.ReplaceAll(rowsText(rows), "| ", ""); got != long {
		t.Error("wrapping lost something")
	}
}

func TestCodeKeepsTheText(t *testing.T) {
	json := "{\n  \"fare\": 4.5,\n  \"ok\": [true, null, \"船\"]\n}"
	rows := Code(json, "application/problem+json")
	if got := strings.ReplaceAll(rowsText(rows), "|", "\n"); got != json {
		t.Errorf("%q", got)
	}
	styles := map[Style]bool{}
	for _, r := range rows {
		for _, s := range r {
			styles[s.Style] = true
		}
	}
	if !styles[Field] || !styles[Number] || !styles[Text] {
		t.Errorf("styles %v", styles)
	}
	for _, c := range []struct{ text, kind string }{{"a\tb", "text/plain"}, {"<p>é</p>", "text/html; charset=utf-8"},
		{"", "application/json"}, {"{broken", "application/json"}, {"x", "no/such"}} {
		if got := strings.ReplaceAll(rowsText(Code(c.text, c.kind)), "|", "\n"); got != c.text {
			t.Errorf("%s %q: %q", c.kind, c.text, got)
		}
	}
	if got := rowsText(Hex([]byte("GIF89a\x00\xff0123456789"), 80)); !strings.Contains(got,
		"000000  4749 4638 3961 00ff") ||
		!strings.Contains(got, " GIF89a··01234567") {
		t.Errorf("%s", got)
	}
}

// A dump has as many bytes in a row as there is room for, so that it is never wrapped.
func TestHexFits(t *testing.T) {
	b := []byte(strings.Repeat("quay\x01\xfe", 20))
	for width, per := range map[int]int{120: 16, 65: 16, 64: 8, 37: 8, 36: 4, 10: 4} {
		rows := Hex(b, width)
		if want := (len(b) + per - 1) / per; len(rows) != want {
			t.Errorf("in %d cells there are %d rows, want %d", width, len(rows), want)
		}
		if width > 23 && len(Wrap(rows, width)) != len(rows) {
			t.Errorf("in %d cells the dump is wrapped", width)
		}
	}
}

// Flowing text is broken between words by its width, and a word that is wider
// than a row inside it.
func TestFlow(t *testing.T) {
	c := New(10, 6, NewTheme(true))
	if next := Flow(c, 1, 0, 10, Plain, "a 船が着く  quay abcdefghijkl"); next != 5 {
		t.Errorf("the row after it is %d", next)
	}
	if got := strings.Join(plain(c), "|"); got != " a| 船が着く| quay| abcdefghi| jkl|" {
		t.Errorf("%q", got)
	}
}
