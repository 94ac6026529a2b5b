package payload

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
)

// A HAR 1.2 archive is written entry by entry, one a line, between these two.
const (
	HARBegin = `{"log":{"version":"1.2","creator":{"name":"Night Drill","version":"1"},"entries":[` + "\n"
	HAREnd   = "\n]}}\n"
)

type harPair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type harOut struct {
	Started string  `json:"startedDateTime"`
	Time    float64 `json:"time"`
	Request struct {
		Method      string    `json:"method"`
		URL         string    `json:"url"`
		Version     string    `json:"httpVersion"`
		Cookies     []harPair `json:"cookies"`
		Headers     []harPair `json:"headers"`
		Query       []harPair `json:"queryString"`
		PostData    *harBody  `json:"postData,omitempty"`
		HeadersSize int       `json:"headersSize"`
		BodySize    int       `json:"bodySize"`
	} `json:"request"`
	Response struct {
		Status      int       `json:"status"`
		StatusText  string    `json:"statusText"`
		Version     string    `json:"httpVersion"`
		Cookies     []harPair `json:"cookies"`
		Headers     []harPair `json:"headers"`
		Content     harBody   `json:"content"`
		Redirect    string    `json:"redirectURL"`
		HeadersSize int       `json:"headersSize"`
		BodySize    int       `json:"bodySize"`
	} `json:"response"`
	Cache   struct{} `json:"cache"`
	Timings struct {
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	} `json:"timings"`
	Comment string `json:"comment,omitempty"`
	// fields of our own, as HAR 1.2 allows (§ custom fields)
	Of     string `json:"_of,omitempty"`
	Failed string `json:"_failed,omitempty"`
}

type harBody struct {
	Size     int    `json:"size"`
	MimeType string `json:"mimeType"`
	Text     string `json:"text,omitempty"`
	Encoding string `json:"encoding,omitempty"`
}

func bodyOf(b []byte, header []event.Field) harBody {
	out := harBody{Size: len(b), MimeType: event.Value(header, "Content-Type")}
	if utf8.Valid(b) {
		out.Text = string(b)
	} else {
		out.Text, out.Encoding = base64.StdEncoding.EncodeToString(b), "base64"
	}
	return out
}

func pairsOf(fields []event.Field) []harPair {
	out := []harPair{}
	for _, f := range fields {
		out = append(out, harPair{f.Name, f.Value})
	}
	return out
}

// AppendHAR appends a request, and its reply where there is one, as an entry of a
// HAR 1.2 archive in one line. base is the address that its target is relative to;
// wait and receive are the times to the first byte of the reply and to its last.
func (p *Payload) AppendHAR(b []byte, base string, wait, receive time.Duration, comment string) []byte {
	var e harOut
	millis := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	e.Comment = comment
	if p.Call != nil {
		e.Of, e.Failed = p.Call.Of, p.Call.Failed
	}
	started := p.Time
	if started.IsZero() {
		started = time.Unix(0, 0).UTC()
	}
	e.Started = started.Format("2006-01-02T15:04:05.000000Z07:00")
	e.Timings.Wait, e.Timings.Receive, e.Time = millis(wait), millis(receive), millis(wait+receive)
	q := p.Request
	e.Request.Method, e.Request.URL, e.Request.Version = q.Method, strings.TrimSuffix(base, "/")+q.Target, "HTTP/1.1"
	e.Request.Cookies, e.Request.Headers, e.Request.Query = []harPair{}, pairsOf(q.Header), []harPair{}
	if _, query, ok := strings.Cut(q.Target, "?"); ok {
		for part := range strings.SplitSeq(query, "&") {
			name, value, _ := strings.Cut(part, "=")
			plainName, err1 := url.QueryUnescape(name)
			plain, err2 := url.QueryUnescape(value)
			if err1 == nil && err2 == nil {
				e.Request.Query = append(e.Request.Query, harPair{plainName, plain})
			}
		}
	}
	e.Request.HeadersSize, e.Request.BodySize = -1, len(q.Body)
	if len(q.Body) > 0 {
		body := bodyOf(q.Body, q.Header)
		e.Request.PostData = &body
	}
	e.Response.Cookies, e.Response.Headers, e.Response.Version = []harPair{}, []harPair{}, "HTTP/1.1"
	e.Response.HeadersSize, e.Response.BodySize = -1, -1
	if r := p.Reply; r != nil {
		e.Response.Status = r.Status
		e.Response.Headers, e.Response.Content, e.Response.BodySize = pairsOf(r.Header), bodyOf(r.Body, r.Header),
			len(r.Body)
	}
	text, _ := json.Marshal(&e) // there is nothing in it that cannot be written
	return append(b, text...)
}
