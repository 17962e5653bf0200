package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// millDialect is a family whose builds lie side by side, which runs on wheels of which several are installed, and whose
// mods are made for some of them.
const millDialect = `
name = "mill"
title = "Mill"
order = "listed"
[recognise]
files = ["start.sh", "mods"]
[[part]]
of    = "server"
name  = "build"
about = "the mill"
path  = ["{dir}/builds/{version}"]
mark  = ["mill"]
[[part]]
of    = "runtime"
name  = "wheel"
about = "the wheel"
path  = ["{dir}/wheels/wheel-{version}/wheel"]
[[part]]
of    = "loader"
name  = "grist"
about = "the grist"
path  = ["{dir}"]
mark  = ["grist/version", "hopper"]
[[place]]
path = "{dir}/mods"
mark = ["mod.toml"]
[[manifest]]
file    = "mod.toml"
format  = "toml"
name    = "name"
server  = "for"
loader  = "with"
runtime = "on"
[[registration]]
name   = "start script"
file   = "{dir}/start.sh"
format = "shell"
shape  = "list"
at     = "-grind={list}"
separator = ","
[[build]]
of      = "server"
about   = "the mill"
command = ["{build}/mill", "--version"]
line    = "mill {version}"
[[build]]
of      = "runtime"
about   = "the wheel"
command = ["{wheel}", "--version"]
line    = "wheel {version}"
wants   = ">=2"
[[build]]
of      = "loader"
about   = "the grist"
file    = "{dir}/grist/version"
[load]
misfit = "fails"
[start]
directory = "{dir}"
command   = ["/bin/sh", "{dir}/start.sh"]
env       = { WHEEL = "{wheel}" }
within    = "20s"
settle    = "100ms"
[stop]
signal   = "TERM"
patience = "5s"
[[log.rule]]
means = "ready"
line  = "grinding"
[[log.rule]]
means = "loaded"
line  = "has {mod}"
[[log.rule]]
means = "failed"
line  = "cannot take {mod}: {reason}"
[[log.rule]]
means = "stopped"
line  = "stands still: {reason}"
`

// millProgram is a build: it runs on a wheel, with grist or without, and takes mods that are made for all of it.
const millProgram = `#!/bin/sh
if [ "$1" = --version ]; then echo "mill %[1]s"; exit 0; fi
wheel=$("$WHEEL" --version) || exit 3
wheel=${wheel#wheel }
if [ "${wheel%%%%.*}" -lt 2 ]; then echo "stands still: the wheel is $wheel, and 2 is needed"; exit 4; fi
grist=$(cat grist/version 2>/dev/null || echo 0)
for mod in $(echo "${1#-grind=}" | tr , ' '); do
  for want in "for:%[1]s" "on:$wheel" "with:$grist"; do
    needs=$(sed -n "s/^${want%%%%:*} *= *'>=\(.*\)'/\1/p" "mods/$mod/mod.toml")
    if [ -n "$needs" ] && [ "$(printf '%%s\n%%s\n' "$needs" "${want#*:}" | sort -V | head -n 1)" != "$needs" ]; then echo "cannot take $mod: wants ${want%%%%:*} $needs"; continue 2; fi
  done
  echo "has $mod"
done
echo grinding
trap 'exit 0' TERM
while :; do sleep 0.1; done
`

// newMill is an adopted mill with builds, wheels and mods.
func newMill(t *testing.T) (o *operator, dir string) {
	o = newOperator(t)
	dir = filepath.Join(t.TempDir(), "a mill")
	for _, v := range []string{"1.9", "1.10", "2.0"} {
		executable(t, filepath.Join(dir, "builds", v, "mill"), fmt.Sprintf(millProgram, v))
	}
	for _, v := range []string{"1.5", "2.1", "3.0"} {
		executable(t, filepath.Join(dir, "wheels/wheel-"+v+"/wheel"), "#!/bin/sh\necho wheel "+v+"\n")
	}
	for name, wants := range map[string]string{"rye": "", "oats": "for = '>=1.10'\n", "malt": "on = '>=3'\n", "wheat": "for = '>=2'\non = '>=2.1'\n", "spelt": "with = '>=1'\n", "barley": "for = '>=1.10'\nwith = '>=2'\n"} {
		write(t, filepath.Join(dir, "mods", name, "mod.toml"), fmt.Sprintf("name = %q\n%s", name, wants))
	}
	executable(t, filepath.Join(dir, "start.sh"), "#!/bin/sh\n# since builds/1.9 it runs by itself\ncd \"$(dirname \"$0\")\" || exit 1\nexec ./builds/1.10/mill \"-grind=rye,oats,malt,wheat,spelt,barley\"\n")
	file := filepath.Join(t.TempDir(), "mill.toml")
	write(t, file, millDialect)
	o.do(0, "dialect", "add", file)
	o.do(0, "adopt", dir, "--as", "mill", "--dialect", "mill")
	return o, dir
}

