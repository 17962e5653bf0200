package host_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/host"
	"initium/internal/insist"
)

// A ledger that cannot be read is refused with what to do about it, never taken for an empty
// one; repairing it keeps it, and saves what can be read.
func TestRepairLedger(t *testing.T) {
	insist.Long(t)
	made := host.Home{Dir: t.TempDir()}
	l, err := made.OpenLedger()
	insist.OK(t, err)
	start := filepath.Join(t.TempDir(), "start")
	insist.OK(t, os.WriteFile(start, nil, 0o644))
	for i := range 300 {
		old, now := strings.Repeat(fmt.Sprintln(i-1), min(i, 1)*50), strings.Repeat(fmt.Sprintln(i), 50)
		insist.OK(t, l.Apply(t.Context(), "s", fmt.Sprint("change ", i), &plan.Plan{Files: []plan.File{file(start, old, now)}}, nil))
	}
	if r, err := (host.Home{Dir: t.TempDir()}).RepairLedger(); err == nil || !strings.Contains(err.Error(), "there is no ledger in ") {
		t.Errorf("where there is none: %+v, %v", r, err)
	}
	insist.OK(t, errors.Join(l.PutRule("s", rule.Rule{Kind: rule.First, Mod: "a"}), l.Close()))
	whole, err := os.ReadFile(filepath.Join(made.Dir, "ledger.db"))
	insist.OK(t, err)
	for name, test := range map[string]struct {
		damage func(data []byte) []byte
		opens  bool // the damage lies deeper than is looked at when it is opened
		whole  bool
		least  int // entries that are saved
	}{
		"whole":         {func(data []byte) []byte { return data }, true, true, 300},
		"empty":         {func([]byte) []byte { return nil }, false, false, 0},
		"no database":   {func(data []byte) []byte { return []byte(strings.Repeat("no database ", 1000)) }, false, false, 0},
		"its beginning": {func(data []byte) []byte { copy(data, make([]byte, 100)); return data }, false, false, 0},
		"a page of it": {func(data []byte) []byte {
			n := len(data) / 2 &^ 4095
			copy(data[n:n+4096], make([]byte, 4096))
			return data
		}, true, false, 100},
		"cut to two thirds": {func(data []byte) []byte { return data[:len(data)*2/3&^4095] }, false, false, 50},
	} {
		h := host.Home{Dir: t.TempDir()}
		db := filepath.Join(h.Dir, "ledger.db")
		data := test.damage(slices.Clone(whole))
		insist.OK(t, os.WriteFile(db, data, 0o600))
		past := time.Now().Add(-time.Hour)
		insist.OK(t, os.Chtimes(db, past, past))
		l, err := h.OpenLedger()
		if (err == nil) != test.opens || err != nil && (!errors.Is(err, host.ErrDamaged) || !strings.Contains(err.Error(), "initium ledger --repair")) {
			t.Errorf("%s: opened: %v", name, err)
		}
		if err == nil {
			if _, err := l.Entries("s"); err != nil && !host.Damaged(err) {
				t.Errorf("%s: read: %v", name, err)
			}
			insist.OK(t, l.Close())
		}
		if kept, _ := os.ReadFile(db); string(kept) != string(data) {
			t.Errorf("%s: it was touched", name)
		}
		other := exec.Command("sleep", "60")
		if other.Stdin, err = os.Open(db); err == nil {
			err = other.Start()
		}
		insist.OK(t, err)
		if r, err := h.RepairLedger(); !test.whole && (err == nil || !strings.Contains(err.Error(), fmt.Sprintf("process %d has it open", other.Process.Pid))) {
			t.Errorf("%s: while another has it open: %+v, %v", name, r, err)
		}
		insist.OK(t, other.Process.Kill())
		other.Wait()
		other.Stdin.(*os.File).Close()
		r, err := h.RepairLedger()
		insist.Need(t, err == nil && (len(r.Problems) == 0) == test.whole && (r.Kept == "") == test.whole, "%s: repaired: %+v, %v", name, r, err)
		if !test.whole {
			if kept, err := os.ReadFile(r.Kept); err != nil || string(kept) != string(data) {
				t.Errorf("%s: the damaged one is not kept: %v", name, err)
			}
		}
		l, err = h.OpenLedger()
		insist.OK(t, err)
		entries, err := l.Entries("s")
		insist.That(t, err == nil && len(entries) >= test.least, "%s: %d entries, %v, %+v", name, len(entries), err, r)
		rules, err := l.Rules("s", "")
		insist.OK(t, errors.Join(err, l.Close()))
		if test.least > 0 && !slices.Contains(r.Lost, "rule") && len(rules) != 1 {
			t.Errorf("%s: the rules are %v", name, rules)
		}
		if again, err := h.RepairLedger(); err != nil || len(again.Problems) != 0 {
			t.Errorf("%s: afterwards it is %+v, %v", name, again, err)
		}
		if left := within(h.Dir, ".initium-*"); len(left) > 0 {
			t.Errorf("%s: left behind: %v", name, left)
		}
	}
}
