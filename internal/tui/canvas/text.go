package canvas

import (
	"embed"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"

	"github.com/alecthomas/chroma/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/record"
)

// Span is text in one style.
type Span struct {
	Style Style
	Text  string
}

// Row is a line of spans.
type Row []Span

// Width is how many cells the row takes.
func (r Row) Width() (n int) {
	for _, s := range r {
		n += ansi.StringWidth(s.Text)
	}
	return n
}

// Rows returns plain lines in one style.
func Rows(style Style, lines ...string) (out []Row) {
	for _, l := range lines {
		out = append(out, Row{{style, l}})
	}
	return out
}

// PutRow writes a row, cut at an edge.
func (c *Canvas) PutRow(x, y, edge int, row Row) {
	for _, s := range row {
		x = c.PutUpTo(x, y, edge, s.Style, s.Text)
	}
}

// colouredLimit is the longest text that is coloured, in bytes.
const colouredLimit = 512 << 10

// definitions are those lexers of chroma, from its source, that payloads and replies need. The package with all of its
// lexers takes more time at start than everything else together, and 2.4 MB of the program.
//
//go:embed lexers/*.xml
var definitions embed.FS

var lexers = sync.OnceValue(func() *chroma.LexerRegistry {
	known := chroma.NewLexerRegistry()
	files, err := definitions.ReadDir("lexers")
	if err != nil {
		panic(err)
	}
	for _, f := range files {
		known.Register(chroma.MustNewXMLLexer(definitions, "lexers/"+f.Name()))
	}
	return known
})

// Code returns a text in the colours of its language, told by its media type. The
// text holds nothing that a terminal obeys but line ends.
func Code(content, mediaType string) (out []Row) {
	lexer := lexers().MatchMimeType(strings.TrimSpace(strings.ToLower(strings.SplitN(mediaType, ";", 2)[0])))
	if strings.HasSuffix(strings.ToLower(mediaType), "json") || strings.Contains(mediaType, "+json") {
		lexer = lexers().Get("json")
	}
	if lexer == nil || len(content) > colouredLimit {
		return Rows(Plain, strings.Split(content, "\n")...)
	}
	tokens, err := chroma.Coalesce(lexer).Tokenise(nil, content)
	if err != nil {
		return Rows(Plain, strings.Split(content, "\n")...)
	}
	row := Row{}
	for _, t := range tokens.Tokens() {
		style := styleOf(t.Type)
		for i, part := range strings.Split(t.Value, "\n") {
			if i > 0 {
				out, row = append(out, row), Row{}
			}
			if part != "" {
				row = append(row, Span{style, part})
			}
		}
	}
	if len(row) > 0 || !strings.HasSuffix(content, "\n") {
		out = append(out, row)
	}
	return out
}

func styleOf(t chroma.TokenType) Style {
	switch {
	case t == chroma.NameTag || t.InSubCategory(chroma.NameAttribute):
		return Field
	case t.InCategory(chroma.Comment), t.InCategory(chroma.Punctuation):
		return Dim
	case t.InSubCategory(chroma.LiteralNumber), t.InCategory(chroma.Keyword):
		return Number
	case t.InSubCategory(chroma.LiteralString):
		return Text
	}
	return Plain
}

// LineMark returns how a line of a log is drawn: its style, and the sign before it.
func LineMark(k record.LineKind) (style Style, sign string) {
	switch k {
	case record.InstanceStarted, record.InstanceReady:
		return Cold, "◆ "
	case record.InstanceStopped:
		return Dim, "┤ "
	case record.Noted:
		return Warm, "– "
	}
	return Plain, ""
}

// breaks are the characters after which a line is broken, rather than anywhere.
const breaks = " ,;&/?"

// Wrap breaks rows that are wider than a width: after a word, where one ends in the last third of the
// row, otherwise between any grapheme clusters. What follows is indented by one.
func Wrap(rows []Row, width int) (out []Row) {
	width = max(width, 8)
	for _, row := range rows {
		line, used := Row{}, 0
		for _, s := range row {
			from, after, wide := 0, 0, 0 // where a word ends in this line, and how wide the line is there
			for at := 0; at < len(s.Text); {
				cluster, w := ansi.FirstGraphemeCluster(s.Text[at:], ansi.GraphemeWidth)
				if used+w > width {
					if after <= from || wide < width*2/3 {
						after, wide = at, used
					}
					if from < after {
						line = append(line, Span{s.Style, s.Text[from:after]})
					}
					out, line, from = append(out, line), Row{{Plain, " "}}, after
					used += 1 - wide
				}
				used += w
				at += len(cluster)
				if strings.Contains(breaks, cluster) {
					after, wide = at, used
				}
			}
			if from < len(s.Text) {
				line = append(line, Span{s.Style, s.Text[from:]})
			}
		}
		out = append(out, line)
	}
	return out
}

// Hex returns bytes as a dump for a width: place, as many bytes as fit of 16, 8 or 4, and their text.
func Hex(b []byte, width int) (out []Row) {
	per := 16
	for per > 4 && 9+per*5/2+per > width {
		per /= 2
	}
	for at := 0; at < len(b); at += per {
		part := b[at:min(at+per, len(b))]
		content := strings.Map(func(r rune) rune {
			if r < 0x20 || r > 0x7e {
				return '·'
			}
			return r
		}, string(latin(part)))
		digits := ""
		for i := 0; i < len(part); i += 2 {
			digits += hex.EncodeToString(part[i:min(i+2, len(part))]) + " "
		}
		out = append(out, Row{{Dim, fmt.Sprintf("%06x  ", at)}, {Number, fmt.Sprintf("%-*s", per*5/2, digits)},
			{Plain, " " + content}})
	}
	return out
}

// latin returns each byte as a character of its own.
func latin(b []byte) []rune {
	out := make([]rune, len(b))
	for i, c := range b {
		out[i] = rune(c)
	}
	return out
}

// Size writes a number of bytes.
func Size(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}