func executable(t *testing.T, name, script string) {
	t.Helper()
	write(t, name, script)
	insist.OK(t, os.Chmod(name, 0o755))
}

type buildJSON struct {
	Part, Version, Path, Problem, Wants string
	Used                                bool
	Said                                string            `json:"said_by"`
	Unfit                               map[string]string `json:"unfit"`
}

func TestBuildsSideBySide(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	var list []buildJSON
	o.json(0, &list, "builds", "mill", "--json")
	said := ""
	for _, b := range list {
		said += fmt.Sprintf("%s %s %v %s %v %s\n", b.Part, b.Version, b.Used, b.Said, b.Unfit, b.Wants)
	}
	insist.Same(t, "what there is", said, `build 1.9 false  map[barley:>=1.10 oats:>=1.10 wheat:>=2] 
build 1.10 true start.sh map[wheat:>=2] 
build 2.0 false  map[] 
wheel 1.5 false  map[malt:>=3 wheat:>=2.1] >=2
wheel 2.1 false  map[malt:>=3] 
wheel 3.0 true  map[] 
grist  false  map[barley:>=2 spelt:>=1] 
`)
	script := contents(t, filepath.Join(dir, "start.sh"))
	said = o.do(0, "use", "mill", "1.9", "--show")
	insist.Holds(t, "foretold", said, ">   ./builds/1.9/mill", "then: error: oats")
	insist.Same(t, "shown only", contents(t, filepath.Join(dir, "start.sh")), script)
	o.do(0, "use", "mill", "1.9")
	insist.Same(t, "the script", contents(t, filepath.Join(dir, "start.sh")), strings.Replace(script, "./builds/1.10/", "./builds/1.9/", 1))
	insist.Holds(t, "used", o.do(0, "builds", "mill"), "build  1.9      used (start.sh)")
	o.do(0, "undo", "mill")
	insist.Same(t, "taken back", contents(t, filepath.Join(dir, "start.sh")), script)

	o.do(0, "use", "mill", "2.1", "--of", "wheel", "--stage")
	insist.Holds(t, "gathered", o.do(0, "plan", "mill"), "value: wheel is")
	o.do(0, "apply", "mill")
	insist.Holds(t, "given", o.do(0, "builds", "mill", "--of", "wheel"), "used (given)")
	insist.Holds(t, "too old", o.do(0, "use", "mill", "1.5"), "has version 1.5, and >=2 is needed")
	o.do(0, "undo", "mill", "0")
	insist.Lacks(t, "as it was found", o.do(0, "builds", "mill"), "given")

	insist.Holds(t, "none of that name", o.try("use", "mill", "7").err, "--of build or --of wheel")
	insist.Holds(t, "none of that version", o.try("use", "mill", "7", "--of", "build").err, `there is no build "7"; there is 1.9, 1.10, 2.0`)
	insist.Holds(t, "so already", o.do(0, "use", "mill", "1.10"), "so already")
	write(t, filepath.Join(dir, "start.sh"), strings.Replace(script, "1.10", "1.11", 1))
	insist.Holds(t, "named and not there", o.do(1, "check", "mill"), "start.sh names builds/1.11, which is not there")
	insist.Holds(t, "named and not there", o.try("prove", "mill").err+o.try("prove", "mill").out, "start.sh names builds/1.11, which is not there")
	o.do(0, "use", "mill", "1.10")
	insist.Same(t, "mended", contents(t, filepath.Join(dir, "start.sh")), script)
}

// Where the start chooses in a way that is not understood, none is said to be used.
func TestBuildChosenOtherwise(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	executable(t, filepath.Join(dir, "start.sh"), "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nBUILD=1.9\nexec \"./builds/$BUILD/mill\" \"-grind=rye\"\n")
	var list []buildJSON
	o.json(0, &list, "builds", "mill", "--json", "--of", "build")
	insist.That(t, len(list) == 3 && !list[0].Used && !list[1].Used && !list[2].Used, "%+v", list)
	insist.Holds(t, "another", o.try("use", "mill", "2.0", "--of", "build").err, "change it by hand where it is chosen")
	insist.Holds(t, "its version", o.do(0, "check", "mill"), "the version of the mill cannot be found out")
	var p proofJSON
	o.json(0, &p, "prove", "mill", "--json")
	insist.Same(t, "and it starts", p.outcomes(), "rye confirmed")
}

