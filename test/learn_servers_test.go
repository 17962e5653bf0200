package test

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// familyWord, as the first argument, has this program be a server of a family that nobody knows.
const familyWord = "be-a-server"

// madeUp is a server of a made-up family: how it finds its mods, and what it says of them.
type madeUp struct {
	registered func(dir string, args []string) []string // names, or files, in the order in which they load
	where      func(dir, name string) string
	manifest   string // the file that describes a mod, inside it
	need       *regexp.Regexp
	title      *regexp.Regexp // what a mod calls itself; nil for its name
	script     string         // the file that a mod is run by, inside it
	prefix     func(level string) string
	loaded     string // these with the mod's name
	missing    string
	broken     string
	wants      string // and that of the need
	ready      string
	stops      bool // because of one that is not there
}

func clock(layout string) string { return time.Now().Format(layout) }

var madeUpServers = map[string]madeUp{
	"quay": {
		registered: func(dir string, _ []string) (list []string) {
			for line := range strings.Lines(textOf(dir, "quay.plan")) {
				line, _, _ = strings.Cut(line, "#")
				words := strings.Fields(line)
				switch {
				case len(words) == 0:
				case len(words) == 2 && words[0] == "moor" && strings.HasPrefix(words[1], "+"):
					for _, name := range namesIn(filepath.Join(dir, "berths", words[1])) {
						list = append(list, words[1]+"/"+name)
					}
				case len(words) == 2 && words[0] == "moor":
					list = append(list, words[1])
				case words[0] == "say":
				default:
					fmt.Printf("%s quay gives up: line %q is not understood\n", clock("15:04:05.000"), line)
					os.Exit(3)
				}
			}
			return list
		},
		where:    func(dir, name string) string { return filepath.Join(dir, "berths", name) },
		manifest: "berth.toml", need: regexp.MustCompile(`needs = \["([^"]*)"`), script: "route.txt",
		prefix: func(level string) string { return clock("15:04:05.000") + " " + level + " " },
		loaded: "moored %s", missing: "nothing called %s lies here", broken: "cannot follow the route of %s: no such word", wants: "%s stays out, it waits for %s", ready: "the quay is open",
	},
	"mill": {
		registered: func(dir string, _ []string) (list []string) {
			for _, name := range namesIn(filepath.Join(dir, "stones")) {
				if strings.HasSuffix(name, ".stone") {
					list = append(list, name)
				}
			}
			return list
		},
		where:    func(dir, name string) string { return filepath.Join(dir, "stones", name) },
		manifest: "stone.json", need: regexp.MustCompile(`"needs": \["([^"]*)"`), title: regexp.MustCompile(`"id": "([^"]*)"`),
		prefix: func(level string) string { return fmt.Sprintf("[%-5s] ", strings.ToUpper(level)) },
		loaded: "stone %s turns", broken: "stones/%s is no stone: it cannot be opened", wants: "stone %s lies still without %s", ready: "The mill grinds",
	},
	"tram": {
		registered: func(_ string, args []string) (list []string) {
			for _, a := range args {
				_, value, _ := strings.Cut(a, "=")
				list = append(list, strings.FieldsFunc(value, func(r rune) bool { return r == ';' })...)
			}
			return list
		},
		where:    func(dir, name string) string { return filepath.Join(dir, "cars", name) },
		manifest: "car.yml", need: regexp.MustCompile(`needs: \[([^\]]*)\]`), script: "line.txt",
		prefix: func(level string) string {
			return fmt.Sprintf("%d %s tram[%d]: ", time.Now().Unix(), level, os.Getpid())
		},
		loaded: "car %s is on the rails", missing: "there is no car %s", broken: "car %s does not run: bad line", wants: "car %s needs %s before it", ready: "departing", stops: true,
	},
	"press": {
		registered: func(dir string, _ []string) []string {
			m := regexp.MustCompile(`(?m)^names=(.*)$`).FindStringSubmatch(textOf(dir, "press.ini"))
			n := regexp.MustCompile(`(?m)^numbers=(.*)$`).FindStringSubmatch(textOf(dir, "press.ini"))
			if m == nil || n == nil || strings.Count(m[1], ",") != strings.Count(n[1], ",") || strings.Contains(textOf(dir, "press.ini"), "makes_no_sense") {
				fmt.Println("press.ini is not to be read")
				os.Exit(1)
			}
			return strings.FieldsFunc(m[1], func(r rune) bool { return r == ',' })
		},
		where:    func(dir, name string) string { return filepath.Join(dir, "plates", name) },
		manifest: "plate.xml", need: regexp.MustCompile(`<need>([^<]*)</need>`), script: "type.txt",
		prefix: func(level string) string { return clock("Jan _2 15:04:05") + " (" + level + ") " },
		loaded: `plate "%s" set`, missing: `plate "%s" was not found`, broken: `plate "%s" is worn: it makes no sense`, wants: `plate "%s" requires "%s"`, ready: "printing",
	},
	"choir": {
		registered: func(dir string, _ []string) (list []string) {
			if err := json.Unmarshal([]byte(textOf(dir, "voices.json")), &list); err != nil {
				fmt.Println("FATAL voices.json:", err)
				os.Exit(1)
			}
			return list
		},
		where:    func(dir, name string) string { return filepath.Join(dir, "voices", name) },
		manifest: "voice.ini", need: regexp.MustCompile(`(?m)^needs = (.*)$`), script: "score.txt",
		prefix: func(level string) string {
			return clock("2006-01-02T15:04:05.000Z07:00") + " [" + level + "] [choir] "
		},
		loaded: "%s has come in", missing: "%s is not in the house", broken: "%s cannot read its score", wants: "%s will not sing without %s", ready: "all are in their places, listening",
	},
	"ferry": {
		registered: func(dir string, _ []string) []string { return namesIn(filepath.Join(dir, "afloat")) },
		where:      func(dir, name string) string { return filepath.Join(dir, "afloat", name) },
		manifest:   "hull.json", need: regexp.MustCompile(`"needs": \["([^"]*)"`), script: "course.txt",
		prefix: func(level string) string { return clock("15:04:05") + " <" + level + "> " },
		loaded: "%s floats", missing: "%s is gone: its rope leads nowhere", broken: "%s sinks, its course makes no sense", wants: "%s does not sail without %s", ready: "casting off",
	},
	"garden": {
		registered: func(dir string, _ []string) []string { return namesIn(filepath.Join(dir, "beds")) },
		where:      func(dir, name string) string { return filepath.Join(dir, "beds", name) },
		script:     "plants.txt",
		prefix:     func(level string) string { return level + ": " },
		loaded:     "bed %s is planted", broken: "bed %s is full of weeds", ready: "the gate is open",
	},
}

