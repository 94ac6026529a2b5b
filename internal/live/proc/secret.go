package proc

import (
	"strings"

	"nightdrill.dev/internal/core/payload"
)

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
		if name, value, _ := strings.Cut(e, "="); payload.SecretVariable(name) && len(value) >= shortest {
			pairs = append(pairs, value, Stars)
		}
	}
	if pairs == nil {
		return nil
	}
	return strings.NewReplacer(pairs...).Replace
}
