package text

import (
	"math/big"
	"strconv"
	"strings"
)

// MostExponent bounds the exponent of decimal numbers that are computed with, well beyond those of 64-bit floating
// point.
const MostExponent = 400

// Rational returns the value of a JSON number. ok is false of one that is not a number, and of one whose exponent is
// beyond MostExponent: a few characters can stand for a million digits.
func Rational(number string) (value *big.Rat, ok bool) {
	if at := strings.IndexAny(number, "eE"); at >= 0 {
		if n, err := strconv.Atoi(number[at+1:]); err != nil || n > MostExponent || n < -MostExponent {
			return nil, false
		}
	}
	return new(big.Rat).SetString(number)
}
