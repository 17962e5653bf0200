package dialect

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Remarks are what a dialect says without effect, and what it leaves unsaid without which no
// start can be proved. A dialect with remarks can be used.
func (d *Dialect) Remarks() Problems { return d.remarks }

// everyShape are the keys of a registration that count whatever its shape.
var everyShape = []string{"name", "file", "format", "shape", "sides", "same_as", "plain", "held", "optional", "new", "form", "options", "paths", "suffix"}

// ofShape are the other keys that count, by the shape.
var ofShape = map[Shape][]string{
	ShapeLine:      {"comment", "quote", "line", "setting", "include", "section"},
	ShapeKey:       {"at", "key", "on", "off", "on_words", "off_words", "on_path", "comment", "assign"},
	ShapeList:      {"at", "separator", "mark", "last", "comment", "assign", "within"},
	ShapeParallel:  {"at", "numbers", "apart", "separator", "mark", "last", "comment", "assign"},
	ShapeItems:     {"at", "item", "name_key"},
	ShapeWords:     {"at"},
	ShapeSection:   {"at", "item", "comment", "assign"},
	ShapeRepeat:    {"at", "comment", "assign"},
	ShapeStatement: {"statements", "within", "skip", "comment", "setting"},
	ShapePresence:  {"at", "aside"},
	ShapeLink:      {"at", "item"},
}

// countsIn tells whether a key of a registration has an effect.
func countsIn(r *Registration, key string) bool {
	switch {
	case slices.Contains(everyShape, key):
		return !r.InFolder() || key != "options" && key != "paths" && key != "suffix"
	case key == "within" && r.Shape == ShapeList:
		return r.Format == FormatCompose
	case (key == "comment" || key == "assign") && (r.Shape == ShapeKey || r.Shape == ShapeList || r.Shape == ShapeParallel):
		return r.Format == FormatKeyValue || r.Format == FormatINI
	case (key == "comment" || key == "separator") && r.Shape == ShapeItems:
		return r.Format == FormatText
	case key == "at" && r.Shape == ShapeKey:
		return r.Format != FormatKeyValue
	}
	return slices.Contains(ofShape[r.Shape], key)
}

// remark notes a key that is there and has no effect.
func (c *checker) remark(d *Dialect, key, format string, args ...any) {
	if line, ok := c.lines[key]; ok {
		d.remarks = append(d.remarks, Problem{c.file, line, key, fmt.Sprintf(format, args...)})
	}
}

// remarks finds what has no effect where it stands, what can never fit, and what is missing.
func (c *checker) remarks(d *Dialect) {
	for i := range d.Registrations {
		r, table := &d.Registrations[i], fmt.Sprintf("registration[%d].", i)
		for key := range c.lines {
			if name, ok := strings.CutPrefix(key, table); ok && !countsIn(r, name) {
				c.remark(d, key, "has no effect in a registration of the shape %q and the format %q", string(r.Shape), string(r.Format))
			}
		}
	}
	for _, w := range withoutEffect(d) {
		c.remark(d, w[0], "has no effect %s", w[1])
	}
	c.unfitting(d, "log", d.Log.Rules)
	c.unfitting(d, "console", d.Console.Rules)
	loads := func(r Rule) bool { return r.Means == MeansLoaded }
	if !slices.ContainsFunc(d.Log.Rules, loads) && !slices.ContainsFunc(d.Console.Rules, loads) && len(d.Leavings) == 0 &&
		!slices.ContainsFunc(d.Probes, func(p Probe) bool { return p.Mapped || slices.ContainsFunc(p.Rules, loads) }) {
		d.remarks = append(d.remarks, Problem{c.file, 0, "log.rule", "no rule means \"loaded\", and neither a list on the console, nor a probe, nor what mods leave behind tells it: no start of such a server can be proved"})
	}
	slices.SortStableFunc(d.remarks, func(a, b Problem) int { return a.Line - b.Line })
}

// withoutEffect are the keys outside of registrations that have no effect beside what else a
// dialect says, and why.
func withoutEffect(d *Dialect) (list [][2]string) {
	add := func(when bool, why string, keys ...string) {
		for _, key := range keys {
			if when {
				list = append(list, [2]string{key, why})
			}
		}
	}
	for i := range d.Places {
		table, file := fmt.Sprintf("place[%d].", i), d.Places[i].File != ""
		add(file, "where each mod is a single file", table+"mark", table+"bundle", table+"main", table+"speaks")
		add(!file, "where mods are folders", table+"packed")
	}
	for i := range d.Manifests {
		m, table := &d.Manifests[i], fmt.Sprintf("manifest[%d].", i)
		add(m.Format != FormatKeyValue && m.Format != FormatINI, fmt.Sprintf("in the format %q", string(m.Format)), table+"assign")
		add(m.Versions == "", "without versions, which says how ranges are written", table+"need_range")
	}
	add(d.Order == OrderListed, "where mods load in the order of the list", "load.walk", "load.ties")
	add(!strings.Contains(d.Log.Prefix, "{time}"), "without {time} in the prefix", "log.time")
	add(d.Stop.Console != "", "beside a word on the console", "stop.signal")
	add(d.Console.End == "", "without end", "console.end_level", "console.end_source")
	for i := range d.Console.Rules {
		add(d.Console.List == "" && d.Console.Status == "", "as nothing is asked that could be replied to", fmt.Sprintf("console.rule[%d]", i))
	}
	return list
}

// unfitting tells of patterns that no line fits, and of rules that never count as another takes
// all their lines.
func (c *checker) unfitting(d *Dialect, table string, rules []Rule) {
	for i := range rules {
		key := fmt.Sprintf("%s.rule[%d].line", table, i)
		line := rules[i].Line
		if strings.TrimRight(line, " \t") != line {
			c.remark(d, key, "ends with a blank, which no line of a log that is looked at does")
		}
		for k := range rules[:i] {
			before := &rules[k]
			if before.Level != "" || before.Source != "" || before.From != "" || before.Until != "" || before.pattern == nil || rules[i].pattern == nil {
				continue
			}
			if takesAll(before.pattern, rules[i].pattern) {
				c.remark(d, key, "never counts: the rule %q before it fits all of its lines", before.Line)
				break
			}
		}
	}
}

// takesAll tells whether a pattern fits whatever another one does: it fits samples of that in
// which each placeholder stands for something unusual.
func takesAll(p, other *text.Pattern) bool {
	for _, filling := range []map[string]string{{"ms": "7", "s": "7"}, {"ms": "1.5", "s": "1.5", "mod": "Ω.x-1", "any": "", "reason": "q: (z) 9"}} {
		sample := other.Fill(func(name string) string {
			if value, ok := filling[name]; ok {
				return value
			}
			return "ω" + name
		})
		if _, ok := p.Match([]byte(sample), nil); !ok {
			return false
		}
	}
	return true
}
