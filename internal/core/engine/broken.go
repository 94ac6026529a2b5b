package engine

// rule names a rule that a test has the engine break, to prove that the checker of that rule
// notices. Only a build with the tag brokenrules can break one.
type rule uint8

const (
	kept rule = iota
	limitIgnored
	projectLimitIgnored
	guaranteeIgnored
	keepWarmIgnored
	idleTooEarly
	slotsOverfilled
	oneAttemptMore
	lostDelivery
	endedTwice
	sentTwice
	batchTooLarge
	zeroIgnored
	heldIgnored
	laneNotBlocked
	outOfOrder
	splitIgnored
	ackKept
	dropIgnored
	paceIgnored
	turnAwayIgnored
	besideIgnored
	rules // how many there are
)
