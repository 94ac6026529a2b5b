package transport

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
)

// What is kept of a request has its secrets neither in its headers nor in its
// query, and what is left can be sent again.
func TestSecretsOfARequestAreNotKept(t *testing.T) {
	m := Message{Method: "POST", Target: "/pay?api_key=hush&leg=2&Token=hu%73h", Body: []byte("x"),
		Header: []event.Field{{Name: "Authorization", Value: "Bearer hush"}, {Name: "X-Desk", Value: "quay-2"}}}
	text := m.Text()
	if s := string(text); strings.Contains(s, "hush") || strings.Contains(s, "hu%73h") ||
		!strings.Contains(s, "leg=2") || !strings.Contains(s, "quay-2") {
		t.Errorf("kept: %s", s)
	}
	p, err := payload.ParseText(text, true)
	if err != nil {
		t.Fatal(err)
	}
	for target, want := range map[string]string{p.Request.Target: "/pay?leg=2", "/pay?key=" + payload.Hidden: "/pay",
		"/pay?leg=2": "/pay?leg=2", "/pay": "/pay"} {
		if got, without := payload.WithoutHidden(target); got != want || without != (target != want) {
			t.Errorf("%s without what is hidden is %s, %v", target, got, without)
		}
	}
}
