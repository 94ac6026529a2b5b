package stats

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	other "github.com/aclements/go-moremath/stats"
)

func names[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// ofShares skips a statement about shares among many populations where tests are to be short: it has been judged
// elsewhere, and takes minutes under the race detector.
func ofShares(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("of shares among many populations")
	}
}

// The ranks cover with 95 %, and no narrower interval around them does; checked
// against the binomial distribution summed term by term.
func TestOrderStatisticRanks(t *testing.T) {
	for q, want := range map[float64]int{0.50: 6, 0.95: 59, 0.99: 299} {
		if got := Need(q); got != want {
			t.Errorf("p%v needs %d, want %d", q*100, got, want)
		}
		for _, n := range []int{want, want + 1, want + 4, 500, 2000} {
			l, u := orderRanks(q, n)
			at := func(k int) float64 {
				a, _ := math.Lgamma(float64(n + 1))
				b, _ := math.Lgamma(float64(k + 1))
				c, _ := math.Lgamma(float64(n - k + 1))
				return math.Exp(a - b - c + float64(k)*math.Log(q) + float64(n-k)*math.Log(1-q))
			}
			sum := 0.0
			for k := l; k < u; k++ {
				sum += at(k)
			}
			if sum < 0.95 || u-l > 1 && sum-min(at(l), at(u-1)) >= 0.95 {
				t.Errorf("q %v, n %d: ranks %d to %d cover %.4f", q, n, l, u, sum)
			}
		}
	}
	if l, u := orderRanks(0.5, 10); l != 2 || u != 9 { // as tabulated
		t.Errorf("the median of 10 lies between ranks %d and %d, want 2 and 9", l, u)
	}
}

// An interval that is shown covers the percentile in at least 93 % of many
// simulations, whatever the dependence; ranks do not ask for the shape. Independent
// samples have the intervals of order statistics from the first, and what would be
// needed is said where there is none.
func TestIntervalsCover(t *testing.T) {
	ofShares(t)
	r := rand.New(rand.NewPCG(1, 1))
	for q, sizes := range map[float64][]int{0.5: {5, 6, 12, 33, 34, 35, 48, 80, 159, 160, 240, 700},
		0.95: {58, 59, 100, 334, 335, 500, 1599, 1600, 2500}, 0.99: {299, 1696, 3000, 8000}} {
		for _, n := range sizes {
			for _, process := range names(processes) {
				s, held, shown, wide := samplingOf(process), 0, 0, 0.0
				sets := min(1200, 3_200_000/n)
				for range sets {
					p := &Population{}
					for _, u := range processes[process](n, r) {
						p.Add(time.Duration(u * 1e15))
					}
					got := p.Percentile(q, s)
					if got.OK != (n >= Need(q)) || got.Interval == (got.Needs > 0) || !got.Interval && got.Needs <= n {
						t.Fatalf("q %v, n %d: %+v", q, n, got)
					}
					if !got.Interval {
						continue
					}
					shown++
					if got.Lo <= time.Duration(q*1e15) && time.Duration(q*1e15) <= got.Hi {
						held++
					}
					l, u := orderRanks(q, n)
					wide += float64(got.Hi-got.Lo) / float64(p.At(u-1)-p.At(l-1))
				}
				share, allowed := float64(held)/float64(shown), 0.93-2.5*math.Sqrt(0.93*0.07/float64(max(shown, 1)))
				if shown > 0 && share < allowed {
					t.Errorf("q %v, n %d, %s: %.3f of %d intervals cover", q, n, process, share, shown)
				}
				if s == Independent && n >= Need(q) && (shown < sets || wide/float64(shown) > 1.3) {
					t.Errorf("q %v, n %d: %d of %d independent sets have intervals, %.2f times as wide as order "+
						"statistics", q, n,
						shown, sets, wide/float64(shown))
				}
			}
		}
	}
}

