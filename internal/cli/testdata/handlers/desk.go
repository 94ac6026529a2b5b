package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"
)

// Ask is what a passenger asks for.
type Ask struct {
	Adults int `json:"adults"`
}

func Quote(ctx context.Context, ask Ask) (map[string]any, error) {
	if ask.Adults == 0 {
		return nil, errors.New("no passengers")
	}
	fmt.Println("asked", ctx.Value("attempt"), ctx.Value("instance"))
	return map[string]any{"cents": 1200 * ask.Adults}, nil
}

func raw(data []byte) []byte { return append(data, '!') }

func Panics(ask Ask) { _ = []int{}[ask.Adults] }

func NoJSON() (any, error) { return func() {}, nil }

func Two(a, b int) {}

var Table = map[string]int{}

var Mux = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	w.Header().Set("X-Query", r.URL.RawQuery)
	w.WriteHeader(http.StatusAccepted)
	fmt.Fprintf(w, "%s %s %s", r.Method, r.URL.Path, body)
})

func Batch(all []struct{ ID string }) any { return all[0].ID }

func Exits() { os.Exit(3) }

func Stray() {
	go panic("stray")
	time.Sleep(time.Minute)
}

func Hangs(ctx context.Context) error { select {} }

func Loud() string {
	fmt.Print(strings.Repeat("\x1b[31mnoise \x00\n", 2000))
	os.Stdout.WriteString("\x00\x00\x00\x01\x00\x00\x00\x02\x00\x00\x00\x00{}")
	return "quiet"
}
