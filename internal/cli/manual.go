package cli

import (
	"io"
	"strings"

	"github.com/spf13/cobra/doc"
)

// Manuals writes a man page for every command into a folder, out of the same words that
// --help shows.
func Manuals(dir string) error {
	root := (&env{out: io.Discard, err: io.Discard}).root()
	root.DisableAutoGenTag = true
	return doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: strings.TrimSpace("Initium " + Version), Manual: "Initium"}, dir)
}
