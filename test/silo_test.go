package test

import (
	"archive/zip"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"initium/internal/insist"
)

//go:embed testdata/silo.toml
var silo string

// sack writes a file that is a mod of silo's.
func sack(t testing.TB, file, name, release string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(file), 0o755))
	f, err := os.Create(file)
	insist.OK(t, err)
	z := zip.NewWriter(f)
	w, err := z.CreateHeader(&zip.FileHeader{Name: "sack.yaml", Method: zip.Store})
	insist.OK(t, err)
	insist.OK(t, insist.Err(fmt.Fprintf(w, "name: %s\nrelease: %q\n", name, release)))
	insist.OK(t, z.Close())
	insist.OK(t, f.Close())
}

// Mods that load for being there and whose files are called as they were downloaded have the
// names that they give themselves, everywhere; a new release comes under its own file's name.
func TestFilesNamedAsDownloaded(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "silo")
	write(t, filepath.Join(o.home, "dialects", "silo.toml"), silo)
	write(t, filepath.Join(dir, "silo.sh"), "#!/bin/sh\nfor f in sacks/*.sack; do grep -a -o 'name: [A-Za-z]*' \"$f\" | while read -r _ n; do echo \"opened $n from ${f##*/}\"; done; done\necho 'silo is full'\nread -r line\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "silo.sh"), 0o755))
	sack(t, filepath.Join(dir, "sacks", "millwheel-7.0.4.sack"), "MillWheel", "7.0.4")
	sack(t, filepath.Join(dir, "sacks", "Rye (1).sack"), "rye", "2")
	o.do(0, "adopt", dir)
	o.do(0, "check", "silo")
	o.proves("silo", "rye confirmed, MillWheel confirmed")
	o.do(0, "off", "silo", "MillWheel")
	there := func(want ...string) {
		t.Helper()
		insist.Same(t, "the sacks", fmt.Sprint(within(dir, "sacks/*")), fmt.Sprint(prefixed(filepath.Join(dir, "sacks"), want)))
	}
	there("Rye (1).sack", "millwheel-7.0.4.sack.kept")
	o.proves("silo", "rye confirmed")
	fresh := filepath.Join(filepath.Dir(o.home), "millwheel-7.1.0.sack")
	sack(t, fresh, "MillWheel", "7.1.0")
	insist.Holds(t, "the plan", o.do(0, "take", "silo", fresh, "--stage"), "millwheel-7.1.0.sack.kept")
	o.do(0, "apply", "silo")
	there("Rye (1).sack", "millwheel-7.1.0.sack.kept")
	o.do(0, "on", "silo", "MillWheel")
	there("Rye (1).sack", "millwheel-7.1.0.sack")
	o.proves("silo", "rye confirmed, MillWheel confirmed")
	o.do(0, "remove", "silo", "rye")
	there("millwheel-7.1.0.sack")
	insist.Holds(t, "all at once", o.try("undo", "silo", "0").err, "take the entries back one by one")
	for _, entry := range []string{"3", "2", "1", "0"} {
		o.do(0, "undo", "silo", entry)
	}
	there("Rye (1).sack", "millwheel-7.0.4.sack")
}

