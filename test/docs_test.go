package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestWorkedExample adopts the server of docs/dialects.md with the dialect that
// the page shows, word for word, and proves it.
func TestWorkedExample(t *testing.T) {
	page := contents(t, "../docs/dialects.md")
	_, rest, _ := strings.Cut(page, "```toml\n")
	source, _, ok := strings.Cut(rest, "```")
	if !ok {
		t.Fatal("the page shows no dialect")
	}
	o := newOperator(t)
	write(t, filepath.Join(o.home, "dialects/kiln.toml"), source)
	dir := filepath.Join(filepath.Dir(o.home), "kiln")
	write(t, filepath.Join(dir, "kiln.list"), "fire blue_glaze\nfire glaze_basics\n")
	write(t, filepath.Join(dir, "recipes/glaze_basics/recipe.json"), `{"id": "glaze_basics", "version": "1.0"}`)
	write(t, filepath.Join(dir, "recipes/blue_glaze/recipe.json"), `{"id": "blue_glaze", "version": "1.2", "after": ["glaze_basics"]}`)
	write(t, filepath.Join(dir, "kiln"), `#!/bin/sh
echo "$(date +%T) I listening on $2"
while read -r word name; do
  echo "$(date +%T) I firing $name"
  case $name in
  blue_glaze) [ -n "$basics" ] && echo "$(date +%T) I $name fired in 0.2 s" || echo "$(date +%T) E $name cracked: no cobalt" ;;
  *) basics=yes; echo "$(date +%T) I $name fired in 0.8 s" ;;
  esac
done <kiln.list
echo "$(date +%T) I kiln is hot"
trap 'exit 0' TERM
while :; do sleep 0.1; done
`)
	if err := os.Chmod(filepath.Join(dir, "kiln"), 0o755); err != nil {
		t.Fatal(err)
	}
	o.do(0, "adopt", dir, "--set", "port="+freePort(t))
	if out := o.do(1, "check", "kiln"); !strings.Contains(out, "move glaze_basics before blue_glaze") {
		t.Errorf("check says\n%s", out)
	}
	p := &proofJSON{}
	o.json(1, p, "prove", "kiln", "--json")
	if got := p.outcomes(); got != "blue_glaze failed, glaze_basics confirmed" || p.mod("blue_glaze").Reason != "no cobalt" {
		t.Errorf("%s: %s", p.Reason, got)
	}
	o.do(0, "move", "kiln", "blue_glaze", "--after", "glaze_basics")
	p = &proofJSON{}
	o.json(0, p, "prove", "kiln", "--json")
	if m := p.mod("blue_glaze"); m.Outcome != "confirmed" || *m.LoadMS != 200 {
		t.Errorf("blue_glaze is %+v", m)
	}
	source = filepath.Join(filepath.Dir(o.home), "crackle.zip")
	write(t, source, string(zipped(t, map[string]string{"crackle-1.1-main/recipe.json": `{"id": "crackle", "version": "1.1", "after": ["blue_glaze"]}`})))
	o.do(0, "take", "kiln", source)
	p = &proofJSON{}
	o.json(0, p, "prove", "kiln", "--json")
	if m := p.mod("crackle"); m.Outcome != "confirmed" {
		t.Errorf("crackle is %+v", m)
	}
}
