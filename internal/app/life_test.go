package app_test

import (
	"archive/zip"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
	"initium/internal/core/rule"
	"initium/internal/golden"
	"initium/internal/insist"
)

// forge is a dialect that uses much of what the language has; its server is a script.
//
//go:embed testdata/forge.toml
var forge string

//go:embed testdata/forgeRun.sh
var forgeRun string

// life tells what happens to a server, in full.
type life struct {
	t   *testing.T
	a   *app.App
	dir string
	b   strings.Builder
}

var (
	anyMoment = regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d[0-9.]*(Z|[+-]\d\d:\d\d)`)
	anyMillis = regexp.MustCompile(`("[a-z_]*ms": )-?[0-9.e-]+`)
	anyPair   = regexp.MustCompile(`("[a-z_]*ms": \[)[^\]]*`)
	anySeal   = regexp.MustCompile(`"[0-9a-f]{24}"`)
	anyStamp  = regexp.MustCompile(`("(changed|packed)": )\d+`)
	anyLength = regexp.MustCompile(`\b\d+(\.\d+)? ?(ms|s)\b`)
	anyTrial  = regexp.MustCompile(`\b283\d\d\b`)
)

func (l *life) tell(title string, parts ...any) {
	fmt.Fprintf(&l.b, "== %s\n", title)
	for _, part := range parts {
		switch p := part.(type) {
		case nil:
			continue
		case error:
			l.line("error %T: %v", p, p)
		case string:
			l.line("%s", p)
		case *app.Look:
			l.look(p)
		case *plan.Plan:
			l.plan(p)
		default:
			data, err := json.MarshalIndent(p, "  ", "  ")
			if err != nil {
				l.t.Fatal(err)
			}
			l.line("%s", data)
		}
	}
}

func (l *life) line(format string, args ...any) {
	said := fmt.Sprintf(format, args...)
	said = strings.NewReplacer(l.a.Home.Dir, "/home/initium", l.dir, "/srv", filepath.Dir(l.dir), "/elsewhere").Replace(said)
	said = anyMoment.ReplaceAllString(said, "TIME")
	said = anyMillis.ReplaceAllString(said, "${1}0")
	said = anyPair.ReplaceAllString(said, "${1}")
	said = anyStamp.ReplaceAllString(said, "${1}0")
	said = anySeal.ReplaceAllString(said, `"SEAL"`)
	said = anyLength.ReplaceAllString(said, "N $2")
	said = anyTrial.ReplaceAllString(said, "PORT")
	fmt.Fprintf(&l.b, "  %s\n", strings.TrimSpace(said))
}

func (l *life) look(look *app.Look) {
	if look == nil {
		l.line("no look")
		return
	}
	s := look.Survey
	for i := range s.Mods {
		m := &s.Mods[i]
		l.line("mod %s %s: registered %v, listed %v, on %v, position %d, at %s", m.Name, m.Release, m.Registered, m.Listed, m.On, m.Position, m.Path)
	}
	for _, set := range s.Lineup.Settings {
		l.line("setting %s", set.Name)
	}
	for _, f := range look.Findings {
		l.line("%s %s %s %s:%d:%d: %s | %s | %s %v", f.Severity, f.Code, f.Mod, f.File, f.Line, f.Column, f.Message, f.Remedy, f.Accepted, f.Changes)
	}
	if look.Forecast != nil {
		for _, m := range look.Forecast.Mods {
			l.line("foretold %s: %s because %s (%s %s)", m.Name, m.Outcome, m.Because, m.Cause, m.Of)
		}
		l.line("order %v, stops %q", look.Forecast.Order, look.Forecast.Stops)
	}
	l.line("repair %s, running %v, staged %v, problem %q", look.Repair.String(), look.Running, look.Staged, look.Problem)
}

func (l *life) plan(p *plan.Plan) {
	if p == nil {
		l.line("no plan")
		return
	}
	for _, f := range p.Files {
		l.line("file %s: %q becomes %q", f.Path, f.Old, f.Want)
	}
	for i := range p.Parts {
		l.line("part %s %s: %s", p.Parts[i].Title(), p.Parts[i].Path, p.Parts[i].String())
	}
	l.line("changes %v, rules %v, parked %v, unparked %v", p.Changes, p.Rules, p.Parked, p.Unpark)
}

// packed writes a zip archive outside the server's folder.
func (l *life) packed(name string, files ...string) string {
	l.t.Helper()
	full := filepath.Join(filepath.Dir(l.dir), name)
	f, err := os.Create(full)
	if err != nil {
		l.t.Fatal(err)
	}
	w := zip.NewWriter(f)
	for _, file := range files {
		path, data, _ := strings.Cut(file, ": ")
		entry, err := w.CreateHeader(&zip.FileHeader{Name: path, Modified: time.Date(2001, 2, 3, 4, 5, 6, 0, time.UTC)})
		if err == nil {
			_, err = entry.Write([]byte(data))
		}
		if err != nil {
			l.t.Fatal(err)
		}
	}
	if err := errors.Join(w.Close(), f.Close()); err != nil {
		l.t.Fatal(err)
	}
	return full
}

// TestLifeOfAServer adopts a server, changes it, starts it and looks at it in every way there
// is, and holds all that is said of it to what was read through once.
func TestLifeOfAServer(t *testing.T) {
	t.Setenv("TZ", "UTC")
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	a, dir := world(t, map[string]string{
		"forge.list": "set port 21987\nset motto Iron\nset password hunter2hunter2\nuse tongs\nuse anvil\n# use bellows\nuse ghost\n",
		"run.sh":     forgeRun, "VERSION": "Forge 1.4\n", "world/room": "1",
		"mods/anvil/mod.toml":   "name='anvil'\nrelease='1.0'\nmade_for='>=1.2'",
		"mods/tongs/mod.toml":   "name='tongs'\nrelease='0.9'\nneeds=['anvil']\nmade_for='<1.2'",
		"mods/bellows/mod.toml": "name='bellows'\nnever=['anvil']",
		"mods/glow/mod.toml":    "name='glow'\nside='client'\nneeds=['nowhere']",
		"mods/junk/readme":      "",
		"plugs/soot/mod.toml":   "name='soot'\nwishes=['anvil']",
		"out/list":              "",
	})
	put(t, filepath.Join(a.Home.DialectDir(), "forge.toml"), forge)
	exe, err := os.Executable()
	insist.OK(t, err)
	a.Exe = exe
	l := &life{t: t, a: a, dir: dir}
	ctx := t.Context()
	t.Cleanup(func() { a.StopAll(func(name string) { a.Stop(ctx, name) }) })
	looked := func(title string) {
		look, err := a.LookAhead("f")
		l.tell(title, look, err)
	}
	changed := func(title string, changes ...lineup.Change) {
		p, err := a.Change(ctx, "f", nil, changes...)
		l.tell(title, p, err)
	}
	proved := func(title string, opt app.ProveOptions) {
		p, err := a.Prove(ctx, "f", opt)
		l.tell(title, p, err)
		if p != nil && p.Number > 0 {
			expected, err := a.Home.Start("f", p.Number).Expected()
			l.tell("it was judged by", expected, err)
			inventory, err := a.Home.Start("f", p.Number).Inventory()
			l.tell("it was started with", inventory, err)
		}
	}

	// As it is found.
	r, err := a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "f"})
	l.tell("adopted", r, err)
	looked("as it is found")
	list, err := a.Servers()
	for i := range list {
		words, fine := list[i].StateWords()
		l.tell("of all servers", fmt.Sprintf("%s %s %s %s: running %v, changed %v, registered %d, errors %d, %q; %s %v", list[i].Name, list[i].Dialect, list[i].Dir, list[i].Port, list[i].Running, list[i].Changed, list[i].Registered, list[i].Errors, list[i].Problem, words, fine), err)
	}
	last, before, err := a.LastStart("f")
	l.tell("its last start", last, before, err)
	fields, err := a.PasteSheet("f")
	l.tell("to paste", fields, err)

	// What does not make sense is refused, each in its words.
	refused := func(title string, changes ...lineup.Change) {
		p, err := a.Stage(ctx, "f", changes...)
		l.tell("refused: "+title, p, err)
	}
	refused("a mod that is not there", lineup.Change{Op: lineup.OpRegister, Mod: "nowhere"})
	refused("a mod with other capitals", lineup.Change{Op: lineup.OpRegister, Mod: "Anvil"})
	refused("registered twice", lineup.Change{Op: lineup.OpRegister, Mod: "anvil"})
	refused("off, and not registered", lineup.Change{Op: lineup.OpOff, Mod: "soot"})
	refused("moved behind itself", lineup.Change{Op: lineup.OpMove, Mod: "anvil", Where: lineup.Where{After: "anvil"}})
	refused("a source that is not there", lineup.Change{Op: lineup.OpTake, Source: filepath.Join(dir, "none.zip")})
	refused("removed, and others need it", lineup.Change{Op: lineup.OpRemove, Mod: "anvil"})
	refused("a backup that is not there", lineup.Change{Op: lineup.OpRestore, Source: "none"})

	// A first start fails: one mod is registered and not there, one needs another release.
	proved("a first start", app.ProveOptions{})
	mend := func(title string) {
		verdict, remedies := "", map[string][]remedy.Remedy{}
		mends, err := a.RemediesOf("f")
		if mends != nil {
			verdict, remedies = string(mends.Last.Verdict), mends.ByMod
		}
		l.tell(title, verdict, remedies, err)
	}
	mend("what would mend it")
	_, err = a.Report(ctx, "f", 0)
	l.tell("reported", err)

	// What may be accepted, and rules.
	accepted, err := a.Accept("f", "made-for-another", "tongs", "it works all the same")
	l.tell("accepted", accepted, err)
	_, err = a.Accept("f", "made-for-another", "anvil", "no")
	l.tell("accepted: what is not said", err)
	_, err = a.Accept("f", "nothing", "", "no")
	l.tell("accepted: what there is not", err)
	l.tell("accepted no more", a.Unaccept("f", "made-for-another", "tongs"), a.Unaccept("f", "made-for-another", "tongs"), a.Unaccept("f", "nothing", ""))
	for _, r := range []rule.Rule{
		{Kind: rule.Before, Mod: "anvil", Other: "tongs", Because: "it is hot"},
		{Kind: rule.Needs, Mod: "bellows", Other: "leather", Because: "of the bags"},
		{Kind: rule.Before, Mod: "anvil", Other: "nowhere"}, {Kind: rule.Before, Mod: "nobody", Other: "anvil"}, {Kind: rule.Before, Mod: "anvil", Other: "anvil"},
	} {
		l.tell(fmt.Sprintf("rule %+v", r), a.PutRule("f", r))
	}
	rules, err := a.Rules("f")
	l.tell("rules", rules, err)
	looked("with rules")

	// Things come in.
	zip := l.packed("hammer.zip", "hammer/mod.toml: name='hammer'\nrelease='2'\nneeds=['anvil','nowhere']\nmade_for='>=1'", "hammer/x: x", "cellar.plan: deep", "readme.txt: r")
	inside, err := a.Inspect(ctx, zip, "f", lineup.Choices{}, nil)
	insist.OK(t, err)
	l.tell("looked into", inside.Plan, fmt.Sprintf("%s %v %q: also %v, lacking %v, aged %v", inside.Source, inside.Form, inside.Called, inside.Also, inside.Lacking, inside.Aged), inside.Comes, inside.Mended)
	family, err := a.Inspect(ctx, zip, "", lineup.Choices{}, nil)
	l.tell("looked into for any family", fmt.Sprintf("%s, also %v", family.Found.Dialect.Name, family.Also), err)
	second := l.packed("spark.zip", "spark/mod.toml: name='spark'\nneeds=['hammer']", "cellar.plan: deeper")
	other, err := a.Inspect(ctx, second, "f", lineup.Choices{}, nil)
	l.tell("looked into another", other.Plan, err)
	shared, err := a.Overlaps("f", []*app.Inspection{inside, other})
	l.tell("what both bring", shared, err)
	nothing := l.packed("nothing.zip", "a/b.txt: nothing")
	_, err = a.TakeAll(ctx, "f", []string{nothing}, lineup.Choices{}, lineup.Where{}, nil)
	l.tell("nothing in it", err)
	_, err = a.TakeAll(ctx, "f", nil, lineup.Choices{}, lineup.Where{}, nil)
	l.tell("no source", err)
	_, err = a.TakeAll(ctx, "f", []string{zip, second}, lineup.Choices{}, lineup.Where{}, nil)
	l.tell("two that bring the same", err)
	changes, err := a.TakeAll(ctx, "f", []string{zip, second}, lineup.Choices{Take: []string{"plans/cellar.plan"}}, lineup.Where{}, nil)
	l.tell("both, the second's taken", fmt.Sprint(changes), err)
	changes, err = a.TakeAll(ctx, "f", []string{zip}, lineup.Choices{}, lineup.Where{Before: "tongs"}, nil)
	l.tell("one", fmt.Sprint(changes), err)
	p, err := a.Stage(ctx, "f", changes...)
	l.tell("staged", p, err)
	p, err = a.Stage(ctx, "f", lineup.Change{Op: lineup.OpOff, Mod: "ghost"}, lineup.Change{Op: lineup.OpMove, Mod: "anvil", Where: lineup.Where{Before: "tongs"}})
	l.tell("staged more", p, err)
	looked("with what is staged")
	fields, err = a.PasteSheet("f")
	l.tell("to paste then", fields, err)
	l.tell("the last forgotten", a.Unstage("f", false))
	looked("with one less")
	p, err = a.Change(ctx, "f", nil)
	l.tell("what is staged, carried out", p, err)
	p, err = a.Change(ctx, "f", nil)
	l.tell("nothing staged, carried out", p, err)
	changed("no file for it yet", lineup.Change{Op: lineup.OpRegister, Mod: "glow"})
	put(t, filepath.Join(dir, "side.list"), "")
	changed("carried out", lineup.Change{Op: lineup.OpUnregister, Mod: "ghost"}, lineup.Change{Op: lineup.OpRegister, Mod: "glow"}, lineup.Change{Op: lineup.OpOn, Mod: "bellows"})
	looked("after that")
	removal, err := a.Removal(ctx, "f", "hammer", lineup.Choices{})
	l.tell("what removing comes to", fmt.Sprintf("%v %v %v %q %q %d parts", removal.Dependents, removal.Changes, removal.Left, removal.World, removal.Problems, len(removal.Parts)), err)

	// Starts: one that fails by a mod, one that stays silent, one that is stuck, one that stops.
	put(t, filepath.Join(dir, "mods/hammer/say"), "echo 'out hammer: no handle, its secret hunter2hunter2'\n")
	put(t, filepath.Join(dir, "mods/tongs/say"), ":\n")
	put(t, filepath.Join(dir, "mods/bellows/say"), "mkdir -p out/bellows\n")
	proved("a start with a mod that fails and one that is silent", app.ProveOptions{})
	mend("what would mend that")
	put(t, filepath.Join(dir, "mods/hammer/say"), "echo 'hammer wants nails, anvil'\n")
	os.Remove(filepath.Join(dir, "mods/tongs/say"))
	proved("a start with a mod that wants others", app.ProveOptions{})
	written, err := a.NeedsFromLog("f")
	l.tell("needs from the log", written, err)
	written, err = a.NeedsFromLog("f")
	l.tell("needs from the log, again", written, err)
	put(t, filepath.Join(dir, "mods/hammer/say"), "echo 'gave up: hammer fell'; exit 4\n")
	proved("a start that stops", app.ProveOptions{})
	mend("what would mend the stop")
	os.Remove(filepath.Join(dir, "mods/hammer/say"))
	put(t, filepath.Join(dir, "stuck"), "")
	proved("a start that is stuck", app.ProveOptions{Within: 8 * time.Second})
	os.Remove(filepath.Join(dir, "stuck"))

	// All is well.
	changed("all is made well", lineup.Change{Op: lineup.OpMove, Mod: "anvil", Where: lineup.Where{Before: "tongs"}}, lineup.Change{Op: lineup.OpSet, Mod: "motto", To: "Coal", Registration: "list"}, lineup.Change{Op: lineup.OpOff, Mod: "glow"})
	os.Remove(filepath.Join(dir, "mods/bellows/say"))
	proved("a start that is proved", app.ProveOptions{Keep: app.KeepProved})
	changed("a held file", lineup.Change{Op: lineup.OpOff, Mod: "tongs"})
	changed("files under it", lineup.Change{Op: lineup.OpRemove, Mod: "hammer", Choices: &lineup.Choices{Agree: true}})
	looked("while it runs")
	said, err := a.Say(ctx, "f", "what")
	l.tell("said", said, err)
	said, err = a.Say(ctx, "f", " ")
	l.tell("nothing said", said, err)
	for _, do := range []app.Switch{app.SwitchReload, app.SwitchUnload, app.SwitchLoad} {
		for _, mod := range []string{"tongs", "nowhere"} {
			m, err := a.SwitchMod(ctx, "f", mod, do)
			l.tell(string(do)+" "+mod, m, err)
		}
	}
	_, err = a.Backup(ctx, "f", "", nil)
	l.tell("a backup while it runs", err)
	_, err = a.FindCulprits(ctx, "f", app.CulpritOptions{Symptom: "("})
	l.tell("a symptom that is no pattern", err)
	exit, err := a.Stop(ctx, "f")
	l.tell("stopped", exit.How, err)
	_, err = a.Stop(ctx, "f")
	l.tell("stopped again", err)
	_, err = a.Say(ctx, "f", "what")
	l.tell("said to nobody", err)
	mend("nothing to mend")

	// Something is written since, by Initium and by hand, and the next start fails.
	backup, err := a.Backup(ctx, "f", "before the change", nil)
	l.tell("a backup", fmt.Sprint(backup.Number, backup.Why, backup.Files, backup.Bytes, backup.Roots), err)
	changed("a change after the proof", lineup.Change{Op: lineup.OpSet, Mod: "motto", To: "Cold", Registration: "list"}, lineup.Change{Op: lineup.OpRemove, Mod: "glow", Choices: &lineup.Choices{Leavings: true}})
	put(t, filepath.Join(dir, "mods/tongs/say"), "echo 'out tongs: bent'\n")
	put(t, filepath.Join(dir, "world/room"), "22")
	proved("a start after it", app.ProveOptions{})
	mend("what would mend that one")
	comparison, err := a.Compare(ctx, "f", 0, 0)
	l.tell("compared", comparison, err)
	for _, two := range [][2]int{{1, 2}, {5, 1}, {99, 0}, {0, 99}} {
		comparison, err := a.Compare(ctx, "f", two[0], two[1])
		l.tell(fmt.Sprint("compared ", two), comparison, err)
	}
	report, err := a.Report(ctx, "f", 0)
	l.tell("reported in full", report, err)
	list, err = a.Servers()
	for i := range list {
		words, fine := list[i].StateWords()
		l.tell("of all servers", fmt.Sprintf("%s: running %v, changed %v, registered %d, errors %d, %q; %s %v, last %d, proved %d", list[i].Name, list[i].Running, list[i].Changed, list[i].Registered, list[i].Errors, list[i].Problem, words, fine, list[i].Last.Number, list[i].Proved.Number), err)
	}
	// And back.
	for _, to := range []int{app.ReturnLast, app.ReturnProved, 0, 1, 99} {
		p, why, err := a.ReturnPlan("f", to)
		l.tell(fmt.Sprint("going back to ", to), p, why, err)
	}
	p, why, err := a.ReturnPlan("f", app.ReturnProved)
	if err == nil {
		err = a.Return(ctx, "f", p, why)
	}
	l.tell("gone back", err)
	if p, why, err = a.ReturnPlan("f", app.ReturnProved); err == nil {
		err = a.Return(ctx, "f", p, why)
	}
	l.tell("gone back again", err)
	restore, err := a.RestoreChange("f", 0)
	l.tell("the world as it was", fmt.Sprint(restore.Op, restore.Mod), err)
	changed("restored", restore)
	_, err = a.RestoreChange("f", 7)
	l.tell("a backup that there is not", err)
	entries, err := a.Ledger("f")
	l.tell("the ledger", entries, err)
	freed, err := a.Forget("f", 2)
	l.tell("forgotten", freed > 0, err)
	looked("at last")
	for _, number := range []int{0, 1, 99} {
		for _, opt := range []app.LogOptions{{}, {Mod: "tongs"}, {Trouble: true}} {
			opt.Start = number
			var lines []string
			err := a.Log(ctx, "f", opt, func(line proof.Line) {
				lines = append(lines, fmt.Sprint(line.Number, line.Means, line.Mods, line.Text))
			})
			l.tell(fmt.Sprintf("log %+v", opt), strings.Join(lines, " | "), err)
		}
	}
	l.tell("a field", a.PutField("f", "Main list", "use anvil\r\n\r\n"), a.PutField("f", "Other", "x"))
	looked("after the field")

	// Of what is not there nothing can be done, and it is said.
	_, err = a.Look("none")
	l.tell("none: look", err)
	_, err = a.Prove(ctx, "none", app.ProveOptions{})
	l.tell("none: prove", err)
	_, err = a.Backups("none")
	l.tell("none: backups", err)
	_, err = a.Ledger("none")
	l.tell("none: ledger", err)
	_, err = a.DrawTimes("none")
	l.tell("none: draw", err)
	_, err = a.FindCulprits(ctx, "none", app.CulpritOptions{})
	l.tell("none: culprits", err)
	golden.Check(t, "life.txt", l.b.String())
}
