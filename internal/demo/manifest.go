package demo

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// manifest reads a cargo manifest that was uploaded: it fetches the object that
// the event names, adds up the weights and compares them with what the deck of
// the ferry bears. A load that fits lets its driver go aboard.
type manifest struct {
	decks  map[string][]int // bearing capacity of each ferry's car deck by frame, in kg, computed at the start
	client *http.Client
}

// newManifest computes what each frame of the car decks bears.
func newManifest() http.Handler {
	m := &manifest{decks: map[string][]int{}, client: &http.Client{Timeout: time.Second}}
	for i, ferry := range []string{"Kittiwake", "Heron", "Petrel"} {
		frames := make([]int, 240)
		for frame := range frames {
			// the worst of many axle loads on a beam of several spans
			worst := 1 << 30
			for axle := range 150 {
				for span := 1; span <= 24; span++ {
					d := (frame*span - axle*(i+3)) % 97
					worst = min(worst, 190-d*d/90+span)
				}
			}
			frames[frame] = worst
		}
		m.decks[ferry] = frames
	}
	return m
}

type cargoEvent struct {
	Key string `json:"key"`
	URL string `json:"url"`
}

func (m *manifest) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e cargoEvent
	if err := json.NewDecoder(r.Body).Decode(&e); err != nil || e.URL == "" {
		http.Error(w, "expected the event of an object, with its url", http.StatusBadRequest)
		return
	}
	reply, err := m.client.Get(e.URL)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer reply.Body.Close()
	if reply.StatusCode != http.StatusOK {
		http.Error(w, "cannot read the object: "+reply.Status, http.StatusNotFound)
		return
	}
	load, err := m.read(reply.Body)
	if err != nil {
		fmt.Printf("%s: %v\n", e.Key, err)
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	fmt.Printf("%s: %d kg of %d on %s\n", e.Key, load.Kilograms, load.Bears, load.Ferry)
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(load)
}

// load is what a manifest comes to.
type load struct {
	Ferry     string `json:"ferry"`
	Sailing   string `json:"sailing"`
	Pass      string `json:"pass"` // of the driver
	Items     int    `json:"items"`
	Kilograms int    `json:"kilograms"`
	Bears     int    `json:"bears"`
	Fits      bool   `json:"fits"`
}

// read adds a manifest up: the first line has ferry, sailing and the driver's
// pass, the others what is carried, its weight in kg, and the frame it stands on.
func (m *manifest) read(from io.Reader) (l load, err error) {
	rows := csv.NewReader(from)
	rows.FieldsPerRecord = -1
	head, err := rows.Read()
	if err != nil || len(head) != 3 || m.decks[head[0]] == nil {
		return l, fmt.Errorf("the first line is not ferry,sailing,pass: %v %v", head, err)
	}
	frames := m.decks[head[0]]
	l = load{Ferry: head[0], Sailing: head[1], Pass: head[2], Fits: true}
	stands := make([]int, len(frames))
	for {
		row, err := rows.Read()
		if err == io.EOF {
			break
		}
		line, _ := rows.FieldPos(0)
		if err != nil || len(row) != 3 {
			return l, fmt.Errorf("line %d is not what,kg,frame", line)
		}
		kg, err := strconv.Atoi(strings.TrimSpace(row[1]))
		frame, other := strconv.Atoi(strings.TrimSpace(row[2]))
		if err != nil || other != nil || kg < 0 || frame < 0 || frame >= len(frames) {
			return l, fmt.Errorf("line %d: %q kg at frame %q", line, row[1], row[2])
		}
		l.Items, l.Kilograms, stands[frame] = l.Items+1, l.Kilograms+kg, stands[frame]+kg
	}
	for frame, bears := range frames {
		l.Bears += bears
		l.Fits = l.Fits && stands[frame] <= 40*bears
	}
	l.Fits = l.Fits && l.Kilograms <= l.Bears
	return l, nil
}
