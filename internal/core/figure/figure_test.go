package figure

import "testing"

// Numbers have the digits that count, in the unit of their size.
func TestNumbers(t *testing.T) {
	for n, want := range map[float64]string{0: "0", 999: "999", 1234: "1,234", 86_400: "86,400", 1e6: "1.00 million",
		54_000_000: "54.0 million", 864e6: "864 million", 1e9: "1,000 million", 79_056e6: "79,056 million"} {
		if got := Count(n); got != want {
			t.Errorf("%v is %q, want %q", n, got, want)
		}
	}
	for n, want := range map[int]string{0: "0", 99_999: "99999", 100_000: "100k", 999_499: "999k", 999_500: "1.00M",
		9_994_000: "9.99M", 9_996_000: "10.0M", 123_400_000: "123M"} {
		if got := Brief(n); got != want {
			t.Errorf("%v is %q, want %q", n, got, want)
		}
	}
	for v, want := range map[float64]string{0: "0.00", 0.000395: "0.000395", 0.5: "0.500", 12.345: "12.35"} {
		if got := Small(v); got != want {
			t.Errorf("%v is %q, want %q", v, got, want)
		}
	}
	for share, want := range map[float64]string{0.25: "+25 %", -0.035: "−3.5 %"} {
		if got := Signed(share); got != want {
			t.Errorf("%v is %q, want %q", share, got, want)
		}
	}
}
