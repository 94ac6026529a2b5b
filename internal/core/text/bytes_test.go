package text

import (
	"bytes"
	"strings"
	"testing"
)

func TestIndent(t *testing.T) {
	for text, want := range map[string]string{
		`{"a":[1,2]}`:                         "{\n  \"a\": [\n    1,\n    2\n  ]\n}",
		" [] ":                                "[]",
		`{"a":`:                               "",
		strings.Repeat("[", 5000):             "",
		`"[[[["`:                              `"[[[["`,
		"plain":                               "",
		strings.Repeat(`{"a":`, 300):          "",
		`{"text":"a {{{ b }}} c","n":` + "1}": "{\n  \"text\": \"a {{{ b }}} c\",\n  \"n\": 1\n}",
	} {
		var b bytes.Buffer
		if ok := Indent(&b, []byte(text)); ok != (want != "") || ok && b.String() != want {
			t.Errorf("%.40s: %v %q", text, ok, b.String())
		}
	}
}

func TestIsText(t *testing.T) {
	ship := strings.Repeat("船", textLimit) // the cut goes through a character
	for text, want := range map[string]bool{"": true, "holm\r\n": true, ship: true, "x" + ship: true, "xy" + ship: true,
		"\x00": false, "M\xf6we and more": false, "\x89PNG": false} {
		if IsText([]byte(text)) != want {
			t.Errorf("%.10q: %v", text, !want)
		}
	}
}
