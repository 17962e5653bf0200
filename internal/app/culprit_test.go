package app_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/host"
	"initium/internal/insist"
)

// bakery is a server that loads what its list names, and does with each mod what a file
// in the mod's folder says.
func bakery(t *testing.T, mods ...string) (*app.App, string) {
	t.Helper()
	a, dir := running(t, `while read -r word mod; do
  [ "$word" = bake ] || continue
  [ -f mods/$mod/say ] && . mods/$mod/say
  echo "in $mod"
done <oven.list
echo hot
`+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.Replace(string(data), `patience = "5s"`, `patience = "300ms"`, 1)+"[[log.rule]]\nmeans = \"stopped\"\nline = \"gave up: {reason}\"\n[[log.rule]]\nmeans = \"failed\"\nline = \"out {mod}: {reason}\"\n")
	list := ""
	for _, m := range mods {
		name, say, _ := strings.Cut(m, ": ")
		list += "bake " + name + "\n"
		put(t, filepath.Join(dir, "mods", name, "x"), "")
		if say != "" {
			put(t, filepath.Join(dir, "mods", name, "say"), say+"\n")
		}
	}
	put(t, filepath.Join(dir, "oven.list"), list)
	return a, dir
}

// Of two mods that stop a server, each in a way of its own, the one is found whose way the
// first start shows; that there is another cause too is said.
func TestCulpritOfTwoKinds(t *testing.T) {
	a, dir := bakery(t, "a", "b: echo \"gave up: b sank in $(pwd)/mods/b after 12 s\"; exit 3", "c", "d: echo 'gave up: d burnt'; exit 3", "e")
	before, err := os.ReadFile(filepath.Join(dir, "oven.list"))
	insist.OK(t, err)
	left, _, err := a.Home.Prepare(host.Spec{Server: "k" + host.TrialSuffix, Command: []string{"/bin/sleep", "60"}, Dir: dir, Patience: time.Second})
	insist.OK(t, err)
	insist.OK(t, left.Launch(a.Exe))
	running, err := left.Running()
	insist.OK(t, err)
	var said []string
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{OnTry: func(s app.Tried) {
		if s.Done {
			said = append(said, fmt.Sprint(len(s.On), " of ", s.Of, " ", s.Failed, " ", s.Known, " ", s.Said))
		}
	}})
	insist.That(t, err == nil && slices.Equal(found.Culprits, []string{"b"}) && !found.Cured && found.Sure && found.Problem == "", "found %+v, %v", found, err)
	insist.That(t, strings.Contains(found.Reason, "b sank in "+dir+"/mods/b") && strings.Contains(found.Symptom, "b sank"), "because %q, of the symptom %q", found.Reason, found.Symptom)
	insist.That(t, len(found.Changes) == 1 && found.Changes[0].Op == lineup.OpOff && found.Changes[0].Mod == "b", "the remedy is %v", found.Changes)
	insist.That(t, len(said) == found.Starts && strings.HasPrefix(said[0], "5 of 5 true false the server stopped before it was ready, with exit status 3: b sank"), "the starts: %q", said)
	if after, err := os.ReadFile(filepath.Join(dir, "oven.list")); err != nil || string(after) != string(before) {
		t.Errorf("the server's own list is %q, %v", after, err)
	}
	// The copy that an earlier search had left running does not run on.
	if _, err := os.Stat(fmt.Sprintf("/proc/%d", running.Server)); err == nil {
		t.Error("what an earlier search had left still runs")
	}
	if names, err := a.Home.Servers(); err != nil || len(names) != 1 {
		t.Errorf("servers %v, %v", names, err)
	}
}