func textOf(dir, name string) string {
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return ""
	}
	return string(data)
}

func namesIn(dir string) (names []string) {
	entries, _ := os.ReadDir(dir) // one that is not there holds nothing
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names
}

// inside reads a file of a mod, which is a folder or an archive.
func inside(mod, file string) (content string, whole bool) {
	if info, err := os.Stat(mod); err == nil && info.IsDir() {
		return textOf(mod, file), true
	}
	z, err := zip.OpenReader(mod)
	if err != nil {
		return "", false
	}
	defer z.Close()
	f, err := z.Open(file)
	if err != nil {
		return "", false
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	return string(data), err == nil
}

// serve is a server of such a family, until a signal ends it.
func (m madeUp) serve(dir string, args []string) {
	say := func(level, format string, words ...any) {
		fmt.Println(m.prefix(level) + fmt.Sprintf(format, words...))
	}
	say("info", "waking up, version 3.1")
	var done []string
	for _, name := range m.registered(dir, args) {
		called := filepath.Base(name)
		path := m.where(dir, name)
		if _, err := os.Stat(path); err != nil {
			say("error", m.missing, called)
			if m.stops {
				os.Exit(4)
			}
			continue
		}
		manifest, whole := inside(path, m.manifest)
		script, _ := inside(path, m.script)
		if !whole || strings.Contains(script, "no_sense") {
			say("error", m.broken, called)
			continue
		}
		if m.title != nil {
			if t := m.title.FindStringSubmatch(manifest); t != nil {
				called = t[1]
			}
		}
		if m.need != nil {
			if n := m.need.FindStringSubmatch(manifest); n != nil && n[1] != "" && !slices.Contains(done, n[1]) {
				say("warn", m.wants, called, n[1])
				continue
			}
		}
		say("info", m.loaded, called)
		done = append(done, called)
	}
	say("info", "%s", m.ready)
	select {}
}
