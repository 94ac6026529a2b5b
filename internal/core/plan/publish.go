package plan

import (
	"regexp"
	"strings"
)

var publishPlace = regexp.MustCompile(`\{publish:([^{}]*)\}`)

// FillPublish replaces {publish:SOURCE} in a value of a function's environment by the address of the source.
func FillPublish(value string, address func(source string) string) string {
	return publishPlace.ReplaceAllStringFunc(value, func(place string) string {
		return address(publishPlace.FindStringSubmatch(place)[1])
	})
}

// Publishes returns the sources to which the environment of a function has an address, in its order.
func (f *Function) Publishes() (sources []string) {
	for _, e := range f.Env {
		for _, m := range publishPlace.FindAllStringSubmatch(e, -1) {
			sources = append(sources, m[1])
		}
	}
	return sources
}

// Published reports whether events can be published to sources of a kind.
func (k Kind) Published() bool { return k == Queue || k == Stream }

// Reach returns the URL of a listener on this machine as a function in another network reaches it: by a name or an
// address of its own in place of that at which it listens. It returns the URL itself where there is none.
func Reach(at, url string) string {
	scheme, rest, ok := strings.Cut(url, "://")
	if at == "" || !ok {
		return url
	}
	host, path, deeper := strings.Cut(rest, "/")
	port := host[strings.LastIndexByte(host, ':')+1:]
	if strings.Contains(at, ":") { // an address of IPv6
		at = "[" + strings.Trim(at, "[]") + "]"
	}
	out := scheme + "://" + at + ":" + port
	if deeper {
		out += "/" + path
	}
	return out
}
