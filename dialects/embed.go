// Package dialects holds the dialect files that ship with Fado. It holds no
// code: what the files mean is in package internal/core/dialect.
package dialects

import "embed"

// Files holds the dialects in service.
//
//go:embed *.yaml
var Files embed.FS

// Drafts holds dialects that prove the grammar and that nothing speaks yet.
//
//go:embed drafts/*.yaml
var Drafts embed.FS
