// Package dialects holds the dialects that ship with Initium.
package dialects

import "embed"

// FS has one TOML file for each dialect.
//
//go:embed *.toml
var FS embed.FS
