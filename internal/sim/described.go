package sim

import "errors"

// Described is a unit that a file describes.
type Described struct{}

func newDescribed(*unit, Described) (manner, error) { return nil, errors.New("not yet") }