// Where samples follow each other, an interval is no more than a third wider than
// that of order statistics once there are enough of them to see that they are alike
// independent ones.
func TestIntervalsOfManySerialSamplesAreNarrow(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 1))
	for q, n := range map[float64]int{0.5: 160, 0.95: 1600, 0.99: 8000} {
		wide := 0.0
		for range 100 {
			p := sample("independent", "exponential", n, 1, r)
			a, b := p.Percentile(q, Serial), p.Percentile(q, Independent)
			if few := sample("independent", "exponential", Need(q), 1, r); few.Percentile(q,
				Single) != few.Percentile(q,
				Independent) {
				t.Fatal("single samples have other intervals than independent ones")
			}
			wide += float64(a.Hi-a.Lo) / float64(b.Hi-b.Lo) / 100
		}
		if wide > 1.3 {
			t.Errorf("q %v, n %d: %.2f times as wide", q, n, wide)
		}
	}
}

// The interval of a ratio covers it in at least 93 %, also of sides of different
// shapes and of a ratio other than 1.
func TestIntervalsOfRatiosCover(t *testing.T) {
	ofShares(t)
	r := rand.New(rand.NewPCG(3, 1))
	median := func(shape string) float64 { return shapes[shape](0.5) }
	for _, n := range []int{6, 7, 10, 20, 34, 60, 159, 160, 400} {
		for _, process := range names(processes) {
			for _, pair := range [][2]string{{"exponential", "exponential"}, {"lognormal", "lognormal"},
				{"bimodal", "bimodal"}, {"exponential", "lognormal"}} {
				truth := 1.5 * median(pair[1]) / median(pair[0])
				held, shown := 0, 0
				for range min(800, 120_000/n) {
					c := Compare(sample(process, pair[0], n, 1, r), sample(process, pair[1], n, 1.5, r),
						samplingOf(process))
					if c.Interval {
						shown++
						if c.Lo <= truth && truth <= c.Hi {
							held++
						}
					}
				}
				share, allowed := float64(held)/float64(shown), 0.93-2.5*math.Sqrt(0.93*0.07/float64(max(shown, 1)))
				if shown > 0 && share < allowed {
					t.Errorf("n %d, %s, %v: %.3f of %d intervals cover", n, process, pair, share, shown)
				}
			}
		}
	}
}

// family judges six comparisons of populations of one kind, of which the second is so
// many times as long, and counts those that differ.
func family(process, shape string, n int, times float64, r *rand.Rand) (differ int, all []Comparison,
	rulings []Ruling) {
	var p, least []float64
	for range 6 {
		c := Compare(sample(process, shape, n, 1, r), sample(process, shape, n, times, r), samplingOf(process))
		p, least, all = append(p, c.P), append(least, c.Least), append(all, c)
	}
	rulings = Judge(p, least, Noise)
	for _, x := range rulings {
		if x.Differs {
			differ++
		}
	}
	return differ, all, rulings
}

// Populations that are alike are taken for different in at most one family of
// comparisons in twenty, at every size from 6 on.
func TestFamiliesAreWrongOnceInTwenty(t *testing.T) {
	ofShares(t)
	r := rand.New(rand.NewPCG(4, 1))
	for _, process := range names(processes) {
		for _, shape := range names(shapes) {
			wrong, families := 0, 0
			for _, n := range []int{6, 7, 8, 10, 14, 18, 20, 25, 33, 40, 60, 100, 159, 160, 250} {
				for range max(100, min(300, 20_000/n)) {
					families++
					if differ, _, _ := family(process, shape, n, 1, r); differ > 0 {
						wrong++
					}
				}
			}
			if share := float64(wrong) / float64(families); share > 0.05+2*math.Sqrt(0.05*0.95/float64(families)) {
				t.Errorf("%s, %s: %.3f of %d families", process, shape, share, families)
			}
		}
	}
}

// A difference that is said to be one that would have been found is found.
func TestWhatWouldHaveBeenFoundIs(t *testing.T) {
	ofShares(t)
	r := rand.New(rand.NewPCG(5, 1))
	for _, process := range names(processes) {
		for _, n := range []int{6, 20, 60} {
			claims, wrong := 0, 0
			for range 400 {
				const times = 1.6
				_, all, rulings := family(process, "lognormal", n, times, r)
				for i, c := range all {
					if !rulings[i].Able && rulings[i].Differs {
						t.Fatal("a comparison differs that could not have been found to")
					}
					claims++
					if !rulings[i].Differs && rulings[i].Able && c.Detectable(rulings[i].Alpha) < times {
						wrong++
					}
				}
			}
			if share := float64(wrong) / float64(claims); share > 0.07 {
				t.Errorf("%s, n %d: in %.3f of %d comparisons a difference of 60 %% was missed although one so large "+
					"was said to be found",
					process, n, share, claims)
			}
		}
	}
}

