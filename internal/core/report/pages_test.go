package report_test

import (
	"testing"
	"time"

	"initium/internal/core/proof"
	"initium/internal/core/report"
	"initium/internal/golden"
	"initium/internal/insist"
)

// TestPagesInFull holds whole pages to those that were read through.
func TestPagesInFull(t *testing.T) {
	full := sample()
	ms, at := 40.5, time.Date(2026, 3, 5, 5, 6, 7, 0, time.UTC)
	full.Port = "4711"
	full.Proof.Mods = append(full.Proof.Mods,
		proof.Mod{Name: "d", Outcome: proof.Failed, Reason: "torn", Against: "it loaded all the same after that", LoadMS: &ms, Evidence: []proof.Evidence{{Source: "log", Line: 5, Text: "d is torn", More: []string{"  at x"}}, {Source: "console", Line: 9, Text: "- d"}}},
		proof.Mod{Name: "e", Outcome: proof.Unlisted, Reason: "it loaded without being registered", Evidence: []proof.Evidence{{Source: "path", Text: "stores/e has appeared"}}})
	full.Proof.Told, full.Proof.Differs, full.Proof.Hint, full.Proof.Unheard = map[string]string{"title": "Harbour", "port": "4712"}, []string{"the port is another"}, "look into line 9", "it does not read its console"
	full.Proof.Made, full.Proof.Unmade = []proof.Made{{Mod: "a_b", Path: "stores/a_b"}}, []proof.Made{{Mod: "c", Path: "stores/c"}}
	full.Proof.Reloads = []proof.Reload{{At: at, Do: "reload", Mod: proof.Mod{Name: "a_b", Outcome: proof.Confirmed}}}
	exit := 3
	short := &report.Report{Server: "s", Family: "F", Proof: &proof.Proof{Number: 1, Verdict: proof.NotProved, Exit: &exit, Reason: "the server stopped"}}
	sound := sample()
	sound.Proof.Verdict, sound.Proof.Reason, sound.Proof.Mods, sound.Since = proof.Proved, "", sound.Proof.Mods[:1], &proof.Comparison{Starts: [2]int{5, 7}}
	for name, r := range map[string]*report.Report{"full": full, "short": short, "sound": sound} {
		page, err := r.HTML()
		insist.OK(t, err)
		junit, err := r.JUnit()
		insist.OK(t, err)
		golden.Check(t, name+".html", string(page))
		golden.Check(t, name+".md", string(r.Markdown()))
		golden.Check(t, name+".junit.xml", string(junit))
	}
}
