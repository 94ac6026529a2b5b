//go:build !linux

package proc

import "time"

func base() uint64           { return 0 }
func bear(int, int64) uint64 { return 0 }
func killBorn(uint64)        {}

// endLeft ends what is left in a session; what left that cannot be found here.
func endLeft(session int, mark string, birth uint64, _ time.Duration) { cleanUp(session, mark, birth) }
