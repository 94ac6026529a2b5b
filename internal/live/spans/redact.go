package spans

import (
	"regexp"
	"strings"

	"nightdrill.dev/internal/core/payload"
)

var (
	literal  = regexp.MustCompile(`'(?:[^'\\]|\\.|'')*'`)
	password = regexp.MustCompile(`(?i)\b(password|passwd|pwd|identified by|secret|token)(\s*[:=]?\s*)(\S+)`)
	userInfo = regexp.MustCompile(`://[^/@\s]+@`)
)

// Harmless returns the value of an attribute, shortened and without secrets: in URLs the user and the secret
// parameters, in statements the literals.
func Harmless(key, value string) string {
	if payload.SecretHeader(key) || payload.SecretParameter(key[strings.LastIndexByte(key, '.')+1:]) {
		return payload.Hidden
	}
	if len(value) > longest {
		value = strings.ToValidUTF8(value[:longest], "") + "…"
	}
	if strings.Contains(value, "://") {
		value = userInfo.ReplaceAllString(value, "://")
	}
	if strings.Contains(value, "?") {
		value = payload.ShownTarget(value)
	}
	if key == "db.statement" || key == "db.query.text" {
		value = literal.ReplaceAllString(value, "'?'")
		value = password.ReplaceAllString(value, "$1$2"+payload.Hidden)
	}
	return value
}
