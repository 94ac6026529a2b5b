package demo

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync/atomic"
	"time"
)

// berths is the harbour office's berth plan: a service of others, which functions call. It is slow on purpose.
type berths struct{ asked atomic.Int64 }

func newBerths() http.Handler { return &berths{} }

// ServeHTTP answers GET /berths?vessel=NAME.
func (b *berths) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n := b.asked.Add(1)
	vessel := r.URL.Query().Get("vessel")
	number := int64(0)
	for _, c := range vessel {
		number = number*31 + int64(c)
	}
	// the clerk looks it up, and now and then has to ask
	time.Sleep(time.Duration(60+(n*37+number)%50) * time.Millisecond)
	if n%13 == 0 {
		time.Sleep(300 * time.Millisecond)
	}
	w.Header().Set("Content-Type", "application/json")
	if n%40 == 0 {
		w.WriteHeader(http.StatusServiceUnavailable)
		fmt.Fprintln(w, `{"error": "the harbour office is at lunch"}`)
		return
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"vessel": vessel, "berth": number%6 + 1})
}
