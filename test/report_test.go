package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// TestCompareReportAndSay has two starts with a change between them.
func TestCompareReportAndSay(t *testing.T) {
	h := newHarbour(t, "berth a\nberth b\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("b", "", "haul 1\ncall a warning of 12 knots\n")
	if r := h.try("compare", "h"); r.status != 2 {
		t.Errorf("nothing to compare: %d %s", r.status, r.err)
	}
	if r := h.try("say", "h", "roll"); r.status != 2 || !strings.Contains(r.err, "not running") {
		t.Errorf("said to a server that is stopped: %d %s", r.status, r.err)
	}
	h.prove(0)
	h.prove(0)
	insist.Holds(t, "two starts alike", h.do(0, "compare", "h"), "nothing of note differs")
	h.cargo("c", "", "haul 1\ncall an error in the hold\n")
	h.do(0, "register", "h", "c", "--before", "a")
	h.do(0, "move", "h", "b", "--before", "a")
	h.prove(0, "--keep-running")
	if out := h.do(0, "say", "h", "roll"); !strings.Contains(out, "b") || strings.Contains(out, "made fast") {
		t.Errorf("the reply is\n%s", out)
	}
	h.do(0, "stop", "h")
	out := h.do(1, "compare", "h")
	for _, want := range []string{"start 2 (proved) and start 3 (proved)", "came: c", "new in the log, line", "an error in the hold"} {
		insist.Holds(t, "the comparison", out, want)
	}
	insist.Lacks(t, "what was said before is called new", out, "12 knots")
	insist.Holds(t, "by their numbers", h.do(1, "compare", "h", "1", "3"), "start 1 (proved)")
	dir := t.TempDir()
	page, md, junit := filepath.Join(dir, "p.html"), filepath.Join(dir, "p.md"), filepath.Join(dir, "p.xml")
	h.do(0, "export", "proof", "h", "--html", page, "--md", md, "--junit", junit)
	for file, want := range map[string]string{page: "<h1>h: proved", md: "register c before a", junit: `tests="4" failures="0"`} {
		if got := contents(t, file); !strings.Contains(got, want) || strings.Contains(got, "HS-1") {
			t.Errorf("%s lacks %q, or tells a secret:\n%s", file, want, got)
		}
	}
	if r := h.try("export", "proof", "h"); r.status != 2 {
		t.Errorf("nowhere to write: %d %s", r.status, r.err)
	}
}
