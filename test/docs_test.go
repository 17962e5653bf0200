package test

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/insist"
)

// TestWorkedExample adopts the server of docs/dialects.md with the dialect that
// the page shows, word for word, and proves it.
func TestWorkedExample(t *testing.T) {
	page := contents(t, "../docs/dialects.md")
	_, rest, _ := strings.Cut(page, "```toml\n")
	source, _, ok := strings.Cut(rest, "```")
	insist.Need(t, ok, "the page shows no dialect")
	o := newOperator(t)
	write(t, filepath.Join(o.home, "dialects/kiln.toml"), source)
	dir := filepath.Join(filepath.Dir(o.home), "kiln")
	write(t, filepath.Join(dir, "kiln.list"), "fire blue_glaze\nfire glaze_basics\n")
	write(t, filepath.Join(dir, "recipes/glaze_basics/recipe.json"), `{"id": "glaze_basics", "version": "1.0"}`)
	write(t, filepath.Join(dir, "recipes/blue_glaze/recipe.json"), `{"id": "blue_glaze", "version": "1.2", "after": ["glaze_basics"]}`)
	write(t, filepath.Join(dir, "kiln"), `#!/bin/sh
echo "$(date +%T) I listening on $2"
while read -r word name; do
  echo "$(date +%T) I firing $name"
  case $name in
  blue_glaze) [ -n "$basics" ] && echo "$(date +%T) I $name fired in 0.2 s" || echo "$(date +%T) E $name cracked: no cobalt" ;;
  *) basics=yes; echo "$(date +%T) I $name fired in 0.8 s" ;;
  esac
done <kiln.list
echo "$(date +%T) I kiln is hot"
trap 'exit 0' TERM
while :; do sleep 0.1; done
`)
	insist.OK(t, os.Chmod(filepath.Join(dir, "kiln"), 0o755))
	o.do(0, "adopt", dir, "--set", "port="+freePort(t))
	insist.Holds(t, "check", o.do(1, "check", "kiln"), "move glaze_basics before blue_glaze")
	p := &proofJSON{}
	o.json(1, p, "prove", "kiln", "--json")
	if got := p.outcomes(); got != "blue_glaze failed, glaze_basics confirmed" || p.mod("blue_glaze").Reason != "no cobalt" {
		t.Errorf("%s: %s", p.Reason, got)
	}
	o.do(0, "move", "kiln", "blue_glaze", "--after", "glaze_basics")
	p = &proofJSON{}
	o.json(0, p, "prove", "kiln", "--json")
	if m := p.mod("blue_glaze"); m.Outcome != "confirmed" || *m.LoadMS != 200 {
		t.Errorf("blue_glaze is %+v", m)
	}
	source = filepath.Join(filepath.Dir(o.home), "crackle.zip")
	write(t, source, string(zipped(t, map[string]string{"crackle-1.1-main/recipe.json": `{"id": "crackle", "version": "1.1", "after": ["blue_glaze"]}`})))
	o.do(0, "take", "kiln", source)
	p = &proofJSON{}
	o.json(0, p, "prove", "kiln", "--json")
	if m := p.mod("crackle"); m.Outcome != "confirmed" {
		t.Errorf("crackle is %+v", m)
	}
}

// The shorter examples of the page are parts of dialects that can be read, and what it says of
// statements is so.
func TestShorterExamples(t *testing.T) {
	o := newOperator(t)
	const kept = "name = 'NAME'\n[[place]]\npath = '{dir}/mods'\n[start]\ncommand = ['{dir}/x']\n"
	const log = "\n[log]\nprefix = '{time} {level} '\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"
	parts := strings.Split(contents(t, "../docs/dialects.md"), "```toml\n")[2:]
	insist.That(t, len(parts) >= 3, "%d examples", len(parts))
	for i, part := range parts {
		example, _, _ := strings.Cut(part, "```")
		name := fmt.Sprintf("example-%d", i)
		file := filepath.Join(o.home, "dialects", name+".toml")
		write(t, file, strings.Replace(kept, "NAME", name, 1)+example+log)
		insist.Holds(t, example, o.do(0, "dialect", "check", file), "no faults")
		if !strings.Contains(example, "statements") {
			continue
		}
		dir := filepath.Join(filepath.Dir(o.home), "mill")
		conf := filepath.Join(dir, "mill.conf")
		for _, mod := range []string{"stone", "sail", "sieve"} {
			write(t, filepath.Join(dir, "mods", mod, "x"), "")
		}
		const before = "wheel = 3;\nparts {\n    use stone wet;   // the old one\n    use \"sail\" {\n        cloth = { red };\n    }\n#if 0\n    use sieve;\n#endif\n}\n"
		write(t, conf, before)
		o.do(0, "adopt", dir, "--dialect", name)
		o.do(0, "register", "mill", "sieve", "--after", "stone")
		insist.Same(t, "registered", contents(t, conf), strings.Replace(before, "    use \"sail\"", "    use sieve;\n    use \"sail\"", 1))
		o.do(0, "off", "mill", "sail")
		insist.Same(t, "off", contents(t, conf), strings.NewReplacer("    use \"sail\" {\n        cloth = { red };\n    }\n", "    use sieve;\n    // use \"sail\" {\n        // cloth = { red };\n    // }\n").Replace(before))
		o.do(0, "on", "mill", "sail")
		o.do(0, "unregister", "mill", "sieve")
		insist.Same(t, "and back", contents(t, conf), before)
	}
}

