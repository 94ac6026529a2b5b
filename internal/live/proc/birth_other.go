//go:build !linux

package proc

import "time"

func base() uint64    { return 0 }
func killBorn(uint64) {}

func bear(_ int64, start func() error) (mark uint64, err error) { return 0, start() }

// endLeft ends what is left in a session; what left that cannot be found here.
func endLeft(session int, mark string, birth uint64, _ time.Duration) { cleanUp(session, mark, birth) }
