package text

import (
	"bytes"
	"encoding/json"
	"unicode/utf8"
)

// Indent lays JSON out in lines. It fails for what is not JSON, and for what is
// nested so deeply that the indentation would be most of it.
func Indent(to *bytes.Buffer, body []byte) bool {
	depth, deepest := 0, 0
	for _, c := range body { // also those in texts: it is a bound, not a count
		switch c {
		case '{', '[':
			depth++
			deepest = max(deepest, depth)
		case '}', ']':
			depth--
		}
	}
	return deepest <= 200 && json.Indent(to, bytes.TrimSpace(body), "", "  ") == nil
}

// textLimit is how many bytes IsText looks at.
const textLimit = 64 << 10

// IsText reports whether bytes are text that can be shown, by their first 64 KiB.
func IsText(b []byte) bool {
	if len(b) > textLimit {
		b = b[:textLimit]
		for i := len(b) - 1; i > len(b)-utf8.UTFMax; i-- { // the cut may go through a character
			if utf8.RuneStart(b[i]) {
				if !utf8.FullRune(b[i:]) {
					b = b[:i]
				}
				break
			}
		}
	}
	return utf8.Valid(b) && bytes.IndexByte(b, 0) < 0
}
