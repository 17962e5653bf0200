package app_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// values tells the values of a server, those that were given with a star.
func values(t *testing.T, a *app.App) string {
	t.Helper()
	list, err := a.Values("k")
	insist.OK(t, err)
	var words []string
	for _, v := range list {
		if v.Name == "level" || v.Name == "port" {
			star := ""
			if v.Given {
				star = "*"
			}
			words = append(words, fmt.Sprintf("%s%s=%s", v.Name, star, v.Value))
		}
	}
	return strings.Join(words, " ")
}

// A value holds until it is changed, by giving it or by adopting anew; each change is an
// entry that undo takes back, and what is staged stays staged.
func TestValuesHold(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": ""})
	adopt := func(set map[string]string) {
		t.Helper()
		insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: set})))
	}
	steps := []struct {
		do   func() error
		want string
	}{
		{func() error { adopt(map[string]string{"level": "1", "port": "4000"}); return nil }, "port*=4000 level*=1"},
		{func() error { adopt(nil); return nil }, "port*=4000 level*=1"},
		{func() error { adopt(map[string]string{"level": "2"}); return nil }, "port*=4000 level*=2"},
		{func() error { adopt(map[string]string{"level": "2"}); return nil }, "port*=4000 level*=2"},
		{func() error {
			_, err := a.Give(t.Context(), "k", map[string]string{"level": "3", "port": "4001"})
			return err
		}, "port*=4001 level*=3"},
		{func() error { return back(t, a, app.ReturnLast) }, "port*=4000 level*=2"},
		{func() error { _, err := a.Give(t.Context(), "k", map[string]string{"level": ""}); return err }, "port*=4000 level="},
		{func() error { return back(t, a, 0) }, "port*=4000 level*=1"},
		{func() error { return back(t, a, 2) }, "port*=4001 level*=3"},
	}
	for i, s := range steps {
		if err := s.do(); err != nil {
			t.Errorf("step %d: %v", i, err)
		}
		insist.Same(t, fmt.Sprintf("step %d: the values", i), values(t, a), s.want)
	}
	entries, err := a.Ledger("k")
	insist.OK(t, err)
	var whys []string
	for _, e := range entries[1:4] {
		whys = append(whys, e.Why)
	}
	if want := []string{"give: level is 2, not 1", "give: level is 3, not 2, port is 4001, not 4000", "take entry 2 back: give: level is 3, not 2, port is 4001, not 4000"}; !slices.Equal(whys, want) {
		t.Errorf("the ledger says %q", whys)
	}
	for set, want := range map[string]string{"level=3": "it is so already", "none=": "it takes: program", "port=0": "is no port"} {
		key, value, _ := strings.Cut(set, "=")
		insist.Fails(t, set, insist.Err(a.Give(t.Context(), "k", map[string]string{key: value})), want)
	}
}

// back returns a server to an entry.
func back(t *testing.T, a *app.App, to int) error {
	t.Helper()
	p, why, err := a.ReturnPlan("k", to)
	if err != nil {
		return err
	}
	return a.Return(t.Context(), "k", p, why)
}

// What may be adopted: families that know the folder first, and a name that is free.
func TestCandidate(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": ""})
	c, err := a.Candidate(dir)
	insist.That(t, err == nil && c.Name == "server" && c.Fit == 1 && c.Families[0] == "kiln" && len(c.Families) >= 5, "%+v, %v", c, err)
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: t.TempDir(), As: "server", Dialect: "kiln"})))
	if c, err = a.Candidate(dir); err != nil || c.Name != "server-2" {
		t.Errorf("the name is taken: %+v, %v", c, err)
	}
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "server-2"})))
	if c, err = a.Candidate(dir); err != nil || c.Name != "server-2" {
		t.Errorf("its own name is free: %+v, %v", c, err)
	}
	list, err := a.ValuesFor(dir, "kiln", map[string]string{"level": "9"})
	if at := slices.IndexFunc(list, func(v app.Value) bool { return v.Name == "level" }); err != nil || at < 0 || list[at].Value != "9" || !list[at].Given {
		t.Errorf("%+v, %v", list, err)
	}
	if _, err := a.ValuesFor(dir, "kiln", map[string]string{"port": "x"}); err == nil {
		t.Error("a port that is none is taken")
	}
	if _, err := a.Candidate(dir + "/none"); err == nil {
		t.Error("a folder that is not there can be adopted")
	}
}

// A value that keys and passwords are called by is shown nowhere: not in the list, not in
// the words of the ledger; and it holds all the same.
func TestGivenSecrets(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": ""})
	file := filepath.Join(a.Home.DialectDir(), "kiln.toml")
	put(t, file, kiln+"\n[[given]]\nname = \"admin_token\"\nkind = \"text\"\nabout = \"x\"\noptional = true\n[[given]]\nname = \"secret\"\nkind = \"folder\"\noptional = true\ndefault = [\"{dir}/hush\"]\n")
	_, err := a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"admin_token": "hush one two", "secret": filepath.Join(dir, "hush6")}})
	insist.OK(t, err)
	_, err = a.Give(t.Context(), "k", map[string]string{"admin_token": "hush three, four", "level": "http://u:hush5@h"})
	insist.OK(t, err)
	list, err := a.Values("k")
	insist.OK(t, err)
	for _, v := range list {
		if hidden := v.Name == "admin_token" || v.Name == "level" || v.Name == "secret"; v.Hidden != hidden {
			t.Errorf("%s is hidden: %v", v.Name, v.Hidden)
		}
	}
	entries, err := a.Ledger("k")
	insist.OK(t, err)
	p, _, err := a.ReturnPlan("k", app.ReturnLast)
	insist.OK(t, err)
	if said := fmt.Sprint(list, entries, p.Given[0], p.Given[1]); strings.Contains(said, "hush") || !strings.Contains(said, "admin_token is") {
		t.Errorf("it is told: %s", said)
	}
	if s, err := a.Server("k"); err != nil || s.Vars["admin_token"] != "hush three, four" {
		t.Errorf("it holds %q, %v", s.Vars["admin_token"], err)
	}
}

// What an entry did is told without the secrets that it wrote or took away.
func TestEntriesHideSecrets(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "set password hush-hush-one\nfire a\n", "mods/a/x": ""})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[[value]]\nname = \"password\"\nregistration = \"list\"\nsecret = true\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "1"}})))
	insist.OK(t, insist.Err(a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpSet, Registration: "list", Mod: "password", To: "hush-hush-two"})))
	p, err := a.EntryPlan("k", 1)
	insist.OK(t, err)
	said := fmt.Sprint(p.Shown())
	entries, err := a.Ledger("k")
	insist.OK(t, err)
	told, err := json.Marshal(entries)
	insist.OK(t, err)
	said += string(told)
	for _, r := range p.Files[0].Rows(3) {
		said += "\n" + r.Text
	}
	insist.That(t, !strings.Contains(said, "hush-hush") && strings.Count(said, "set password") == 4, "it says %s", said)
	var usage app.UsageError
	if _, err := a.EntryPlan("k", 7); !errors.As(err, &usage) {
		t.Errorf("no such entry: %v", err)
	}
}
