package demo

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// quote answers what a crossing costs, and on which sailings of the day a
// vehicle still fits the car deck.

const (
	sailingsADay = 12
	deckLength   = 9000 // cm of lane on the car deck
)

var crossings = []string{"skerry-holm", "holm-skerry", "brackwater-skerry", "skerry-brackwater", "brackwater-holm",
	"holm-brackwater", "tern-rock-loop"}

// fare is one line of the fare table.
type fare struct {
	crossing   int
	season     int // week of the year
	vehicle    int
	passengers int
	cents      int
}

type quote struct{ table []fare }

// newQuote works the fare table out and sorts it by what is requested: the
// function's initial work.
func newQuote() http.Handler {
	q := &quote{}
	for passengers := 60; passengers > 0; passengers-- {
		for week := range 53 {
			for v := range vehicles {
				for c := range crossings {
					base := 450 + 130*c + 35*(week%26)
					q.table = append(q.table, fare{c, week, v, passengers, base*passengers*9/10 + vehicles[v].cents})
				}
			}
		}
	}
	slices.SortFunc(q.table, order)
	return q
}

var vehicles = []struct {
	name  string
	cents int
}{{"foot", 0}, {"bicycle", 300}, {"car", 2900}, {"van", 4400}, {"lorry", 9800}}

func order(a, b fare) int {
	return cmp.Or(a.crossing-b.crossing, a.season-b.season, a.vehicle-b.vehicle, a.passengers-b.passengers)
}

func (q *quote) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	crossing := slices.Index(crossings, strings.TrimPrefix(r.URL.Path, "/quote/"))
	w.Header().Set("Content-Type", "application/json")
	if crossing < 0 {
		w.WriteHeader(http.StatusNotFound)
		fmt.Fprintln(w, `{"error":"no such crossing"}`)
		return
	}
	ask := r.URL.Query()
	day, err := time.Parse(time.DateOnly, ask.Get("day"))
	vehicle := slices.IndexFunc(vehicles, func(v struct {
		name  string
		cents int
	}) bool {
		return v.name == ask.Get("vehicle")
	})
	passengers, err2 := strconv.Atoi(ask.Get("passengers"))
	if err != nil || err2 != nil || vehicle < 0 || passengers < 1 {
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintln(w, `{"error":"required: day, vehicle, passengers"}`)
		return
	}
	_, week := day.ISOWeek()
	at, found := slices.BinarySearchFunc(q.table, fare{crossing, week - 1, vehicle, passengers, 0}, order)
	if !found {
		w.WriteHeader(http.StatusUnprocessableEntity)
		fmt.Fprintln(w, `{"error":"more passengers than the vessel carries"}`)
		return
	}
	metres, _ := strconv.ParseFloat(ask.Get("length"), 64)
	var free []string
	for s := range sailingsADay {
		if fits(crossing, day.YearDay(), s, int(metres*100)) {
			free = append(free, fmt.Sprintf("%02d:%02d", 7+s, 15*(s%4)))
		}
	}
	cents := q.table[at].cents
	if ask.Get("return") == "yes" {
		cents = cents * 18 / 10
	}
	w.Header().Set("Server-Timing", fmt.Sprintf("search;dur=%.3f", float64(time.Since(began))/1e6))
	_ = json.NewEncoder(w).Encode(map[string]any{"crossing": crossings[crossing], "cents": cents, "sailings": free})
}

// fits reports whether a vehicle still finds room on a sailing: the booked
// vehicles are packed on two lanes as evenly as they can be, which is a
// knapsack over the centimetres of one lane.
func fits(crossing, day, sailing, length int) bool {
	seed := uint64(crossing*1000003 + day*1009 + sailing)
	next := func(n uint64) int {
		seed = seed*6364136223846793005 + 1442695040888963407
		return int((seed >> 33) % n)
	}
	reach := make([]bool, deckLength+1)
	reach[0] = true
	booked := 0
	for range 24 + next(24) {
		l := 380 + next(520)
		booked += l
		for at := deckLength; at >= l; at-- {
			if reach[at-l] {
				reach[at] = true
			}
		}
	}
	for lane := min(booked, deckLength); lane > 0; lane-- {
		if reach[lane] {
			rest := booked - lane
			return max(deckLength-lane, deckLength-rest) >= length && rest <= deckLength
		}
	}
	return true
}
