//go:build !linux

package anatomy

import (
	"context"
	"errors"

	"nightdrill.dev/internal/core/anatomy"
)

var errElsewhere = errors.New("what a start opens, connects to and runs is seen on Linux alone")

// Traced returns why nothing can be traced.
func Traced(string, []string) ([]string, error) { return nil, errElsewhere }

// Traces returns why no start can be traced here.
func Traces(context.Context) string { return errElsewhere.Error() }

// ReadNames returns why nothing was seen.
func ReadNames(string) (n *anatomy.Names, conflict string, err error) { return nil, "", errElsewhere }

// Commanded reports that there are no such commands.
func Commanded([]string) bool { return false }
