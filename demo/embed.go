// Package demodata holds the demo scenario's files. It holds no code; package
// internal/demo plays them.
package demodata

import "embed"

// Files holds scenario.yaml and the models.
//
//go:embed scenario.yaml models/*.yaml
var Files embed.FS
