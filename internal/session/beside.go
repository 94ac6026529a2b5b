package session

import (
	"context"
	"net"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/front"
)

// besideFront is how far the ports of variants are from the front's: the ports between are for the object store and
// what else a project has.
const besideFront = 11

// openVariants listens for each variant that requests at the front can reach, at a port of its own: the one after
// the front's that is its place in the project, or a free one where that is taken. Those that are gone are closed.
func (s *Session) openVariants() {
	if s.Front == nil {
		return
	}
	host, port, err := net.SplitHostPort(s.Front.Address)
	first, wrong := strconv.Atoi(port)
	if err != nil || wrong != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.beside
	s.beside = map[string]*front.Front{}
	n := 0
	for i := range s.Functions {
		f := &s.Functions[i]
		if !s.reachedByRequests(i) {
			continue
		}
		for _, variant := range f.VariantNames() {
			name := f.Name + "@" + variant
			wanted := first + besideFront + n
			n++
			if open := was[name]; open != nil {
				s.beside[name] = open
				delete(was, name)
				continue
			}
			host := net.JoinHostPort(host, strconv.Itoa(wanted))
			answer := s.asAddressed(variant + "." + f.Name + ".localhost")
			opened, err := front.Open(host, s.Entrances.Hosts, answer)
			if err != nil { // it is taken
				opened, err = front.Open("127.0.0.1:0", s.Entrances.Hosts, answer)
			}
			if err == nil { // without a port it has its name
				s.beside[name] = opened
			}
		}
	}
	for _, gone := range was {
		gone.Close()
	}
}

// reachedByRequests reports whether a wire of an HTTP source leads to a function, or to a variant of it.
func (s *Session) reachedByRequests(fn int) bool {
	for i := range s.Sources {
		for _, w := range s.Sources[i].Wires {
			if s.Sources[i].Kind == plan.HTTP && plan.BaseName(s.Functions[w.To].Name) == s.Functions[fn].Name {
				return true
			}
		}
	}
	return false
}

// asAddressed answers requests as if they had been sent to a name.
func (s *Session) asAddressed(name string) func(context.Context, *event.Request, []string) front.Answer {
	return func(ctx context.Context, r *event.Request, trailers []string) front.Answer {
		for i := range r.Header {
			if strings.EqualFold(r.Header[i].Name, "Host") {
				r.Header[i].Value = name
			}
		}
		return s.recorded(ctx, r, trailers)
	}
}

// VariantAddress returns the host and port at which requests reach a variant such as quote@node; "" for none.
func (s *Session) VariantAddress(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f := s.beside[name]; f != nil {
		return f.Address
	}
	return ""
}

// closeVariants ends what openVariants began.
func (s *Session) closeVariants() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.beside {
		f.Close()
	}
	s.beside = nil
}