// The table of docs/compare.md is what simulations give.
func TestThePublishedPower(t *testing.T) {
	ofShares(t)
	text, err := os.ReadFile("../../../docs/compare.md")
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(6, 1))
	rows := 0
	for line := range strings.SplitSeq(string(text), "\n") {
		cells := strings.Split(strings.ReplaceAll(line, " ", ""), "|")
		var n int
		if len(cells) != 9 || !strings.HasPrefix(line, "| ") {
			continue
		}
		if _, err := fmt.Sscan(cells[1], &n); err != nil {
			continue
		}
		rows++
		for k, times := range []float64{1.2, 1.5, 9} {
			for i, process := range []string{"independent", "normal AR(1)"} {
				found, families := 0, 200
				for range families {
					differ, _, _ := family(process, "lognormal", n, times, r)
					found += differ
				}
				got := 100 * float64(found) / float64(6*families)
				cell := strings.TrimSuffix(cells[2+3*i+k], "%")
				var want float64
				if _, err := fmt.Sscan(cell, &want); err != nil || math.Abs(got-want) > 6 {
					t.Errorf("n %d, %s, × %v: found in %.0f %%, published %q", n, process, times, got, cell)
				}
				if i == 0 && (times == 1.5 && n >= 40 && got < 90 || times == 9 && n >= 20 && got < 99) {
					t.Errorf("n %d, × %v: found in %.0f %% only", n, times, got)
				}
			}
		}
	}
	if rows < 6 {
		t.Errorf("the table has %d rows", rows)
	}
}

// Messages of one batch count once: an interval needs as many batches, and a test has
// as many samples.
func TestBatchMatesCountOnce(t *testing.T) {
	batched := func(batches int, r *rand.Rand) *Population {
		p := &Population{}
		for k := range batches {
			d := time.Duration(1e9 * r.ExpFloat64())
			for range 1 + r.IntN(8) {
				p.AddTo(uint64(k+1), d)
			}
		}
		return p
	}
	r := rand.New(rand.NewPCG(7, 1))
	if p := batched(5, r); p.Units() != 5 || p.Percentile(0.5, Independent).Interval {
		t.Errorf("%d units of %d samples have an interval", p.Units(), p.N())
	}
	held, wrong, sets := 0, 0, 800
	for range sets {
		a, b := batched(60, r), batched(60, r)
		if got := a.Percentile(0.5, Independent); got.Interval && got.Lo <= 693147180 && 693147180 <= got.Hi {
			held++
		}
		if c := Compare(a, b, Independent); c.P < 0.05 {
			wrong++
		}
	}
	if cover, alike := float64(held)/float64(sets),
		float64(wrong)/float64(sets); cover < 0.93-3*math.Sqrt(0.07*0.93/float64(sets)) ||
		alike > 0.05+3*math.Sqrt(0.05*0.95/float64(sets)) {
		t.Errorf("intervals cover %.3f; alike ones are told apart in %.3f", cover, alike)
	}
}

