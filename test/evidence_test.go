package test

import (
	_ "embed"
	"os"
	"path/filepath"
	"testing"

	"initium/internal/insist"
)

//go:embed testdata/quiet.toml
var quiet string

// TestPathAsEvidence has a server that says nothing of its mods. What they make at
// their first start confirms them; at the next start nothing does.
func TestPathAsEvidence(t *testing.T) {
	o := newOperator(t)
	write(t, filepath.Join(o.home, "dialects/quiet.toml"), quiet)
	dir := filepath.Join(filepath.Dir(o.home), "quiet")
	write(t, filepath.Join(dir, "quiet.list"), "use makes\nuse silent\n")
	for _, name := range []string{"makes", "silent"} {
		write(t, filepath.Join(dir, "mods", name, "x"), "")
	}
	write(t, filepath.Join(dir, "server"), "#!/bin/sh\nmkdir -p made/makes\necho up\ntrap 'exit 0' TERM\nwhile :; do sleep 0.1; done\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "server"), 0o755))
	o.do(0, "adopt", dir)
	p := &proofJSON{}
	o.json(1, p, "prove", "quiet", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "makes confirmed, silent silent")
	if e := p.mod("makes").Evidence; len(e) != 1 || e[0].Source != "path" || e[0].Text != filepath.Join(dir, "made/makes")+" has appeared" {
		t.Errorf("the evidence is %+v", e)
	}
	p = &proofJSON{}
	o.json(1, p, "prove", "quiet", "--json")
	insist.Same(t, "at the second start outcomes", p.outcomes(), "makes silent, silent silent")
}
