// Package dialects holds the dialect files that ship with Fado. It holds no
// code: what the files mean is in package internal/core/dialect.
package dialects

import "embed"

// Files holds the dialects that ship.
//
//go:embed *.yaml
var Files embed.FS
