// Package functions has the functions of the example.
package functions

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
)

var base = map[string]int{"skerry-holm": 450, "holm-skerry": 450, "brackwater-skerry": 720, "skerry-brackwater": 720}

var vehicles = map[string]int{"foot": 0, "bicycle": 300, "car": 2900, "van": 4400}

// Request is what the function gets.
type Request struct {
	Path  string            `json:"path"`
	Query map[string]string `json:"query"`
}

// Reply is what it returns; reply in nightdrill.yaml says what is what.
type Reply struct {
	Status int            `json:"status"`
	Body   map[string]any `json:"body"`
}

// Quote returns what a crossing costs.
func Quote(r Request) (Reply, error) {
	crossing := strings.TrimPrefix(r.Path, "/quote/")
	if _, ok := base[crossing]; !ok {
		return Reply{http.StatusNotFound, map[string]any{"error": "no such crossing"}}, nil
	}
	passengers := 1
	if text := r.Query["passengers"]; text != "" {
		var err error
		if passengers, err = strconv.Atoi(text); err != nil {
			return Reply{}, err
		}
	}
	fmt.Println("quoted", crossing)
	return Reply{http.StatusOK, map[string]any{"crossing": crossing,
		"cents": base[crossing]*passengers*9/10 + vehicles[r.Query["vehicle"]]}}, nil
}
