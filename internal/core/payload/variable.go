package payload

import (
	"strings"
)

// SecretVariable reports whether a variable looks as if its value were a secret.
func SecretVariable(name string) bool {
	name = strings.ToLower(name)
	for _, part := range []string{"secret", "token", "passw", "pwd", "credential", "private", "apikey", "api_key",
		"access_key", "auth", "signing", "dsn"} {
		if strings.Contains(name, part) {
			return true
		}
	}
	return strings.HasSuffix(name, "_key") || name == "key"
}
