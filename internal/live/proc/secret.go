package proc

import (
	"strings"

	"nightdrill/internal/core/payload"
)

// Secret reports whether a variable looks as if its value were a secret.
func Secret(name string) bool {
	name = strings.ToLower(name)
	for _, part := range []string{"secret", "token", "passw", "pwd", "credential", "private", "apikey", "api_key",
		"access_key", "auth", "signing", "dsn"} {
		if strings.Contains(name, part) {
			return true
		}
	}
	return strings.HasSuffix(name, "_key") || name == "key"
}

// Stars stand in the place of a secret.
const Stars = payload.Hidden

// shortest is the shortest value that is taken for a secret: a shorter one would
// be found everywhere.
const shortest = 6

// Mask returns a function that puts stars in the place of the secret values of an
// environment, NAME=value; nil when it has none.
func Mask(env []string) func(string) string {
	var pairs []string
	for _, e := range env {
		if name, value, _ := strings.Cut(e, "="); Secret(name) && len(value) >= shortest {
			pairs = append(pairs, value, Stars)
		}
	}
	if pairs == nil {
		return nil
	}
	return strings.NewReplacer(pairs...).Replace
}