// A search that was stopped goes on with what it has learned, unless the mods are other
// ones by then, or all is to be learned anew; a start that was given up counts as nothing.
func TestCulpritRemembers(t *testing.T) {
	insist.Long(t)
	mods := []string{"a", "b: echo 'gave up: sunk'; exit 3", "c", "d", "e", "f"}
	search := func(a *app.App, opt app.CulpritOptions, stopAfter int) (found *app.Culprits, known, made int, err error) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		opt.OnTry = func(s app.Tried) {
			switch {
			case s.Known:
				known++
			case s.Done:
				made++
			case made == stopAfter: // in the middle of a start
				cancel()
			}
		}
		found, err = a.FindCulprits(ctx, "k", opt)
		return found, known, made, err
	}
	a, dir := bakery(t, mods...)
	if _, _, made, err := search(a, app.CulpritOptions{}, 3); !errors.Is(err, context.Canceled) || made != 3 {
		t.Fatalf("stopped after %d starts: %v", made, err)
	}
	if memory, err := a.Home.Learned("k"); err != nil || len(memory.Starts) != 3 {
		t.Fatalf("%d starts are remembered, %v", len(memory.Starts), err)
	}
	if _, known, _, err := search(a, app.CulpritOptions{Anew: true}, 1); !errors.Is(err, context.Canceled) || known != 0 {
		t.Errorf("anew, %d starts are known: %v", known, err)
	}
	if _, known, _, err := search(a, app.CulpritOptions{}, 1); !errors.Is(err, context.Canceled) || known == 0 {
		t.Errorf("again, %d starts are known: %v", known, err)
	}
	// Another symptom is another search.
	if _, known, _, err := search(a, app.CulpritOptions{Symptom: "sunk"}, 0); !errors.Is(err, context.Canceled) || known != 0 {
		t.Errorf("for another symptom %d starts are known: %v", known, err)
	}
	if _, _, _, err := search(a, app.CulpritOptions{}, 4); !errors.Is(err, context.Canceled) {
		t.Fatal(err)
	}
	// It was another mod's fault meanwhile: nothing that was learned holds.
	insist.OK(t, os.Rename(filepath.Join(dir, "mods/b/say"), filepath.Join(dir, "mods/e/say")))
	found, known, _, err := search(a, app.CulpritOptions{}, -1)
	insist.That(t, err == nil && slices.Equal(found.Culprits, []string{"e"}) && known == 0 && found.Cured, "after the mods have changed: %+v, %d known, %v", found, known, err)
	if _, err := a.Home.Learned("k"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what a search has learned stays after its end: %v", err)
	}
}

// What is looked for may be a line that the server goes on after, a mod that fails, or a
// server that never comes up; and a server without a fault has no culprit.
func TestCulpritSymptoms(t *testing.T) {
	insist.Long(t)
	for name, test := range map[string]struct {
		mods    []string
		opt     app.CulpritOptions
		want    string
		problem string
	}{
		"a line":              {[]string{"a", "b: echo 'the bread smells'", "c"}, app.CulpritOptions{Symptom: "smells$"}, "b", ""},
		"a mod that fails":    {[]string{"a", "b: echo 'out c: no flour'", "c"}, app.CulpritOptions{}, "b", ""},
		"never up":            {[]string{"a", "b: sleep 60", "c"}, app.CulpritOptions{Within: 700 * time.Millisecond}, "b", ""},
		"no fault":            {[]string{"a", "b"}, app.CulpritOptions{}, "", "did not fail"},
		"without any mod too": {[]string{"a: :", "b"}, app.CulpritOptions{Symptom: "hot"}, "", "without any"},
	} {
		a, _ := bakery(t, test.mods...)
		found, err := a.FindCulprits(t.Context(), "k", test.opt)
		insist.That(t, err == nil && strings.Join(found.Culprits, " ") == test.want && strings.Contains(found.Problem, test.problem) && (test.problem == "") == (found.Problem == ""), "%s: %+v, %v", name, found, err)
		if name == "a line" && (!strings.HasPrefix(found.Reason, "line ") || !strings.HasSuffix(found.Reason, ` of its log says "the bread smells"`)) {
			t.Errorf("%s: the reason is %q", name, found.Reason)
		}
		a.StopAll(func(name string) { a.Stop(context.Background(), name) })
	}
	a, _ := bakery(t)
	var usage app.UsageError
	if _, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{}); !errors.As(err, &usage) {
		t.Errorf("without mods: %v", err)
	}
}

// A startup file that lies outside the server's folder is shared with the copy, and is only
// read.
func TestCulpritOutside(t *testing.T) {
	a, dir := bakery(t, "a", "b: echo 'gave up: sunk'; exit 3")
	outside := filepath.Join(filepath.Dir(dir), "outside.list")
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.Replace(string(data), "{dir}/oven.list", outside, 1))
	const list = "# mine\nbake a\nbake b\n"
	put(t, outside, list)
	_, err = a.FindCulprits(t.Context(), "k", app.CulpritOptions{OnTry: func(app.Tried) {
		if got, _ := os.ReadFile(outside); string(got) != list {
			t.Errorf("meanwhile the file outside is %q", got)
		}
	}})
	if got, _ := os.ReadFile(outside); string(got) != list {
		t.Errorf("afterwards the file outside is %q, %v", got, err)
	}
}

