package teach_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/golden"
)

// startups are startup files of many families, by the name that each has.
var startups = map[string]string{
	"a.list": "# fires\nfire glaze\nfire tide\n#fire off\nheat 9\n", "b.conf": "// x\nuse \"tide\"\nuse 'rock'\n// none\n", "c.cfg": "-plug tide.so,fast=1\n-plug lib/rock.so\n; -plug sand.so\n", "d.conf": "seed = 12\nload_tide = true\nload_rock = off\nglaze = yes\nx = Enabled\n",
	"e.properties": "port=1\nmods=tide;rock;sand\nids=1;22;3\nmarks=@tide,@rock\n", "f.ini": "[net]\nport = 1\n[game]\nmods = tide, rock, 7\nids = 1, 2, 3\nmod = tide\n[mods]\ntide\nrock = 1\nsand=on\n", "g.json": `{"game": {"on": ["tide", "rock"], "all": "tide,rock", "tide": true, "rock": false}, "list": [{"id": "tide", "on": true, "n": 1, "q": "z"}, {"id": "rock", "on": true, "n": 2, "q": "z"}]}`,
	"h.yaml": "server:\n  mods:\n    - tide\n    - rock\n  on: { tide: true, rock: no }\n  objects:\n    - id: tide\n      on: true\n    - id: rock\n      on: true\n  line: tide:rock\n", "i.toml": "[a]\nmods = [\"tide\", \"rock\"]\n[b]\ntide = true\n[[c]]\nid = 'tide'\nn = 1\n[[c]]\nid = 'rock'\nn = 1\n",
	"j.xml": "<c>\n  <mods a='tide;rock'>\n    <mod dir='tide' on='1'/>\n    <mod dir='rock' on='1'/>\n  </mods>\n  <one><m>tide</m><m>rock</m></one>\n</c>\n", "r.sh": "./server -one=tide -one=rock\n", "s.sh": "./server -l /tide,/rock -w m\n./other --x\n", "k.sh": "#!/bin/sh\nM=tide\nexec ./server -port 1 -mods=tide:rock -one=tide --with tide --with rock -l @tide;@rock\n", "l.bat": "@echo off\r\nserver.exe -mods=tide;rock -w tide -w rock\r\n",
	"m.service": "[Service]\nExecStart=/srv/run --mods tide:rock --with tide\n", "n": "tide\nrock\nsand # x\n", "o.txt": "! x\nadd mods/tide.zip now\nadd mods/rock.zip\n", "p.cmd": "run -l tide,rock\r\n", "q.bash": "./run +tide +rock -m=\"tide|rock\"\n",
}

// TestOddStartupFilesAreTaught finds out how mods stand in startup files that somebody has
// been at.
func TestOddStartupFilesAreTaught(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 44))
	words := regexp.MustCompile(`[a-z]+`)
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(startups)) {
		for round := range 16 {
			doc := startups[name]
			for range min(round, 1+r.IntN(3)) {
				lines := strings.SplitAfter(doc, "\n")
				at := r.IntN(len(lines))
				all := words.FindAllStringIndex(doc, -1)
				if len(all) == 0 {
					break
				}
				w := all[r.IntN(len(all))]
				one := func(list ...string) string { return list[r.IntN(len(list))] }
				switch r.IntN(7) {
				case 0:
					doc = strings.Join(slices.Delete(lines, at, at+1), "")
				case 1:
					doc = strings.Join(slices.Insert(lines, at, one("", "# ", "; ", "// ", "  ")+lines[r.IntN(len(lines))]), "")
				case 2:
					doc = doc[:w[0]] + one("tide", "rock", "x", "1", "") + doc[w[1]:]
				case 3:
					doc = doc[:w[0]] + one("@", "-", "m/", "\"", "'", "%", ".") + doc[w[0]:]
				case 4:
					doc = doc[:w[1]] + one(".so", ",x", ";", ":", " ", "\"", "'", "=", ",", ", y", "=1", "=true") + doc[w[1]:]
				case 5:
					doc = strings.ReplaceAll(doc, one(",", ";", ":", "=", "tide", "rock"), one(",", "; ", "|", " ", "tide2", " = "))
				case 6:
					doc = strings.TrimRight(doc, "\r\n")
				}
			}
			fmt.Fprintf(&b, "== %s: %q\n", name, doc)
			for _, mod := range []string{"tide", "rock", "1"} {
				var known func(string) bool
				if r.IntN(4) > 0 {
					known = func(s string) bool { return s == "tide" || s == "rock" || s == "sand" }
				}
				found, err := teach.FindRegistration("cfg/"+name, []byte(doc), mod, known)
				if err != nil {
					fmt.Fprintf(&b, "  %s: %.60v\n", mod, err)
					continue
				}
				fmt.Fprintf(&b, "  %s: %s %q by %s\n", mod, found.Shape, found.Mods, strings.ReplaceAll(strings.TrimPrefix(found.Text, "[[registration]]\n"), "\n", "; "))
			}
		}
	}
	golden.Check(t, "startups.txt", b.String())
}

