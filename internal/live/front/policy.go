package front

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/hosts"
)

// Decision is what the front makes of a request.
type Decision struct {
	Source  int    // that takes it; -1 if the front answers by itself
	Variant string // of its function, that the request is addressed to; "" for the function itself
	Untaken bool   // no wire takes it: Source is the one that came closest
	Answer  Answer // the front's own, if there is no source, or no wire takes the request
}

// own is the decision to answer a request by the front itself.
func own(a Answer) Decision { return Decision{Source: -1, Answer: a} }

// Decide finds the source whose wire takes a request, and checks what the source requires of its
// callers: CORS (Fetch Standard), bearer tokens (RFC 6750), requests of other sites.
func Decide(p *plan.Expanded, r *event.Request) Decision {
	pl := &payload.Payload{Request: r}
	origin := r.HeaderValue("Origin")
	if asked := r.HeaderValue("Access-Control-Request-Method"); r.Method == http.MethodOptions && origin != "" &&
		asked != "" {
		return own(preflight(p, r, origin, asked))
	}
	source := taking(p, pl)
	if source < 0 {
		return untaken(p, pl)
	}
	src := &p.Sources[source]
	if src.Token != "" && !hosts.Bearer(r.HeaderValue("Authorization"), src.Token) {
		a := Plain(http.StatusUnauthorized, "%s requires a bearer token in the header Authorization (RFC 6750 §2.1)",
			src.Name)
		a.Header.Set("WWW-Authenticate", `Bearer realm="`+src.Name+`"`)
		return own(Allow(a, src.CORS, origin))
	}
	if why := crossSite(r, src); why != "" {
		return own(Allow(Plain(http.StatusForbidden, "%s", why), src.CORS, origin))
	}
	variant, why := addressed(p, pl, source)
	if why != "" {
		return own(Allow(Plain(http.StatusNotFound, "%s", why), src.CORS, origin))
	}
	return Decision{Source: source, Variant: variant}
}

// addressed returns the variant that the host of a request names, as in node.quote.localhost (names below localhost
// are of this machine, RFC 6761 §6.3), or why there is no such variant on the way of the request. Hosts that name
// no function are left to the conditions of wires.
func addressed(p *plan.Expanded, pl *payload.Payload, source int) (variant, why string) {
	name, below := strings.CutSuffix(hosts.Name(pl.Request.HeaderValue("Host")), ".localhost")
	variant, function, two := strings.Cut(name, ".")
	at := p.FunctionNamed(function)
	if !below || !two || at < 0 {
		return "", ""
	}
	if p.FunctionNamed(function+"@"+variant) < 0 {
		known := p.Functions[at].VariantNames()
		if len(known) == 0 {
			return "", fmt.Sprintf("%s has no variants", function)
		}
		return "", fmt.Sprintf("%s has no variant %s; its variants: %s", function, variant, strings.Join(known, ", "))
	}
	takes := p.Routes(source, pl)
	for w, wire := range p.Sources[source].Wires {
		if takes&(1<<w) != 0 && plan.BaseName(p.Functions[wire.To].Name) == function {
			return variant, ""
		}
	}
	return "", fmt.Sprintf("%s does not go to %s, of which %s is a variant", pl.Label(), function, variant)
}

// crossSite returns why a page of another site may not send a request that changes something, where
// the source does not permit it; "" where it may.
func crossSite(r *event.Request, src *plan.Source) string {
	origin := r.HeaderValue("Origin")
	if !hosts.Writes(r.Method) || !hosts.CrossSite(origin, r.HeaderValue("Sec-Fetch-Site"), r.HeaderValue("Host")) {
		return ""
	}
	switch {
	case src.CORS == nil:
		return fmt.Sprintf("a page of %s sent %s to %s, which has no cors setting", cmp.Or(origin, "another site"),
			r.Method, src.Name)
	case !slices.Contains(src.CORS.Origins, "*") && !slices.Contains(src.CORS.Origins, origin):
		return fmt.Sprintf("pages of %s may not send to %s; its cors.origins are %s", cmp.Or(origin, "another site"),
			src.Name, strings.Join(src.CORS.Origins, ", "))
	}
	return ""
}

// taking returns the source that takes a request, or -1.
func taking(p *plan.Expanded, pl *payload.Payload) int {
	for i := range p.Sources {
		if p.From[i] == i && p.Sources[i].Kind == plan.HTTP && p.Routes(i, pl) != 0 {
			return i
		}
	}
	return -1
}

// nearRoute is a route and how many of its conditions a request does not meet.
type nearRoute struct {
	source, wire, missed int
	path                 bool // the path fits
	why                  string
}

// nearRoutes returns the routes that a request came closest to, closest first.
func nearRoutes(p *plan.Expanded, pl *payload.Payload) (out []nearRoute) {
	for i := range p.Sources {
		if p.From[i] != i || p.Sources[i].Kind != plan.HTTP {
			continue
		}
		for _, t := range p.Explain(i, pl) {
			if p.Sources[i].Part(t.Wire) > 0 {
				continue // of the wire that its first part is of
			}
			n := nearRoute{source: i, wire: t.Wire, path: true}
			var why []string
			for _, c := range t.Conditions {
				if c.Held {
					continue
				}
				n.missed++
				n.path = n.path && c.Condition != "path"
				why = append(why, c.Words())
			}
			n.why = strings.Join(why, "; ")
			out = append(out, n)
		}
	}
	slices.SortStableFunc(out, func(a, b nearRoute) int {
		if a.path != b.path {
			if a.path {
				return -1
			}
			return 1
		}
		return cmp.Compare(a.missed, b.missed)
	})
	return out
}

