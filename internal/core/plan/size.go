package plan

import (
	"fmt"
	"math/big"
	"strings"
)

// units of sizes, in bytes.
var units = []struct {
	name  string
	bytes int64
}{{"kib", 1 << 10}, {"mib", 1 << 20}, {"gib", 1 << 30}, {"kb", 1e3}, {"mb", 1e6}, {"gb", 1e9}, {"b", 1}}

// ParseSize parses a size such as 200kB or 1.5MiB, of at most `most` bytes; "" is 0.
func ParseSize(text string, most int64) (int64, error) {
	s, factor := strings.ToLower(strings.TrimSpace(text)), int64(1)
	for _, u := range units {
		if before, ok := strings.CutSuffix(s, u.name); ok {
			s, factor = strings.TrimSpace(before), u.bytes
			break
		}
	}
	if text == "" {
		return 0, nil
	}
	r, ok := new(big.Rat).SetString(s)
	if !ok || r.Sign() < 0 || strings.ContainsAny(s, "/e") {
		return 0, fmt.Errorf("%q is not a size, such as 200kB", text)
	}
	r.Mul(r, big.NewRat(factor, 1))
	if r.Cmp(big.NewRat(most, 1)) > 0 {
		return 0, fmt.Errorf("%s is more than %d GiB", text, most>>30)
	}
	n, _ := r.Float64()
	return int64(n), nil
}