// A new build is laid beside the others, never over one, and is not used before that is said.
func TestBuildLaidBeside(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	before := stands(t, dir)
	pack := func(name string, files map[string]string) string {
		full := filepath.Join(t.TempDir(), name)
		insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
		return full
	}
	two := pack("mill-2.1.zip", map[string]string{"mill-2.1-linux/mill-2.1/mill": fmt.Sprintf(millProgram, "2.1"), "mill-2.1-linux/mill-2.1/share/stones": "s", "mill-2.1-linux/readme.txt": "r"})
	o.do(0, "builds", "mill", "--add", two, "--of", "build")
	insist.Same(t, "laid", contents(t, filepath.Join(dir, "builds/2.1/share/stones")), "s")
	insist.Lacks(t, "the mill itself alone", stands(t, dir), "readme.txt")
	insist.Holds(t, "still used", o.do(0, "builds", "mill"), "1.10     used (start.sh)")
	insist.Holds(t, "once more", o.do(0, "builds", "mill", "--add", two, "--of", "build"), "so already")
	other := pack("mill-2.1.zip", map[string]string{"mill": "other"})
	insist.Holds(t, "over one", o.try("builds", "mill", "--add", other, "--of", "build").err, "is there already, with other files; nothing is laid over it")
	insist.Holds(t, "no version", o.try("builds", "mill", "--add", pack("download.zip", map[string]string{"x/mill": "m"}), "--of", "build").err, "its name does not say")
	insist.Holds(t, "no name of a folder", o.try("builds", "mill", "--add", other, "--of", "build", "--as", "../x").err, "cannot be the name of a folder")
	insist.Holds(t, "none in it", o.try("builds", "mill", "--add", pack("x.zip", map[string]string{"y": "z"}), "--of", "build").err, "no folder in it has mill")
	insist.Holds(t, "which part", o.try("builds", "mill", "--add", pack("wheel-4.zip", map[string]string{"wheel": "w"})).err, "--of build or --of wheel or --of grist")
	insist.Holds(t, "told by its marks", o.try("builds", "mill", "--add", other).err, "is there already, with other files; nothing is laid over it")
	o.do(0, "undo", "mill")
	same(t, "taken back", stands(t, dir), before)
}

// grist packs a loader for a mill, which brings its own settings for the hopper that the mill has already.
func grist(t *testing.T, version string, more map[string]string) string {
	t.Helper()
	files := map[string]string{"grist-" + version + "/grist/version": version + "\n", "grist-" + version + "/hopper": "wide " + version + "\n"}
	for name, holds := range more {
		files["grist-"+version+"/"+name] = holds
	}
	full := filepath.Join(t.TempDir(), "grist-"+version+".zip")
	insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
	return full
}

// What is foretold of each build, each wheel and each loader is what comes of the start with them. Then all is taken
// back, and the server is as it was.
func TestBuildsForetold(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	write(t, filepath.Join(dir, "hopper"), "narrow\n")
	before := stands(t, dir)
	for _, loader := range []string{"", "1.4", "2"} {
		if loader != "" {
			o.do(0, "builds", "mill", "--add", grist(t, loader, nil), "--take", "all")
		}
		for _, build := range []string{"1.9", "1.10", "2.0"} {
			for _, wheel := range []string{"1.5", "2.1", "3.0"} {
				o.try("use", "mill", build)
				o.try("use", "mill", wheel, "--of", "wheel")
				with := fmt.Sprintf("%s on %s with %q", build, wheel, loader)
				var said struct {
					Stops    string
					Forecast []struct{ Mod, Outcome string }
				}
				var p proofJSON
				told := o.try("check", "mill", "--json").out
				decode(t, told, &said)
				decode(t, o.try("prove", "mill", "--json").out, &p)
				if wheel == "1.5" {
					insist.That(t, said.Stops != "" && p.Exit != nil, "%s: foretold %.3000s, and %+v", with, told, p.outcomes())
					continue
				}
				for _, m := range said.Forecast {
					insist.That(t, p.mod(m.Mod).Outcome == m.Outcome, "%s: %s was foretold to be %s, and is %s", with, m.Mod, m.Outcome, p.mod(m.Mod).Outcome)
				}
				insist.That(t, len(said.Forecast) == 6, "%s: %s", with, told)
			}
		}
	}
	o.do(0, "undo", "mill", "0")
	same(t, "taken back", stands(t, dir), before)
}