// mostRoutes bounds the routes that a response names.
const mostRoutes = 8

// untaken answers a request that no wire takes: with the nearest routes, and what they wanted.
func untaken(p *plan.Expanded, pl *payload.Payload) Decision {
	near := nearRoutes(p, pl)
	if len(near) == 0 {
		return own(Plain(http.StatusNotFound, "no wire takes %s; the project has no http source with a wire",
			pl.Label()))
	}
	r := pl.Request
	var methods, lines []string
	for i, n := range near {
		when := &p.Sources[n.source].Wires[n.wire].When
		if n.path && when.Path.Text() != "" && !slices.Contains(methods, when.Method) {
			methods = append(methods, when.Method)
		}
		if i < mostRoutes {
			lines = append(lines, fmt.Sprintf("  %s  (%s): %s", when.String(), p.Sources[n.source].Name, n.why))
		}
	}
	if slices.Contains(methods, "GET") {
		methods = append(methods, "HEAD")
	}
	anyMethod := slices.Contains(methods, "")
	if anyMethod {
		methods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}
	}
	allowed := strings.Join(append(methods, "OPTIONS"), ", ")
	if r.Method == http.MethodOptions && len(methods) > 0 {
		return own(Answer{Status: http.StatusNoContent, Header: http.Header{"Allow": {allowed}}})
	}
	src := near[0].source
	status := http.StatusNotFound
	wrongMethod := near[0].path && len(methods) > 0 && !slices.Contains(methods, r.Method) && !anyMethod
	if wrongMethod {
		status = http.StatusMethodNotAllowed
	}
	a := Plain(status, "no wire takes %s. The nearest:\n%s", payload.Short(pl.Label(), 200),
		strings.Join(lines, "\n"))
	if wrongMethod { // RFC 9110 §15.5.6
		a.Header.Set("Allow", allowed)
	}
	return Decision{Source: src, Untaken: true, Answer: Allow(a, p.Sources[src].CORS, r.HeaderValue("Origin"))}
}

// Allow lets a page of another origin read a response, where the source permits it (Fetch Standard,
// CORS protocol).
func Allow(a Answer, c *plan.CORS, origin string) Answer {
	if c == nil || origin == "" {
		return a
	}
	h := a.Header.Clone()
	if h == nil {
		h = http.Header{}
	}
	for _, name := range []string{"Access-Control-Allow-Origin", "Access-Control-Allow-Credentials",
		"Access-Control-Expose-Headers"} {
		h.Del(name) // the source's settings count, not the function's headers
	}
	a.Header = h
	switch {
	case slices.Contains(c.Origins, "*"):
		h.Set("Access-Control-Allow-Origin", "*")
	case slices.Contains(c.Origins, origin):
		h.Set("Access-Control-Allow-Origin", origin)
		h.Add("Vary", "Origin")
	default:
		h.Add("Vary", "Origin")
		return a
	}
	if c.Credentials {
		h.Set("Access-Control-Allow-Credentials", "true")
	}
	if len(c.Expose) > 0 {
		h.Set("Access-Control-Expose-Headers", strings.Join(c.Expose, ", "))
	}
	return a
}

// preflight answers a CORS preflight (Fetch Standard) from the settings of the source that would
// take the request.
func preflight(p *plan.Expanded, r *event.Request, origin, method string) Answer {
	asked := *r
	asked.Method = method
	at := taking(p, &payload.Payload{Request: &asked})
	if at < 0 { // conditions on headers or a body cannot be met yet
		for _, n := range nearRoutes(p, &payload.Payload{Request: &asked}) {
			when := &p.Sources[n.source].Wires[n.wire].When
			if n.path && (when.Method == "" || when.Method == method) {
				at = n.source
				break
			}
		}
	}
	if at < 0 {
		return Plain(http.StatusNotFound, "a browser asks whether %s may be sent to %s, which no wire takes",
			method, payload.ShownTarget(r.Target))
	}
	c := p.Sources[at].CORS
	if c == nil {
		return Plain(http.StatusForbidden, "a page of %s asks whether it may send to %s, which has no cors "+
			"setting", origin, p.Sources[at].Name)
	}
	a := Allow(Answer{Status: http.StatusNoContent, Header: http.Header{}}, c, origin)
	if a.Header.Get("Access-Control-Allow-Origin") == "" {
		return Plain(http.StatusForbidden, "pages of %s may not send to %s; its cors.origins are %s", origin,
			p.Sources[at].Name, strings.Join(c.Origins, ", "))
	}
	var methods []string
	for i := range p.Sources[at].Wires {
		m := p.Sources[at].Wires[i].When.Method
		if m == "" {
			m = method
		}
		if !slices.Contains(methods, m) {
			methods = append(methods, m)
		}
	}
	a.Header.Set("Access-Control-Allow-Methods", strings.Join(methods, ", "))
	if len(c.Headers) > 0 {
		a.Header.Set("Access-Control-Allow-Headers", strings.Join(c.Headers, ", "))
	}
	a.Header.Set("Access-Control-Max-Age", strconv.Itoa(int(c.MaxAge/time.Second)))
	a.Header.Del("Access-Control-Expose-Headers")
	return a
}