// TestOddLogsAreTaught makes logs of random beginnings and messages, finds the beginnings,
// makes rules from random lines and writes them into random dialects.
func TestOddLogsAreTaught(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 88))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	mods := []string{"tide", "rock", "sand_2", "Big-Wave", "two words", "7up"}
	forms := []string{"N is in", "N is in after 12ms", "[N] up in 0.5 s (3 of 7)", "loaded N from /srv/mods/N/N.so in 3 seconds", "loading N", "N.so: bad magic: 0x1f", "cannot load N: P is not there", "N needs P, sand_2", "\"N\" has gone: ", "mods: N, P", "could not find mods/N/init.x:12: eof", "<N> 7: P 8", "N: ready", "all is up: 3 mods", "open on 9000", "giving up: N broke", "N", "-----", "é N ü", "N took 1.5 ms, P took 2 ms", "aN Nb N's N"}
	var b strings.Builder
	for range 90 {
		clock := one("10:00:0I", "2024-05-01 10:00:0I", "2024-05-01T10:00:0I.123Z", "[10:00:0I]", "[May  1 10:00:0I]", "1714550400.I", "01.05.2024 10:00:0I", "", "(5/1/24, 10:00:0I AM)", "ts=10:00:0I", "\"time\":\"10:00:0I\",")
		level := one("", " LVL", " [LVL]", " LVL:", " <LVL>", " level=LVL", " [LVL/SRC]", " (LVL) SRC", " [SRC] [LVL]", " LVL  ")
		gap := one(" ", ": ", " - ", " | ", "\t", " msg=", "", "  ", "]: ", ", ")
		var log []string
		for i := range 4 + r.IntN(30) {
			message := strings.NewReplacer("N", mods[r.IntN(len(mods))], "P", mods[r.IntN(len(mods))]).Replace(forms[r.IntN(len(forms))])
			before := strings.NewReplacer("I", fmt.Sprint(i%10), "LVL", one("INFO", "WARN", "E", "notice", "error "), "SRC", one("core", "net", "net/x")).Replace(clock + level + gap)
			if r.IntN(9) == 0 {
				before = one("", "    ", "\tat ")
			}
			log = append(log, before+message)
		}
		p := teach.FindPrefix(log)
		fmt.Fprintf(&b, "== %q: %q %q\n", log[0], p.Pattern, p.Time)
		var prefix *text.Pattern
		if p.Pattern != "" && r.IntN(6) > 0 {
			var err error
			if prefix, err = text.ParsePattern(p.Pattern, nil); err != nil {
				t.Fatalf("%q: %v", p.Pattern, err)
			}
		}
		doc := []byte(one("", "name = 'x'\n", "name = 'x'\n[log]\nfiles = ['a']", "name = 'x'\n[log]\n# about\n[[log.rule]]\nmeans = 'ready'\nline = 'all is up: {any}'\n\n# next\n[console]\nlist = 'x'\n", "[[log.rule]]\nmeans = 'loaded'\nline = '{mod} is in'\n\n[[log.rule]]\nmeans = 'failed'\nline = '{mod}'", "[[place]]\npath = 'x'\n", "[[log.rule]]\nmeans = 'loaded'\nline = '{mod'\n[[log.rule]]\nmeans = 'loaded'\nline = '{mod} is in'\n", "name = 'x'\nlog = { rule = [{ means = 'loaded', line = '{mod} is in' }] }\n"))
		if out, err := teach.AddPrefix(doc, p); err != nil || r.IntN(2) == 0 {
			fmt.Fprintf(&b, "  with the beginning %q, %v\n", out, err)
		}
		if out, err := teach.AddFiles(doc, []string{"{dir}/a.log", "b"}); err != nil || r.IntN(2) == 0 {
			fmt.Fprintf(&b, "  with files %q, %v\n", out, err)
		}
		d, _ := dialect.Draft("x.toml", doc)
		for range 6 {
			l := teach.Lesson{Means: []dialect.Meaning{dialect.MeansReady, dialect.MeansLoading, dialect.MeansLoaded, dialect.MeansLoaded, dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped, dialect.MeansIgnore, dialect.MeansTold}[r.IntN(10)]}
			for range r.IntN(4) {
				line := log[r.IntN(len(log))]
				e := teach.Example{Line: line}
				for _, m := range mods {
					if strings.Contains(line, m) && r.IntN(5) > 0 {
						e.Mod = m
					}
				}
				l.Examples = append(l.Examples, e)
			}
			for range r.IntN(3) {
				l.Counter = append(l.Counter, log[r.IntN(len(log))])
			}
			rule, err := teach.Propose(prefix, l)
			fmt.Fprintf(&b, "  %s of %q, not %q: ", l.Means, l.Examples, l.Counter)
			if err != nil {
				fmt.Fprintf(&b, "%v\n", err)
				continue
			}
			matches, err := teach.Try(prefix, rule, log)
			fmt.Fprintf(&b, "%q at %q from %q fits %v, %v\n", rule.Line, rule.Level, rule.Source, matches, err)
			out, err := teach.AddRule(doc, d, rule, l.Examples)
			fmt.Fprintf(&b, "    written %q, %v\n", out, err)
		}
		line := log[r.IntN(len(log))]
		fmt.Fprintf(&b, "  words of %q: %q, %q\n", line, teach.Words(prefix, line, nil), teach.Words(prefix, line, func(s string) bool { return s == "tide" || s == "rock" || s == "two" }))
	}
	for _, o := range []teach.Outline{
		{Name: "a", Title: "A", Recognise: []string{"x"}, Registration: teach.Registration{Text: "[[registration]]\n", Shape: dialect.ShapeKey}},
		{Name: "b", Title: "B b", Place: ".", File: "{mod}.so", Registration: teach.Registration{Text: "[[registration]]\nname = 'q'\n", Shape: dialect.ShapeLine}, Command: []string{"./run", "-x"}},
		{Name: "c", Title: "C", Place: "deep/mods", Recognise: []string{"x", "y"}, Registration: teach.Registration{Shape: dialect.ShapeList}, Command: []string{}},
	} {
		data, err := o.Write()
		fmt.Fprintf(&b, "== an outline\n%s%v\n", data, err)
	}
	golden.Check(t, "logs.txt", b.String())
}