// A loader lies over the server: another one takes its place, and what it leaves when it is taken out is the server as it was.
func TestLoaderLaidOver(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	write(t, filepath.Join(dir, "hopper"), "narrow\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "hopper"), 0o640))
	before := stands(t, dir)
	insist.Holds(t, "none", o.do(0, "builds", "mill", "--of", "grist"), "none", "barley wants >=2, spelt wants >=1")
	insist.Holds(t, "foretold", o.try("check", "mill").out, "it is made for the loader >=1, and there is none")
	one := grist(t, "1.4", map[string]string{"grist/stones/a": "a", "grist/stones/b": "b"})
	insist.Holds(t, "asked", o.try("builds", "mill", "--add", one).err, "there is a file of that name already", "hopper")
	same(t, "nothing was written", stands(t, dir), before)
	insist.Holds(t, "shown", o.do(0, "builds", "mill", "--add", one, "--take", "hopper", "--show"), "no more: error: spelt", "hopper")
	same(t, "shown only", stands(t, dir), before)
	o.do(0, "builds", "mill", "--add", one, "--take", "hopper")
	insist.Same(t, "its own", contents(t, filepath.Join(dir, "hopper")), "wide 1.4\n")
	insist.Holds(t, "there", o.do(0, "builds", "mill", "--of", "grist"), "1.4", "used (laid over it)", "barley wants >=2")
	insist.Holds(t, "the same", o.do(0, "builds", "mill", "--add", one), "so already")

	write(t, filepath.Join(dir, "grist/stones/a"), "the operator's")
	insist.Holds(t, "his own", o.do(0, "builds", "mill", "--add", grist(t, "1.5", nil), "--take", "all", "--show"), "left to you: "+filepath.Join(dir, "grist/stones/a")+", a file that came with it, and was changed since")
	write(t, filepath.Join(dir, "grist/stones/a"), "a")
	write(t, filepath.Join(dir, "mods/grist/mod.toml"), "name = 'grist'\n")
	insist.Holds(t, "a mod of its name", o.try("builds", "mill", "--add", grist(t, "2", nil)).err, "there is a mod that is called grist")
	insist.OK(t, os.RemoveAll(filepath.Join(dir, "mods/grist")))
	o.do(0, "builds", "mill", "--add", grist(t, "2", map[string]string{"grist/stones/b": "b2"}), "--take", "all")
	insist.That(t, !exists(filepath.Join(dir, "grist/stones/a")), "what the earlier one brought is still there")
	insist.Holds(t, "another", o.do(0, "builds", "mill", "--of", "grist"), "2  ", "used (laid over it)")
	insist.Lacks(t, "all fit", o.try("check", "mill").out, "made for the loader")
	o.do(0, "remove", "mill", "grist", "--agree")
	same(t, "taken out", stands(t, dir), before)
	o.do(0, "undo", "mill")
	insist.Same(t, "and there again", contents(t, filepath.Join(dir, "grist/stones/b")), "b2")
	o.do(0, "undo", "mill", "0")
	same(t, "taken back", stands(t, dir), before)

	write(t, filepath.Join(dir, "grist/version"), "3\n")
	insist.Holds(t, "found there", o.do(0, "builds", "mill", "--of", "grist"), "3  ", "used (found there)")
}

// A world is begun anew by one change, and comes back by one undo; a server that runs is left alone.
func TestRenew(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\nstore\n")
	h.do(0, "prove", "h")
	store := filepath.Join(h.dir, "stores")
	insist.That(t, exists(store), "there is no world")
	write(t, filepath.Join(store, "a/more"), "players'")
	insist.OK(t, os.Chmod(filepath.Join(store, "a/more"), 0o640))
	before := stands(t, store)
	insist.Holds(t, "what there is", h.do(0, "renew", "h", "--list"), "world", "stores")
	insist.Holds(t, "shown", h.do(0, "renew", "h", "--show"), "stores (the world): goes; the ledger keeps it")
	same(t, "only shown", stands(t, store), before)
	h.do(0, "prove", "h", "--keep-running")
	insist.Holds(t, "while it runs", h.try("renew", "h").err, "must not change under it; stop it first")
	h.do(0, "stop", "h")
	before = stands(t, store)
	h.do(0, "renew", "h", "--backup")
	insist.That(t, !exists(store), "it is still there")
	insist.Holds(t, "backed up", h.do(0, "backup", "h", "--list"), "before it is begun anew")
	insist.Holds(t, "once more", h.try("renew", "h").err, "so already")
	h.do(0, "undo", "h")
	same(t, "back", stands(t, store), before)
	insist.Holds(t, "nothing of that name", h.try("renew", "h", "caches").err, `there is no "caches"`)
}

// What else a family makes anew is set aside by its name: all that a pattern fits, and nothing beside it.
func TestRenewParts(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	file := filepath.Join(t.TempDir(), "mill.toml")
	write(t, file, strings.Replace(strings.Replace(millDialect, `name = "mill"`, `name = "mill-2"`, 1), "[[place]]", "[[part]]\nof = \"made\"\nname = \"caches\"\npath = [\"{dir}/cache*\"]\n[[place]]", 1))
	o.do(0, "dialect", "add", file)
	o.do(0, "adopt", dir, "--as", "two", "--dialect", "mill-2")
	for _, name := range []string{"cache-1/x", "cache.dat", "my-cache", "mods/cache/mod.toml"} {
		write(t, filepath.Join(dir, name), name)
	}
	before := stands(t, dir)
	o.do(0, "renew", "two", "caches")
	after := stands(t, dir)
	insist.Lacks(t, "what is left", after, "cache-1", "cache.dat")
	insist.Holds(t, "what is left", after, "my-cache", "mods/cache/mod.toml")
	o.do(0, "undo", "two")
	same(t, "back", stands(t, dir), before)
	insist.Holds(t, "no world", o.try("renew", "two", "world").err, "there is caches")
	insist.Holds(t, "none at all", o.try("renew", "mill").err, "does not say what a server of it makes anew")
}

// Where a link says which build is used, it leads to another one then; what names the link stays as it is.
func TestBuildThatALinkNames(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	file := filepath.Join(t.TempDir(), "mill.toml")
	write(t, file, strings.Replace(millDialect, `path  = ["{dir}/builds/{version}"]`, `path  = ["{dir}/now", "{dir}/builds/{version}"]`, 1))
	o.do(0, "dialect", "add", file, "--anew")
	script := filepath.Join(dir, "start.sh")
	executable(t, script, "#!/bin/sh\ncd \"$(dirname \"$0\")\" || exit 1\nexec ./now/mill \"-grind=rye,oats\"\n")
	insist.OK(t, os.Symlink("builds/1.10", filepath.Join(dir, "now")))
	was, before := contents(t, script), stands(t, dir)
	insist.Holds(t, "used", o.do(0, "builds", "mill", "--of", "build"), "build  1.10     used (start.sh, through the link now)")
	insist.Holds(t, "foretold", o.do(0, "use", "mill", "1.9", "--show"), "now -> builds/1.9", "then: error: oats")
	same(t, "shown only", stands(t, dir), before)
	o.do(0, "use", "mill", "1.9")
	to, err := os.Readlink(filepath.Join(dir, "now"))
	insist.That(t, err == nil && to == "builds/1.9", "%s, %v", to, err)
	insist.Same(t, "the script", contents(t, script), was)
	insist.Holds(t, "used", o.do(0, "builds", "mill", "--of", "build"), "build  1.9      used (start.sh, through the link now)")
	var p proofJSON
	o.json(1, &p, "prove", "mill", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "rye confirmed, oats failed")
	insist.Holds(t, "so already", o.do(0, "use", "mill", "1.9"), "so already")
	o.do(0, "undo", "mill")
	same(t, "taken back", stands(t, dir), before)
	insist.OK(t, os.Rename(filepath.Join(dir, "now"), filepath.Join(dir, ".now")))
	write(t, file, strings.Replace(millDialect, `path  = ["{dir}/builds/{version}"]`, `path  = ["{dir}/.now", "{dir}/builds/{version}"]`, 1))
	o.do(0, "dialect", "add", file, "--anew")
	executable(t, script, strings.Replace(was, "./now/", "./.now/", 1))
	insist.Holds(t, "a hidden link", o.try("use", "mill", "1.9").err, "is not changed from here; let it lead to")
}