// Against the tables of Mann and Whitney, and by symmetry.
func TestMannWhitneyAgainstTables(t *testing.T) {
	set := func(of ...int) (out []time.Duration) {
		for _, x := range of {
			out = append(out, time.Duration(x))
		}
		return out
	}
	for _, c := range []struct {
		a, b []time.Duration
		u, p float64
	}{
		{set(1, 2, 3, 4, 5), set(6, 7, 8, 9, 10), 0, 2.0 / 252},
		{set(1, 2, 3, 4, 8), set(5, 6, 7, 9, 10), 3, 14.0 / 252}, // as many orders have U 0, 1, 2, 3 as 1+1+2+3
		{set(1, 2, 3), set(4, 5, 6), 0, 2.0 / 20},
		{set(1, 3, 5), set(2, 4, 6), 3, 14.0 / 20},
		{set(1), set(2), 0, 1},
		{set(1, 1, 1), set(1, 1, 1), 4.5, 1},
		{nil, set(1), 0, 1},
	} {
		u, p := MannWhitney(c.a, c.b)
		if u != c.u || math.Abs(p-c.p) > 1e-12 {
			t.Errorf("%v, %v: U %v, p %.6f; want %v, %.6f", c.a, c.b, u, p, c.u, c.p)
		}
		if v, q := MannWhitney(c.b, c.a); u+v != float64(len(c.a)*len(c.b)) || math.Abs(p-q) > 1e-12 {
			t.Errorf("%v, %v the other way round: U %v, p %v", c.a, c.b, v, q)
		}
	}
	// where both can be used, the approximation is close to the exact distribution
	for u := range 200 {
		z := (math.Abs(float64(u)-200) - 0.5) / math.Sqrt(400.0/12*41)
		if about := math.Erfc(z / math.Sqrt2); math.Abs(exactU(20, 20, u)-about) > 0.006 {
			t.Fatalf("U %d of 20 and 20: exactly %.4f, about %.4f", u, exactU(20, 20, u), about)
		}
	}
	// Student's t with 15 degrees of freedom, from the tables: 5 % at 2.131, 1 % at 2.947
	for x, want := range map[float64]float64{2.131450: 0.05, 2.946713: 0.01, 4.072765: 0.001} {
		if p := twoSided(x, 15); math.Abs(p/want-1) > 0.01 {
			t.Errorf("t %v: p %.5f, want %v", x, p, want)
		}
	}
}

// Large populations are sorted by their digits, small ones by comparison.
func TestSortingAgrees(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	for _, n := range []int{0, 1, 100, 1 << digit, 50_000} {
		p := &Population{}
		for range n {
			p.Add(time.Duration(r.Int64N(1<<40)) - 1<<39)
		}
		want := slices.Sorted(slices.Values(p.InOrder()))
		for i, d := range want {
			if p.At(i) != d {
				t.Fatalf("of %d, the %d-th is %v, want %v", n, i, p.At(i), d)
			}
		}
	}
}

// Ten percentiles of a million samples, against sorting them.
func BenchmarkPercentiles(b *testing.B) {
	r := rand.New(rand.NewPCG(9, 1))
	samples := make([]time.Duration, 1_000_000)
	for i := range samples {
		samples[i] = time.Duration(1e7 * r.ExpFloat64())
	}
	b.Run("here", func(b *testing.B) {
		for b.Loop() {
			p := Of(samples)
			for _, q := range []float64{0.5, 0.95, 0.99} {
				p.Percentile(q, Serial)
			}
		}
	})
	b.Run("plain sort", func(b *testing.B) {
		for b.Loop() {
			slices.Sort(slices.Clone(samples))
		}
	})
}

// Against an independent implementation: the same U, the same probability where both are exact,
// and nearly the same elsewhere.
func TestMannWhitneyAgainstAnother(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		n, m, steps := 2+r.IntN(60), 2+r.IntN(60), []int{10, 1_000_000}[r.IntN(2)]
		sample := func(n int, shift float64) (d []time.Duration, f []float64) {
			for range n {
				x := time.Duration(float64(steps) * (r.Float64() + shift))
				d, f = append(d, x), append(f, float64(x))
			}
			return d, f
		}
		a, x := sample(n, 0)
		b, y := sample(m, r.Float64()/2)
		u, p := MannWhitney(a, b)
		want, err := other.MannWhitneyUTest(x, y, other.LocationDiffers)
		if err != nil {
			continue // all samples are equal
		}
		near := 0.05 // the other is exact here, too
		if steps > 10 && n <= mostExact && m <= mostExact && n <= 50 && m <= 50 {
			near = 1e-9
		}
		if u != want.U || math.Abs(p-want.P) > near {
			t.Errorf("%d and %d samples of %d values: U %v and p %v, want %v and %v", n, m, steps, u, p, want.U, want.P)
		}
	}
}
