// Package schemas holds the JSON Schemas (draft 2020-12) of the files people write and the results they parse.
//
// It imports nothing of this program.
package schemas

import "embed"

//go:embed *.schema.json
var files embed.FS

// Names lists the schemas.
func Names() []string { return []string{"site", "result"} }

// Text returns a schema by its name.
func Text(name string) ([]byte, error) { return files.ReadFile(name + ".schema.json") }
