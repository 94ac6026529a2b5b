package measure

import (
	"strconv"
	"strings"
	"time"
)

// Own is a phase that the function itself reports.
type Own struct {
	Name string
	Took time.Duration // 0 if it reports none
	Says string        // its description
}

// ParseServerTiming parses the Server-Timing header (W3C). What is not well-formed is skipped.
func ParseServerTiming(header string) (out []Own) {
	for _, entry := range splitQuoted(header, ',') {
		parts := splitQuoted(entry, ';')
		name := strings.TrimSpace(parts[0])
		if name == "" {
			continue
		}
		o := Own{Name: name}
		for _, p := range parts[1:] {
			key, value, _ := strings.Cut(p, "=")
			value = strings.TrimSpace(value)
			if n := len(value); n > 1 && value[0] == '"' && value[n-1] == '"' {
				value = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(value[1 : n-1])
			}
			switch strings.ToLower(strings.TrimSpace(key)) {
			case "dur":
				if ms, err := strconv.ParseFloat(value, 64); err == nil && ms >= 0 && ms < 1e9 {
					o.Took = time.Duration(ms * 1e6)
				}
			case "desc":
				o.Says = value
			}
		}
		out = append(out, o)
	}
	return out
}

// splitQuoted splits at a separator that is not between double quotes.
func splitQuoted(s string, at byte) (out []string) {
	quoted, from := false, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == at && !quoted:
			out = append(out, s[from:i])
			from = i + 1
		}
	}
	return append(out, s[from:])
}