// TestCommandsOfTheReadme holds the list of commands in the README against the program: each
// line names a command that there is, each flag in it is one of that command's, each command
// that the program has stands in the list, and each example in the README can be read.
func TestCommandsOfTheReadme(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	readme := contents(t, "../README.md")
	_, list, ok := strings.Cut(readme, "## Commands\n")
	insist.Need(t, ok, "the README lists no commands")
	list, _, _ = strings.Cut(list, "\nThe commands that change")
	help := func(words ...string) string { return o.do(0, append(words, "--help")...) }
	named := map[string]bool{}
	flags, entry := regexp.MustCompile(`--[a-z-]+`), regexp.MustCompile(`^    initium ([a-z]+(?: \| [a-z]+)*)( |$)`)
	command := ""
	for _, line := range strings.Split(list, "\n") {
		if m := entry.FindStringSubmatch(line); m != nil { // unregister | off | on SERVER MOD
			for _, name := range strings.Split(m[1], " | ") {
				named[name] = true
			}
			command = strings.Fields(m[1])[0]
			if command == "export" || command == "dialect" || command == "teach" || command == "recipe" || command == "host" {
				command += " " + strings.Fields(line)[2]
			}
		}
		for _, flag := range flags.FindAllString(line, -1) {
			insist.That(t, strings.Contains(help(strings.Fields(command)...), flag), "the README gives %s the flag %s, which it has not:\n%s", command, flag, line)
		}
	}
	_, commands, _ := strings.Cut(help(), "Commands:\n")
	commands, _, _ = strings.Cut(commands, "\nFlags:")
	for _, line := range strings.Split(commands, "\n") {
		if words := strings.Fields(line); len(words) > 0 && !named[words[0]] && words[0] != "help" && words[0] != "completion" && words[0] != "stand-in" {
			t.Errorf("the README does not list %s", words[0])
		}
	}
	for name := range named {
		insist.That(t, help(name) != help(), "there is no command %s", name)
	}
	// The examples above the list.
	before, _, _ := strings.Cut(readme, "## Commands\n")
	for _, line := range regexp.MustCompile(`(?m)^    \./initium ([a-z]+ .*)$`).FindAllStringSubmatch(before, -1) {
		for _, one := range strings.Split(line[1], "; ./initium ") {
			one, _, _ = strings.Cut(one, "  #")
			words := strings.Fields(one)
			if words[0] == "server" { // the screen, on a server of that name
				continue
			}
			if !named[words[0]] {
				t.Errorf("an example in the README uses %q, which is no command", words[0])
				continue
			}
			said := help(words[0])
			if words[0] == "export" || words[0] == "recipe" {
				said = help(words[0], words[1])
			}
			for _, flag := range flags.FindAllString(one, -1) {
				insist.That(t, strings.Contains(said, flag), "an example in the README gives %s the flag %s, which it has not", words[0], flag)
			}
		}
	}
}

// TestKeysOfTheDialectAreDocumented holds the page about dialects against the language: every
// key that a dialect may have is told there, and every table.
func TestKeysOfTheDialectAreDocumented(t *testing.T) {
	page := contents(t, "../docs/dialects.md")
	var walk func(of reflect.Type, path string)
	walk = func(of reflect.Type, path string) {
		for of.Kind() == reflect.Pointer || of.Kind() == reflect.Slice {
			of = of.Elem()
		}
		if of.Kind() != reflect.Struct || !strings.Contains(of.PkgPath(), "initium") {
			return
		}
		for i := range of.NumField() {
			key := of.Field(i).Tag.Get("toml")
			if key == "" || key == "-" {
				continue
			}
			insist.That(t, regexp.MustCompile(`(?m)(^|[^a-z_])`+key+`([^a-z_]|$)`).MatchString(page), "the page does not tell of %s%s", path, key)
			walk(of.Field(i).Type, path+key+".")
		}
	}
	walk(reflect.TypeFor[dialect.Dialect](), "")
}
