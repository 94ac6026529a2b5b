package plan

import "regexp"

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
