package remedy_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

//go:embed testdata/family.toml
var family string

// on surveys a server with a startup script and mods, written "name: needs".
func on(t *testing.T, script string, mods ...string) *survey.Survey {
	t.Helper()
	d, err := dialect.Parse("f.toml", []byte(family))
	insist.OK(t, err)
	fsys := fstest.MapFS{"srv/start": {Data: []byte(script)}}
	for _, m := range mods {
		name, needs, _ := strings.Cut(m, ": ")
		about := fmt.Sprintf("name = %q\n", name)
		if needs != "" {
			about += "needs = ['" + strings.ReplaceAll(needs, ", ", "', '") + "']\n"
		}
		fsys["srv/mods/"+name+"/about.toml"] = &fstest.MapFile{Data: []byte(about)}
	}
	return survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys})
}

func TestFor(t *testing.T) {
	const script = "let depth 3\nuse late\nuse early\n# use off\nuse user\nuse bad\nuse deep\nuse deeper\n"
	now := on(t, script, "late", "early", "off", "there", "user: bad", "bad", "deep", "deeper: deep")
	unset := on(t, strings.Replace(script, "let depth 3\n", "", 1), "late")
	proved := &proof.Proof{Number: 3, Mods: []proof.Mod{{Name: "bad", Outcome: proof.Confirmed, Release: "1"}, {Name: "late", Outcome: proof.Confirmed}}}
	for name, test := range map[string]struct {
		now    *survey.Survey // nil for the usual one
		exit   bool           // the server has stopped
		mod    proof.Mod
		others []proof.Mod
		unmade []proof.Made
		proved *proof.Proof
		files  []proof.FileChange
		wrote  string // by the ledger since then
		want   string
	}{
		"silent after a stop":      {mod: proof.Mod{Name: "late", Outcome: proof.Silent}, exit: true, want: "find out why the server stopped before it came to this mod: it gave up"},
		"silent behind a failure":  {mod: proof.Mod{Name: "late", Outcome: proof.Silent}, exit: true, others: []proof.Mod{{Name: "deep", Outcome: proof.Failed, Evidence: []proof.Evidence{{Line: 3}}}, {Name: "bad", Outcome: proof.Failed, Evidence: []proof.Evidence{{Line: 7}}}, {Name: "user", Outcome: proof.Failed}}, want: "mend bad first; the server came no further"},
		"a need that comes later":  {mod: proof.Mod{Name: "late", Wanted: []string{"early"}}, want: "move early before late | switch late off"},
		"a need that is not there": {mod: proof.Mod{Name: "late", Wanted: []string{"nowhere"}}, want: "take nowhere in, which it needs and which is not here | switch late off"},
		"only the log says it":     {mod: proof.Mod{Name: "user", Wanted: []string{"bad", "off"}, Evidence: []proof.Evidence{{Line: 3}}}, want: "move bad before user | switch off on | write down as a rule that user needs off, which only the log says, so that it is known before the next start: initium rule s --from-log | switch user off"},
		"the manifest says it too": {mod: proof.Mod{Name: "user", Wanted: []string{"bad"}, Evidence: []proof.Evidence{{Line: 3}}}, want: "move bad before user | switch user off"},
		"a need that is off":       {mod: proof.Mod{Name: "late", Wanted: []string{"off"}}, want: "switch off on | switch late off"},
		"one not registered":       {mod: proof.Mod{Name: "late", Wanted: []string{"there"}}, want: "register there before late | switch late off"},
		"one that failed too":      {mod: proof.Mod{Name: "user", Wanted: []string{"bad"}}, others: []proof.Mod{{Name: "bad", Outcome: proof.Failed}}, want: "mend bad first | switch user off"},
		"with those who need it":   {mod: proof.Mod{Name: "bad", Reason: "torn"}, want: "switch user off, then switch bad off"},
		"another named":            {mod: proof.Mod{Name: "late", Reason: "cannot be beside 'early'."}, want: "switch early off | switch late off"},
		"a setting named":          {now: unset, mod: proof.Mod{Name: "late", Reason: "depth is not set"}, want: "give the setting depth a value, above the line of late | switch late off"},
		"files by hand": {mod: proof.Mod{Name: "late", Reason: "torn"}, proved: proved, wrote: "/srv/start", files: []proof.FileChange{{Mod: "late", Path: "a", What: "changed"}, {Mod: "early", Path: "b", What: "new"}},
			want: "restore its files as they were at start 3, which was proved: a (changed); no entry of the ledger changed them, so that it takes your own copy, or taking the mod in again | switch late off"},
		"files and release by the ledger": {mod: proof.Mod{Name: "bad", Release: "2", Reason: "torn"}, proved: proved, wrote: "/srv/mods/bad/a", files: []proof.FileChange{{Mod: "bad", Path: "a", What: "gone"}},
			want: "back: restore its files as they were at start 3, which was proved: a (gone) | back: go back to release 1, which start 3 proved (now it is 2) | switch user off, then switch bad off"},
		"new since the proof":            {mod: proof.Mod{Name: "early", Reason: "torn"}, proved: proved, want: "switch early off"},
		"silent":                         {mod: proof.Mod{Name: "late", Outcome: proof.Silent}, want: "start the server once more; a mod that nothing is said of then either was not loaded, as far as can be known"},
		"a setting with a value":         {mod: proof.Mod{Name: "late", Reason: "the depth, 'depth'."}, want: "look at the setting depth, which the reason names | switch late off"},
		"in the lines that go on":        {mod: proof.Mod{Name: "late", Reason: "torn", Evidence: []proof.Evidence{{More: []string{"beside", "[early]"}}}}, want: "switch early off | switch late off"},
		"the need came in time":          {mod: proof.Mod{Name: "early", Wanted: []string{"late"}}, want: "switch early off"},
		"a need that was fine":           {mod: proof.Mod{Name: "user", Wanted: []string{"bad"}}, others: []proof.Mod{{Name: "bad", Outcome: proof.Confirmed}}, want: "move bad before user | switch user off"},
		"itself and what it needs named": {mod: proof.Mod{Name: "user", Reason: "user wants bad, and off", Wanted: []string{"bad"}}, want: "move bad before user | switch user off"},
		"off already":                    {mod: proof.Mod{Name: "off", Reason: "torn"}, want: ""},
		"not registered":                 {mod: proof.Mod{Name: "there", Reason: "torn"}, want: ""},
		"with all who need it":           {mod: proof.Mod{Name: "deep", Reason: "torn"}, want: "switch deeper off, then switch deep off"},
		"many files": {mod: proof.Mod{Name: "late", Reason: "torn"}, proved: proved, wrote: "/srv/mods", files: []proof.FileChange{{Mod: "late", Path: "a", What: "changed"}, {Mod: "late", Path: "b", What: "new"},
			{Mod: "late", Path: "c", What: "gone"}, {Mod: "late", Path: "d", What: "gone"}, {Mod: "late", Path: "e", What: "gone"}},
			want: "back: restore its files as they were at start 3, which was proved: a (changed), b (new), c (gone) and 2 more | switch late off"},
		"three files": {mod: proof.Mod{Name: "late", Reason: "torn"}, proved: proved, wrote: "/srv/mods/late", files: []proof.FileChange{{Mod: "late", Path: "a", What: "changed"}, {Mod: "late", Path: "b", What: "new"},
			{Mod: "late", Path: "c", What: "gone"}}, want: "back: restore its files as they were at start 3, which was proved: a (changed), b (new), c (gone) | switch late off"},
		"beside its files": {mod: proof.Mod{Name: "late", Reason: "torn"}, proved: proved, wrote: "/srv/mods/later", files: []proof.FileChange{{Mod: "late", Path: "a", What: "changed"}},
			want: "restore its files as they were at start 3, which was proved: a (changed); no entry of the ledger changed them, so that it takes your own copy, or taking the mod in again | switch late off"},
		"another release, by hand":           {mod: proof.Mod{Name: "bad", Reason: "torn"}, proved: proved, want: "go back to release 1, which start 3 proved (now it is none): take it in again | switch user off, then switch bad off"},
		"a release that was never confirmed": {mod: proof.Mod{Name: "user", Release: "2", Reason: "torn"}, proved: &proof.Proof{Number: 3, Mods: []proof.Mod{{Name: "user", Outcome: proof.Silent, Release: "1"}}}, want: "switch user off"},
		"the evidence contradicts itself":    {mod: proof.Mod{Name: "late", Against: "line 3", Reason: "it did not load"}, want: "start it once more: the evidence contradicts itself; the log says that line 3, and it did not load | switch late off"},
		"silent, and made nothing": {mod: proof.Mod{Name: "late", Outcome: proof.Silent}, unmade: []proof.Made{{Mod: "early", Path: "e"}, {Mod: "late", Path: "stores/late"}},
			want: "start the server once more; if stores/late is not there then either, the mod does not work"},
		"unlisted, registered since": {mod: proof.Mod{Name: "late", Outcome: proof.Unlisted}},
		"unlisted, not here":         {mod: proof.Mod{Name: "nowhere", Outcome: proof.Unlisted}},
		"silent, with trouble": {now: unset, mod: proof.Mod{Name: "late", Outcome: proof.Silent, Reason: "this sounds like trouble with it: depth is not set", Evidence: []proof.Evidence{{Line: 3}}},
			want: "give the setting depth a value, above the line of late | start the server once more; a mod that nothing is said of then either was not loaded, as far as can be known | switch late off"},
		"unlisted":  {mod: proof.Mod{Name: "there", Outcome: proof.Unlisted}, want: "register there"},
		"confirmed": {mod: proof.Mod{Name: "late", Outcome: proof.Confirmed}},
	} {
		if test.mod.Outcome == "" {
			test.mod.Outcome = proof.Failed
		}
		at := now
		if test.now != nil {
			at = test.now
		}
		f := remedy.Case{Survey: at, Proof: &proof.Proof{Mods: append(test.others, test.mod), Unmade: test.unmade}, Proved: test.proved, Files: test.files}
		if test.exit {
			f.Proof.Exit, f.Proof.Reason = new(int), "it gave up"
		}
		if test.wrote != "" {
			f.Wrote = []string{test.wrote}
		}
		var words []string
		for _, r := range remedy.For(f, &test.mod) {
			s := r.Text
			if r.Back {
				s = "back: " + s
			}
			for _, c := range r.Changes {
				if _, err := at.Lineup.Apply(c); err != nil {
					t.Errorf("%s: %s cannot be done: %v", name, c, err)
				}
			}
			words = append(words, s)
		}
		insist.Same(t, fmt.Sprintf("%s:\n got", name), strings.Join(words, " | "), test.want)
	}
}

