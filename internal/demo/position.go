package demo

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
)

// position reads where vessels are, and estimates when each arrives. A record
// that cannot be is refused with all of its batch, as a function does that was
// written for good ones alone.
type position struct {
	routes map[string][]leg // of each vessel, computed at the start
	mu     sync.Mutex
	met    map[string]bool // vessels whose pilot has set out
}

type leg struct{ lat, lon, left float64 } // place, and the way that is left from there, in nautical miles

type fix struct {
	ID   string `json:"id"`
	Data struct {
		Vessel string  `json:"vessel"`
		Lat    float64 `json:"lat"`
		Lon    float64 `json:"lon"`
		Knots  float64 `json:"knots"`
	} `json:"data"`
}

// newPosition computes the routes in small steps.
func newPosition() http.Handler {
	p := &position{routes: map[string][]leg{}, met: map[string]bool{}}
	for i, vessel := range []string{"Kittiwake", "Heron", "Petrel", "Tern", "Dunlin", "Eider"} {
		const steps = 8_000
		route := make([]leg, steps)
		left := 0.0
		for n := steps - 1; n >= 0; n-- {
			at := float64(n) / steps
			route[n] = leg{54.10 + 0.30*at, -3.20 + 0.5*math.Sin(at*math.Pi+float64(i)/6), left}
			if n > 0 {
				before := float64(n-1) / steps
				left += miles(route[n].lat, route[n].lon, 54.10+0.30*before,
					-3.20+0.5*math.Sin(before*math.Pi+float64(i)/6))
			}
		}
		p.routes[vessel] = route
	}
	return p
}

// miles is the distance on a sphere, in nautical miles (haversine formula).
func miles(lat1, lon1, lat2, lon2 float64) float64 {
	const rad = math.Pi / 180
	a := math.Pow(math.Sin((lat2-lat1)*rad/2), 2) +
		math.Cos(lat1*rad)*math.Cos(lat2*rad)*math.Pow(math.Sin((lon2-lon1)*rad/2), 2)
	return 2 * 3440.065 * math.Asin(math.Sqrt(a))
}

func (p *position) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var fixes []fix
	if err := json.NewDecoder(r.Body).Decode(&fixes); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	type arrival struct {
		Vessel  string  `json:"vessel"`
		Minutes float64 `json:"minutes"`
		Berth   int     `json:"berth,omitempty"` // of the first to arrive
	}
	out := []arrival{}
	for _, f := range fixes {
		route := p.routes[f.Data.Vessel]
		if route == nil || math.Abs(f.Data.Lat) > 90 || math.Abs(f.Data.Lon) > 180 || f.Data.Knots <= 0 {
			fmt.Printf("%s is impossible: %s at %v, %v with %v knots\n", f.ID, f.Data.Vessel, f.Data.Lat, f.Data.Lon,
				f.Data.Knots)
			http.Error(w, "an impossible position", http.StatusUnprocessableEntity)
			return
		}
		best := math.Inf(1)
		left := 0.0
		for n := 0; n < len(route); n += 20 {
			if d := miles(f.Data.Lat, f.Data.Lon, route[n].lat, route[n].lon); d < best {
				best, left = d, route[n].left
			}
		}
		minutes := math.Round((best+left)/f.Data.Knots*600) / 10
		if out = append(out, arrival{Vessel: f.Data.Vessel, Minutes: minutes}); minutes < pilotSetsOut {
			p.sendPilot(f.Data.Vessel, r.Header.Get("traceparent"))
		}
	}
	if len(out) > 0 {
		soonest := 0
		for i := range out {
			if out[i].Minutes < out[soonest].Minutes {
				soonest = i
			}
		}
		out[soonest].Berth = berthOf(out[soonest].Vessel, r.Header.Get("traceparent"))
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

// berthOf asks the harbour office for a vessel's berth, in the trace of the invocation; 0 where it does not know.
func berthOf(vessel, trace string) int {
	at := os.Getenv("BERTHS_URL")
	if at == "" {
		return 0
	}
	r, err := http.NewRequest(http.MethodGet, at+"/berths?vessel="+url.QueryEscape(vessel), nil)
	if err != nil {
		return 0
	}
	r.Header.Set("traceparent", trace)
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		fmt.Println("the harbour office was not reached:", err)
		return 0
	}
	defer reply.Body.Close()
	var plan struct {
		Berth int `json:"berth"`
	}
	if reply.StatusCode != http.StatusOK || json.NewDecoder(reply.Body).Decode(&plan) != nil {
		fmt.Println("the harbour office:", reply.Status)
		return 0
	}
	return plan.Berth
}

// pilotSetsOut is how long before a vessel's arrival its pilot goes aboard, in minutes.
const pilotSetsOut = 30

// sendPilot publishes that the pilot of a vessel boards, once: an event for the queue that PILOTS leads to, in the
// trace of the invocation.
func (p *position) sendPilot(vessel, trace string) {
	to := os.Getenv("PILOTS")
	p.mu.Lock()
	sent := p.met[vessel]
	p.met[vessel] = true
	p.mu.Unlock()
	if sent || to == "" {
		return
	}
	number := 160
	for _, c := range vessel {
		number += int(c) % 4
	}
	pass := fmt.Sprintf("BF-1900-%03d", min(number, 180))
	r, err := http.NewRequest(http.MethodPost, to, strings.NewReader(fmt.Sprintf(
		`{"pass": %q, "sailing": "BW1900-skerry", "gate": "pilot", "deck": "foot"}`, pass)))
	if err != nil {
		fmt.Println(err)
		return
	}
	for name, value := range map[string]string{"Content-Type": "application/json", "ce-specversion": "1.0",
		"ce-id": "pilot-" + vessel, "ce-source": "/brackwater/pilots", "ce-type": "brackwater.pass.scanned",
		"traceparent": trace} {
		r.Header.Set(name, value)
	}
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		fmt.Println("the pilot's pass was not published:", err)
		return
	}
	reply.Body.Close()
	fmt.Printf("the pilot boards %s: %s\n", vessel, reply.Status)
}