// Nothing is promised that the last start has refuted, as long as nothing of it has changed; and
// what has changed is told, wherever it stands.
func TestRefuted(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "silo")
	write(t, filepath.Join(o.home, "dialects", "silo.toml"), silo+siloMore)
	weather := filepath.Join(filepath.Dir(o.home), "weather")
	write(t, weather, "")
	write(t, filepath.Join(dir, "silo.sh"), "#!/bin/sh\necho 'opened rye from x'\nif [ -s "+`'`+weather+`'`+" ]; then cat "+`'`+weather+`'`+"; exit 3; fi\necho 'opened oats from x'\necho 'silo is full'\nread -r line\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "silo.sh"), 0o755))
	sack(t, filepath.Join(dir, "sacks", "rye.sack"), "rye", "1")
	sack(t, filepath.Join(dir, "sacks", "oats.sack"), "oats", "1")
	conf := filepath.Join(dir, "silo.conf")
	write(t, conf, "roof = tin\nspan = 1\nspan = 2\n")
	write(t, filepath.Join(dir, "tin.plan"), "tin")
	write(t, filepath.Join(dir, "VERSION"), "1.0\n")
	o.do(0, "adopt", dir)
	o.do(0, "prove", "silo")
	foretold := func(name, want string) {
		t.Helper()
		insist.Same(t, name+": foretold", o.foretells("silo"), want)
	}
	const fine = "oats confirmed, rye confirmed; "
	foretold("proved", fine)
	write(t, weather, "hail\n")
	o.do(1, "prove", "silo")
	foretold("stopped", "oats not loaded, rye confirmed; start 2 did so, and nothing that it rested on has changed since: the server stopped before it was ready, with exit status 3")
	insist.Holds(t, "check", o.do(0, "check", "silo"), "start-refuted", "start 2 was not proved, and nothing that it rested on has changed since: the server stopped")
	number := 2
	for what, change := range map[string]func(){
		"a setting that stands twice": func() { write(t, conf, "roof = tin\nspan = 1\nspan = 3\n") },
		"the file of a setting":       func() { write(t, filepath.Join(dir, "tin.plan"), "tin, bent") },
		"a mod's file":                func() { sack(t, filepath.Join(dir, "sacks", "rye.sack"), "rye", "1 ") },
		"a value":                     func() { o.do(0, "give", "silo", "pace="+next()) },
		"the program": func() {
			write(t, filepath.Join(dir, "silo.sh"), contents(t, filepath.Join(dir, "silo.sh"))+"# "+next())
		},
		"the build":        func() { write(t, filepath.Join(dir, "VERSION"), "1."+next()+"\n") },
		"what a mod keeps": func() { write(t, filepath.Join(dir, "keep", "rye.cfg"), next()) },
	} {
		foretold(what+" before", o.foretells("silo"))
		change()
		foretold(what, fine)
		o.do(1, "prove", "silo")
		number++
		insist.Holds(t, what, o.try("compare", "silo", strconv.Itoa(number-1), strconv.Itoa(number)).out, map[string]string{
			"a setting that stands twice": "setting span: 1, then 3, was 1, then 2", "the file of a setting": "files of the server: tin.plan changed", "a mod's file": "files of rye: rye.sack changed",
			"a value": "setting pace: ", "the program": "silo.sh changed", "the build": "setting server: 1.", "what a mod keeps": "files of rye: keep/rye.cfg"}[what])
	}
	write(t, weather, "")
	o.do(0, "prove", "silo")
	foretold("proved again", fine)
}

// next is a text that was not there before.
func next() string { counted++; return strconv.Itoa(counted) }

var counted = 10

// siloMore is what else a silo may have.
const siloMore = `
[[given]]
name = "pace"
default = ["1"]
[[registration]]
name = "conf"
file = "{dir}/silo.conf"
format = "key-value"
shape = "key"
key = "use.{mod}"
on = "yes"
off = "no"
[[value]]
name = "roof"
registration = "conf"
file = "{dir}/{value}.plan"
[[build]]
of = "server"
file = "{dir}/VERSION"
[[leaves]]
path = "{dir}/keep/{mod}.cfg"
`

// foretells is what check foretells of each mod, and why the server will stop.
func (o *operator) foretells(name string) string {
	o.t.Helper()
	var c struct {
		Forecast []struct{ Mod, Outcome string }
		Stops    string
	}
	decode(o.t, o.try("check", name, "--json").out, &c)
	var words []string
	for _, m := range c.Forecast {
		words = append(words, m.Mod+" "+m.Outcome)
	}
	return strings.Join(words, ", ") + "; " + c.Stops
}

func prefixed(dir string, names []string) (paths []string) {
	for _, name := range names {
		paths = append(paths, filepath.Join(dir, name))
	}
	return paths
}

// What loads or fails while the server runs belongs to its start, with its time, and is not taken
// for what the start showed; a rule that fits every file that is found is told to be weak.
func TestWhileItRuns(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "silo")
	toml := filepath.Join(o.home, "dialects", "silo.toml")
	write(t, toml, silo)
	write(t, filepath.Join(dir, "silo.sh"), "#!/bin/sh\nfor f in sacks/*.sack*; do echo \"opened $(basename ${f%.sack*}) from a list of what is there\"; done\necho 'the gate is up'\nfor f in sacks/*.sack; do echo \"opened $(basename $f .sack) from $f\"; done\necho 'silo is full'\n"+
		"while read -r word name; do case $word in open) echo \"opened $name from sacks\";; tear) echo \"torn: $name, by mice\";; *) exit 0;; esac; done\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "silo.sh"), 0o755))
	for _, name := range []string{"oats", "rye"} {
		sack(t, filepath.Join(dir, "sacks", name+".sack"), name, "1")
	}
	sack(t, filepath.Join(dir, "sacks", "bran.sack.kept"), "bran", "1")
	o.do(0, "adopt", dir)
	o.proves("silo", "oats confirmed, rye confirmed, bran unlisted")
	insist.Holds(t, "a rule that fits too much", o.do(0, "dialect", "check", "silo"), "no faults", `the rule "opened {mod} from {any}" fitted mods too at the last start of silo that are not registered (bran)`)
	write(t, toml, strings.ReplaceAll(silo, `line  = "opened {mod} from {any}"`, "line  = \"opened {mod} from {any}\"\nfrom  = \"the gate is up\"\nuntil = \"silo is closed\"")+"[[log.rule]]\nmeans = \"failed\"\nline = \"torn: {mod}, {reason}\"\n")
	insist.Lacks(t, "one that is held to its part", o.do(0, "dialect", "check", "silo"), "fitted mods too")
	insist.Lacks(t, "the proof", o.do(0, "prove", "silo", "--keep-running"), "unlisted")
	defer o.try("stop", "silo")
	o.do(0, "on", "silo", "bran")
	o.do(0, "say", "silo", "open bran")
	o.do(0, "say", "silo", "open rye")
	o.do(0, "say", "silo", "tear oats")
	o.do(0, "servers")
	var p struct {
		proofJSON
		Later []struct{ Name, Outcome, Reason string }
	}
	kept := func() string {
		t.Helper()
		decode(t, contents(t, filepath.Join(o.home, "servers/silo/starts/00002/proof.json")), &p)
		return fmt.Sprint(p.Verdict, p.outcomes(), p.Later)
	}
	const want = "provedoats confirmed, rye confirmed[{bran confirmed } {oats failed by mice}]"
	insist.Same(t, "kept", kept(), want)
	o.do(0, "stop", "silo")
	o.do(0, "servers")
	insist.Same(t, "kept after the stop", kept(), want)
}