// Who needs a mod in two ways goes once; what loads because of where it is cannot be switched
// off, and what is the server's own is not; and where the order is the server's own affair
// nothing is moved.
func TestForOtherFamilies(t *testing.T) {
	const script = "use c\nuse top\nuse left\nuse right\nuse root\nuse plain\n"
	places := "[[place]]\npath = \"{dir}/always\"\nloads = \"always\"\n[[place]]\npath = \"{dir}/own\"\nloads = \"base\"\n[[registration]]"
	d, err := dialect.Parse("f.toml", []byte(strings.Replace(strings.Replace(family, "[[registration]]", places, 1), "name = \"f\"", "name = \"f\"\norder = \"server\"", 1)))
	insist.OK(t, err)
	fsys := fstest.MapFS{"srv/start": {Data: []byte(script)}}
	for path, needs := range map[string]string{"mods/top": "'left', 'right'", "mods/left": "'root'", "mods/right": "'root'", "mods/root": "", "mods/plain": "'late'", "mods/c": "'plain'", "always/late": "", "own/floor": "'root'"} {
		fsys["srv/"+path+"/about.toml"] = &fstest.MapFile{Data: []byte("name = '" + path[strings.IndexByte(path, '/')+1:] + "'\nneeds = [" + needs + "]\n")}
	}
	now := survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys})
	for name, test := range map[string]struct {
		mod  proof.Mod
		want string
	}{
		"needed in two ways":  {proof.Mod{Name: "root", Reason: "torn"}, "switch top off, then switch left off, then switch right off, then switch root off"},
		"loads always":        {proof.Mod{Name: "late", Reason: "torn"}, ""},
		"in no order":         {proof.Mod{Name: "c", Wanted: []string{"plain"}}, "switch c off"},
		"a rival of the base": {proof.Mod{Name: "c", Reason: "not beside floor, nor late, but plain"}, "switch c off, then switch plain off | switch c off"},
	} {
		test.mod.Outcome = proof.Failed
		var words []string
		for _, r := range remedy.For(remedy.Case{Survey: now, Proof: &proof.Proof{Mods: []proof.Mod{test.mod}}}, &test.mod) {
			words = append(words, r.Text)
		}
		insist.Same(t, fmt.Sprintf("%s:\n got", name), strings.Join(words, " | "), test.want)
	}
}
