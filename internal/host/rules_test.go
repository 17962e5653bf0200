package host_test

import (
	"database/sql"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/host"
	"initium/internal/insist"
)

// open gives a ledger in a home of its own, and its database.
func openWithDatabase(t *testing.T) (*host.Ledger, *sql.DB, host.Home) {
	t.Helper()
	home := host.Home{Dir: t.TempDir()}
	l, err := home.OpenLedger()
	insist.OK(t, err)
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.Join(home.Dir, "ledger.db")}).EscapedPath()+"?_pragma=busy_timeout(10000)")
	insist.OK(t, err)
	t.Cleanup(func() { l.Close(); db.Close() })
	return l, db, home
}

// said lists the rules of a server in words.
func rulesSaid(t *testing.T, l *host.Ledger) string {
	t.Helper()
	rules, err := l.Rules("s", "d")
	insist.OK(t, err)
	var words []string
	for _, r := range rules {
		words = append(words, r.String()+" ("+r.Because+")")
	}
	return strings.Join(words, "; ")
}

// Rules that come with a change are a part of its entry: they are there when it is, however
// it came to its end, and go when it is taken back.
func TestRulesBelongToTheirEntry(t *testing.T) {
	l, db, _ := openWithDatabase(t)
	file := filepath.Join(t.TempDir(), "start")
	insist.OK(t, os.WriteFile(file, []byte("a\n"), 0o644))
	own := rule.Rule{Kind: rule.Before, Mod: "x", Other: "y", Because: "mine"}
	insist.OK(t, l.PutRule("s", own))
	p := &plan.Plan{Files: []plan.File{{Path: file, Old: []byte("a\n"), Want: []byte("b\n")}},
		Rules: []rule.Rule{{Kind: rule.After, Mod: "b", Other: "a", Because: "the list says so"}, {Kind: rule.Before, Mod: "x", Other: "y", Because: "another reason"}}}
	insist.OK(t, l.Apply(t.Context(), "s", "take in", p, nil))
	const both = "x loads before y (mine); b loads after a (the list says so)"
	insist.Same(t, "after it", rulesSaid(t, l), both)
	// As if it had been cut off right before its end: what completes it brings the rules too.
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun'; DELETE FROM rule WHERE mod = 'b'`)))
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") || rulesSaid(t, l) != both {
		t.Errorf("recovered: %q, %v, %s", said, err, rulesSaid(t, l))
	}
	back, err := l.Return("s", 0)
	insist.Need(t, err == nil && len(back.Unrules) == 1 && len(back.Rules) == 0, "the way back: %+v, %v", back, err)
	insist.OK(t, l.Apply(t.Context(), "s", "take it back", back, nil))
	insist.Same(t, "taken back", rulesSaid(t, l), "x loads before y (mine)")
	if back, err = l.Return("s", 1); err != nil || len(back.Rules) != 1 {
		t.Fatalf("and forth: %+v, %v", back, err)
	}
	if err := l.Apply(t.Context(), "s", "and forth", back, nil); err != nil || rulesSaid(t, l) != both {
		t.Errorf("and forth: %s, %v", rulesSaid(t, l), err)
	}
	// One that was taken back by hand meanwhile does not come up again.
	if back, err = l.Return("s", 2); err != nil || len(back.Unrules) != 1 {
		t.Fatalf("%+v, %v", back, err)
	}
	rules, err := l.Rules("s", "d")
	insist.OK(t, err)
	insist.OK(t, l.DropRule("s", "d", rules[1].Number))
	if back, err = l.Return("s", 2); err != nil || len(back.Unrules) != 0 {
		t.Errorf("what is gone already: %+v, %v", back, err)
	}
	// One that went and came again stays as it is on the way back over both.
	r := p.Rules[0]
	insist.OK(t, l.Apply(t.Context(), "s", "again", &plan.Plan{Rules: []rule.Rule{r}}, nil))
	entries, err := l.Entries("s")
	insist.OK(t, err)
	newest := 0
	for _, e := range entries {
		newest = max(newest, e.Number)
	}
	insist.OK(t, l.Apply(t.Context(), "s", "gone", &plan.Plan{Unrules: []rule.Rule{r}}, nil))
	insist.OK(t, l.Apply(t.Context(), "s", "and back", &plan.Plan{Rules: []rule.Rule{r}}, nil))
	if back, err = l.Return("s", newest); err != nil || !back.Empty() {
		t.Errorf("over a rule that went and came again: %+v, %v", back, err)
	}
	if err := l.DropRule("s", "d", 99); !errors.Is(err, host.ErrNoRule) {
		t.Errorf("no such rule: %v", err)
	}
}

// A change that was taken back before anything was moved brings no rules.
func TestRulesOfAChangeThatNeverWas(t *testing.T) {
	l, db, _ := openWithDatabase(t)
	file := filepath.Join(t.TempDir(), "start")
	insist.OK(t, os.WriteFile(file, []byte("a\n"), 0o644))
	p := &plan.Plan{Files: []plan.File{{Path: file, Old: []byte("a\n"), Want: []byte("b\n")}}, Rules: []rule.Rule{{Kind: rule.First, Mod: "a"}}}
	insist.OK(t, l.Apply(t.Context(), "s", "x", p, nil))
	insist.OK(t, os.WriteFile(file, []byte("a\n"), 0o644))
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun'; DELETE FROM rule`)))
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "taken back") || rulesSaid(t, l) != "" {
		t.Errorf("%q, %v, rules %s", said, err, rulesSaid(t, l))
	}
	var left int
	if err := db.QueryRow(`SELECT count(*) FROM entry_rule`).Scan(&left); err != nil || left != 0 {
		t.Errorf("%d rules are left in the ledger, %v", left, err)
	}
}

// A ledger that a newer Initium has laid out is refused in a sentence, and left as it is.
func TestLedgerOfANewerInitium(t *testing.T) {
	l, db, home := openWithDatabase(t)
	insist.OK(t, l.PutRule("s", rule.Rule{Kind: rule.First, Mod: "a"}))
	var version int
	if err := db.QueryRow(`PRAGMA user_version`).Scan(&version); err != nil || version < 1 {
		t.Errorf("version %d, %v", version, err)
	}
	insist.OK(t, insist.Err(db.Exec(`PRAGMA user_version = 99`)))
	insist.OK(t, errors.Join(l.Close(), db.Close()))
	name := filepath.Join(home.Dir, "ledger.db")
	before, err := os.ReadFile(name)
	insist.OK(t, err)
	insist.Fails(t, "opened", insist.Err(home.OpenLedger()), "a newer Initium has laid it out anew (version 99; this one knows up to ")
	if after, err := os.ReadFile(name); err != nil || string(after) != string(before) {
		t.Errorf("it was touched, %v", err)
	}
	// One from before there were versions gets the tables that it lacks.
	if db, err = sql.Open("sqlite", "file:"+(&url.URL{Path: name}).EscapedPath()); err != nil {
		t.Fatal(err)
	}
	insist.OK(t, insist.Err(db.Exec(`PRAGMA user_version = 0; DROP TABLE entry_rule`)))
	db.Close()
	again, err := home.OpenLedger()
	insist.OK(t, err)
	defer again.Close()
	insist.Same(t, "of an older ledger", rulesSaid(t, again), "a loads first ()")
}
