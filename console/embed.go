// Package console holds the built console; see README.md there for how it is built.
package console

import "embed"

// Built is what vite built, below "dist".
//
//go:embed all:dist
var Built embed.FS