// Of two faults that both stop a server, the one counts that the first start shows, though the
// other shows as soon as that one is gone. Where a line cannot be switched off in its place,
// to take it out is the cure.
func TestCulpritOfTheFirstFault(t *testing.T) {
	insist.Long(t)
	a, dir := bakery(t, "a: (sleep 0.2; echo 'gave up: a burnt'; kill -9 $$) &", "b: echo 'gave up: b sank'; exit 3")
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.NewReplacer("[[registration]]", "[[place]]\npath = \"{dir}/own\"\nloads = \"base\"\n[[registration]]", "comment = \"#\"\n", "").Replace(string(data)))
	put(t, filepath.Join(dir, "own", "floor", "x"), "")
	list, err := os.ReadFile(filepath.Join(dir, "oven.list"))
	insist.OK(t, err)
	put(t, filepath.Join(dir, "oven.list"), "bake floor\n"+string(list))
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{Stay: time.Second, OnTry: func(s app.Tried) {
		insist.Same(t, "", s.Of, 2)
	}})
	insist.That(t, err == nil && slices.Equal(found.Culprits, []string{"b"}) && found.Sure && !found.Cured && len(found.Changes) == 1 && found.Changes[0].Op == lineup.OpUnregister, "found %+v, %v", found, err)
}

// Where mods load because they are there, they are taken out of the copy's folder.
func TestCulpritByPresence(t *testing.T) {
	insist.Long(t)
	a, dir := running(t, "for mod in mods/*; do [ -f $mod/bad ] && { echo \"gave up: $mod sank\"; exit 3; }; echo \"in ${mod#mods/}\"; done; echo hot\n"+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.NewReplacer("file = \"{dir}/oven.list\"\nshape = \"line\"\ncomment = \"#\"\nline = \"bake {mod}\"", "file = \"{dir}/mods\"\nshape = \"presence\"\nat = \"{mod}\"\naside = \"{mod}.off\"").Replace(string(data))+
		"[[log.rule]]\nmeans = \"stopped\"\nline = \"gave up: {reason}\"\n")
	put(t, filepath.Join(dir, "mods", "b", "bad"), "")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
	insist.That(t, err == nil && slices.Equal(found.Culprits, []string{"b"}) && found.Cured && len(found.Changes) == 1 && found.Changes[0].Op == lineup.OpOff, "found %+v, %v", found, err)
	insist.OK(t, insist.Err(os.Stat(filepath.Join(dir, "mods", "b", "bad"))))
}

// On a server whose mods stand in a list, where none can be switched off in its place, mods
// are taken out of the copy's list; the server's own stays as it is.
func TestCulpritInAList(t *testing.T) {
	insist.Long(t)
	a, dir := running(t, `for mod in $(sed -n 's/^mods=//p' oven.list | tr ';' ' '); do
  [ -f mods/$mod/say ] && . mods/$mod/say
  echo "in $mod"
done
echo hot
`+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.NewReplacer("shape = \"line\"\ncomment = \"#\"\nline = \"bake {mod}\"\n", "shape = \"list\"\nformat = \"key-value\"\nat = \"mods\"\nseparator = \";\"\n", `patience = "5s"`, `patience = "300ms"`).Replace(string(data))+
		"[[log.rule]]\nmeans = \"stopped\"\nline = \"gave up: {reason}\"\n")
	const list = "heat=9\nmods=a;b;c;d\n"
	put(t, filepath.Join(dir, "oven.list"), list)
	for _, name := range []string{"a", "b", "c", "d"} {
		put(t, filepath.Join(dir, "mods", name, "x"), "")
	}
	put(t, filepath.Join(dir, "mods", "c", "say"), "echo 'gave up: c sank'; exit 3\n")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
	if err != nil || !slices.Equal(found.Culprits, []string{"c"}) || !found.Cured || !found.Sure || !strings.Contains(found.Reason, "c sank") || found.Changes[0].Op != lineup.OpOff {
		t.Errorf("found %+v, %v", found, err)
	}
	if after, err := os.ReadFile(filepath.Join(dir, "oven.list")); err != nil || string(after) != list {
		t.Errorf("the server's own list is %q, %v", after, err)
	}
}
