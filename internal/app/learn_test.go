package app_test

import (
	"archive/zip"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/insist"
)

func zipped(t *testing.T, name, content string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	insist.OK(t, err)
	insist.OK(t, insist.Err(w.Write([]byte(content))))
	insist.OK(t, z.Close())
	return b.String()
}

// shelf is a world in which nothing but scripts can be run.
func shelf(t *testing.T, files map[string]string) (a *app.App, dir string) {
	t.Helper()
	a, dir = world(t, files)
	for name := range files {
		if !strings.HasSuffix(name, ".sh") {
			insist.OK(t, os.Chmod(filepath.Join(dir, name), 0o644))
		}
	}
	return a, dir
}

// What a look through a folder tells: the likeliest way first, with what it would count as mods.
func TestLookAround(t *testing.T) {
	five := map[string]string{"mods/gull/a": "", "mods/kelp/a": "", "mods/lamp/a": "", "mods/rope/a": ""}
	with := func(more map[string]string) map[string]string {
		all := map[string]string{"run.sh": "exec ./server\n"}
		for _, list := range []map[string]string{five, more} {
			for name, data := range list {
				all[name] = data
			}
		}
		return all
	}
	for name, test := range map[string]struct {
		files   map[string]string
		mods    []string
		startup string
		first   string // the likeliest way
		most    int    // of ways; 0 for any
	}{
		"a list of lines":          {with(map[string]string{"plan": "use gull\nuse lamp\n# use kelp\n"}), []string{"lamp"}, "", `in plan, as "line": gull, lamp, kelp, 3 of them in mods`, 0},
		"no mod is named":          {with(map[string]string{"plan": "use gull\nuse lamp\n"}), nil, "", `in plan, as "line": gull, lamp, 2 of them in mods`, 0},
		"a document":               {with(map[string]string{"cfg/mods.json": `["gull", "rope"]`}), []string{"gull"}, "", `in cfg/mods.json, as "items": gull, rope, 2 of them in mods`, 0},
		"no file names it":         {with(nil), []string{"kelp"}, "", "by being in mods: gull, kelp, lamp, rope", 1},
		"a manifest is no list":    {with(map[string]string{"mods/kelp/mod.json": `{"mods": ["kelp"]}`}), []string{"kelp"}, "", "by being in mods: gull, kelp, lamp, rope", 1},
		"the file is said":         {with(map[string]string{"plan": "use gull\nuse lamp\n", "old": "use gull\nuse lamp\nuse kelp\n"}), []string{"lamp"}, "plan", `in plan, as "line": gull, lamp, 2 of them in mods`, 1},
		"where it lies is unknown": {map[string]string{"run.sh": "", "plan": "use gull_7\nuse lamp_9\n"}, []string{"lamp_9"}, "", `in plan, as "line": gull_7, lamp_9, which were found nowhere`, 0},
		"two lists":                {with(map[string]string{"plan.ini": "[a]\nleft = gull, lamp\nright = kelp, rope\n"}), []string{"gull"}, "", `in plan.ini, as "list": gull, lamp, kelp, rope, 4 of them in mods`, 0},
		"packed, with a release":   {map[string]string{"run.sh": "", "in/gull-1.2.box": zipped(t, "box.json", `{"id": "gull"}`), "in/lamp-2.0.box": zipped(t, "box.json", `{"id": "lamp"}`)}, []string{"lamp"}, "", "by being in in: gull-1.2, lamp-2.0", 1},
		"releases in names":        {map[string]string{"run.sh": "", "plan": "use gull\nuse lamp\n", "in/gull-1.2.box": "x", "in/lamp-2.0.1.box": "x", "in/readme.txt": "x"}, []string{"lamp"}, "", `in plan, as "line": gull, lamp, 2 of them in in`, 0},
		"of folders too":           {map[string]string{"run.sh": "", "in/gull_v1/a": "x", "in/lamp_v2.0/a": "x", "in/other/a": "x"}, []string{"lamp"}, "", "by being in in: gull, lamp", 1},
		"names with signs":         {with(map[string]string{"plan": "use gull\nuse +deep\n", "mods/+deep/cave/a": ""}), []string{"gull"}, "", `in plan, as "line": gull, +deep, 2 of them in mods`, 0},
	} {
		a, dir := shelf(t, test.files)
		ways, command, err := a.LookAround(app.LearnOptions{Dir: dir, Mods: test.mods, Startup: test.startup})
		insist.OK(t, err)
		insist.Same(t, name, ways[0], test.first)
		if test.most > 0 && len(ways) > test.most {
			t.Errorf("%s: there are %d ways: %q", name, len(ways), ways)
		}
		insist.Same(t, name+": the command", strings.Join(command, " "), "{dir}/run.sh")
	}
}

func TestWhatCannotBeLearned(t *testing.T) {
	a, dir := shelf(t, map[string]string{"plan": "use gull\nuse lamp\n", "mods/gull/a": "", "mods/lamp/a": ""})
	for name, test := range map[string]struct {
		opt  app.LearnOptions
		says string
	}{
		"no program":       {app.LearnOptions{Name: "x", Dir: dir, Mods: []string{"lamp"}}, "say it with --start"},
		"no such mod":      {app.LearnOptions{Name: "x", Dir: dir, Mods: []string{"whale"}, Command: "true"}, "names whale in a way"},
		"no such folder":   {app.LearnOptions{Name: "x", Dir: filepath.Join(dir, "none"), Mods: []string{"lamp"}, Command: "true"}, "no such file"},
		"no name":          {app.LearnOptions{Name: "a b", Dir: dir, Mods: []string{"lamp"}, Command: "true"}, "a b"},
		"a torn command":   {app.LearnOptions{Name: "x", Dir: dir, Mods: []string{"lamp"}, Command: "run 'it"}, "cannot be read"},
		"no such startup":  {app.LearnOptions{Name: "x", Dir: dir, Mods: []string{"lamp"}, Command: "true", Startup: "../../etc/passwd"}, "names lamp in a way"},
		"nothing to guess": {app.LearnOptions{Name: "x", Dir: filepath.Join(dir, "mods"), Command: "true"}, "name a mod"},
	} {
		insist.Fails(t, name, insist.Err(a.Learn(context.Background(), test.opt)), test.says)
	}
	insist.OK(t, a.FreeDialect("x"))
	_, dir = shelf(t, map[string]string{"a.sh": "", "b.sh": "", "plan": "use gull\n", "mods/gull/a": ""})
	_, _, err := a.LookAround(app.LearnOptions{Dir: dir, Mods: []string{"gull"}})
	insist.Fails(t, "two scripts", err, "a.sh, b.sh of")
}
