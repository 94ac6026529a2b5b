package plan

import "time"

// Rates are what the user pays, in a currency of their own. No price list is built in.
type Rates struct {
	Currency  string        `json:"currency"`
	GiBSecond float64       `json:"memory"`   // one GiB held for one second
	CPUSecond float64       `json:"cpu"`      // one processor for one second
	Request   float64       `json:"request"`  // one invocation
	RoundUp   time.Duration `json:"round_up"` // the duration is rounded up to a multiple of it; 0 for none
	AtLeast   time.Duration `json:"at_least"` // the least billed duration
	Billed    []string      `json:"billed"`   // which phases
}

// BilledPhases names the phases that can be billed.
var BilledPhases = []string{"prepare", "start", "idle", "invocation"}

// Keeping is the rule by which old runs are deleted; 0 is no bound. Runs that have a name or are
// pinned are always kept.
type Keeping struct {
	Runs  int
	For   time.Duration
	Bytes int64
}
