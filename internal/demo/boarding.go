package demo

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
)

// boarding takes scans of boarding passes: a pass goes aboard once, a second
// scan of it is refused, and one that cannot be read is requested again until
// the queue gives up. The passenger list of a sailing is fetched when its first
// pass is scanned; scans that come before it is there are requested again.
type boarding struct {
	mu    sync.Mutex
	seals map[string][]byte // of every pass number, computed at the start
	lists map[string]*list
}

type list struct {
	ready  bool
	aboard map[string]bool
}

type scan struct {
	ID   string `json:"id"`
	Data struct {
		Pass    string `json:"pass"`
		Sailing string `json:"sailing"`
	} `json:"data"`
}

// newBoarding computes the seals that passes carry: the function's initial work.
func newBoarding() http.Handler {
	b := &boarding{seals: map[string][]byte{}, lists: map[string]*list{}}
	for _, sailing := range []string{"1815", "1830", "1900", "1915"} {
		for n := 1; n <= 180; n++ {
			pass := fmt.Sprintf("BF-%s-%03d", sailing, n)
			b.seals[pass] = seal(pass, 150)
		}
	}
	return b
}

func seal(pass string, rounds int) []byte {
	sum := []byte(pass)
	for range rounds {
		m := hmac.New(sha256.New, []byte("brackwater"))
		m.Write(sum)
		sum = m.Sum(nil)
	}
	return sum
}

func (b *boarding) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var scans []scan
	if err := json.NewDecoder(r.Body).Decode(&scans); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	reply := struct {
		Aboard  int      `json:"aboard"`
		Refused int      `json:"refused"`
		Retry   []string `json:"retry"`
	}{Retry: []string{}}
	for _, s := range scans {
		switch aboard, again := b.scan(s.Data.Pass, s.Data.Sailing); {
		case again:
			reply.Retry = append(reply.Retry, s.ID)
		case aboard:
			reply.Aboard++
		default:
			reply.Refused++
			fmt.Printf("refused %s: aboard already\n", s.Data.Pass)
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(reply)
}

func (b *boarding) scan(pass, sailing string) (aboard, again bool) {
	if strings.Count(pass, "-") != 2 || b.seals[pass] == nil {
		fmt.Printf("cannot read %q\n", pass)
		return false, true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.lists[sailing]
	if l == nil {
		l = &list{aboard: map[string]bool{}}
		b.lists[sailing] = l
		go b.fetch(sailing, l)
	}
	if !l.ready {
		return false, true
	}
	if l.aboard[pass] {
		return false, false
	}
	l.aboard[pass] = true
	return true, false
}

// fetch prepares the passenger list of a sailing.
func (b *boarding) fetch(sailing string, l *list) {
	for n := range 120 {
		seal(sailing+strconv.Itoa(n), 150)
	}
	b.mu.Lock()
	l.ready = true
	b.mu.Unlock()
	fmt.Printf("the list of %s has arrived\n", sailing)
}