const siloProbes = `
[[given]]
name = "roof"
default = ["tin"]
in_rehearsal = "straw"
[[probe]]
of = "startup"
command = ["{dir}/look.sh", "{roof}"]
[[probe.rule]]
means = "fault"
line = "{file}:{row}: {reason}"
[[probe]]
of = "loaded"
command = ["{dir}/list.sh"]
within = "5s"
[[probe.rule]]
means = "loaded"
line = "* {mod} {any}"
[[probe.rule]]
means = "failed"
line = "! {mod}: {reason}"
`

// Commands that tell what is loaded, and what is wrong in the startup files before a start.
func TestProbes(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "silo")
	write(t, filepath.Join(o.home, "dialects", "silo.toml"), silo+siloProbes)
	script := func(name, text string) {
		write(t, filepath.Join(dir, name), "#!/bin/sh\n"+text)
		insist.OK(t, os.Chmod(filepath.Join(dir, name), 0o755))
	}
	script("silo.sh", "echo 'opened oats from x'\necho 'silo is full'\nread -r line\n")
	for _, name := range []string{"bran", "oats", "rye"} {
		sack(t, filepath.Join(dir, "sacks", name+".sack"), name, "1")
	}
	script("look.sh", "test ! -s silo.conf || { echo \"looking under $1\"; echo \"silo.conf:2: no such roof\"; exit 1; }\n")
	script("list.sh", "echo 'sacks:'; echo '* rye 1'; echo '* oats 1'; echo '! bran: damp'\n")
	o.do(0, "adopt", dir)
	insist.Holds(t, "a list without bran", o.do(1, "prove", "silo"), "failed     bran    damp", "bran, its list, by a command: ! bran: damp", "confirmed  oats", "confirmed  rye")
	script("list.sh", "echo '* rye 1'; echo '* bran 1'\n")
	out := o.do(1, "prove", "silo")
	insist.Holds(t, "a list without oats", out, "failed     oats    the server's own list does not name it", "confirmed  bran", "confirmed  rye", "oats: failed, but it is said to have loaded")
	script("list.sh", "echo '* rye 1'; echo '* bran 1'; exit 7\n")
	insist.Holds(t, "a list that breaks off", o.do(0, "prove", "silo"), "confirmed  oats", "the server could not be asked: "+dir+"/list.sh ended with status 7")
	script("list.sh", "echo '* rye 1'; echo '* bran 1'; echo '* oats 1'\n")
	insist.Holds(t, "looked through", o.do(0, "check", "silo", "--probe"), "0 errors")
	o.do(0, "prove", "silo", "--probe")
	write(t, filepath.Join(dir, "silo.conf"), "roof\nglass\n")
	insist.Holds(t, "a mistake", o.do(1, "check", "silo", "--probe"), "no such roof", "silo.conf:2", "[probe-fault]")
	r := o.try("prove", "silo", "--probe")
	insist.That(t, r.status == 1 && r.out == "" && strings.Contains(r.err, "silo is not started: "+dir+"/silo.conf:2: no such roof"), "not started: %d %q %q", r.status, r.out, r.err)
	insist.Holds(t, "rehearsed", o.do(0, "rehearse", "silo"), "its own look through its startup files finds: "+dir+"/silo.conf:2: no such roof", "roof is straw in it, not tin", "confirmed  bran")
	script("look.sh", "echo \"the roof is $1\"; exit 3\n")
	insist.Holds(t, "without a place", o.do(1, "check", "silo", "--probe"), "the server's own look through its startup files failed, with exit status 3: the roof is tin")
	insist.Holds(t, "a family without", newHarbour(t, "").do(2, "check", "h", "--probe"), "no command that looks through its startup files")
}
