//go:build !console

// Package web holds the built console. It holds no Go code of its own.
package web

import "io/fs"

// Console returns nil: this program was built without the console.
func Console() fs.FS { return nil }
