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
	ShapeParallel:  {"at", "numbers", "separator", "mark", "last", "comment", "assign"},
	ShapeItems:     {"at", "item", "name_key"},
	ShapeWords:     {"at"},
	ShapeSection:   {"at", "item", "comment", "assign"},
	ShapeRepeat:    {"at", "comment", "assign"},
	ShapeStatement: {"statements", "within", "skip", "comment", "setting"},
	ShapePresence:  {"at", "aside"},
}

// countsIn tells whether a key of a registration has an effect.
func countsIn(r *Registration, key string) bool {
	switch {
	case slices.Contains(everyShape, key):
		return r.Shape != ShapePresence || key != "options" && key != "paths" && key != "suffix"
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
	for i := range d.Places {
		p, table := &d.Places[i], fmt.Sprintf("place[%d].", i)
		if p.File != "" {
			for _, key := range []string{"mark", "bundle", "main", "speaks"} {
				c.remark(d, table+key, "has no effect where each mod is a single file")
			}
		} else {
			c.remark(d, table+"packed", "has no effect where mods are folders")
		}
	}
	for i := range d.Manifests {
		m, table := &d.Manifests[i], fmt.Sprintf("manifest[%d].", i)
		if m.Format != FormatKeyValue {
			c.remark(d, table+"assign", "has no effect in the format %q", string(m.Format))
		}
		if m.Versions == "" {
			c.remark(d, table+"need_range", "has no effect without versions, which says how ranges are written")
		}
	}
	if d.Order == OrderListed {
		c.remark(d, "load.walk", "has no effect where mods load in the order of the list")
		c.remark(d, "load.ties", "has no effect where mods load in the order of the list")
	}
	if !strings.Contains(d.Log.Prefix, "{time}") {
		c.remark(d, "log.time", "has no effect without {time} in the prefix")
	}
	if d.Stop.Console != "" {
		c.remark(d, "stop.signal", "has no effect beside a word on the console")
	}
	if d.Console.List == "" && d.Console.Status == "" {
		for i := range d.Console.Rules {
			c.remark(d, fmt.Sprintf("console.rule[%d]", i), "has no effect: nothing is asked that could be replied to")
		}
	}
	if d.Console.End == "" {
		c.remark(d, "console.end_level", "has no effect without end")
		c.remark(d, "console.end_source", "has no effect without end")
	}
	c.unfitting(d, "log", d.Log.Rules)
	c.unfitting(d, "console", d.Console.Rules)
	loads := func(r Rule) bool { return r.Means == MeansLoaded }
	if !slices.ContainsFunc(d.Log.Rules, loads) && !slices.ContainsFunc(d.Console.Rules, loads) && len(d.Leavings) == 0 &&
		!slices.ContainsFunc(d.Probes, func(p Probe) bool { return slices.ContainsFunc(p.Rules, loads) }) {
		d.remarks = append(d.remarks, Problem{c.file, 0, "log.rule", "no rule means \"loaded\", and neither a list on the console, nor a probe, nor what mods leave behind tells it: no start of such a server can be proved"})
	}
	slices.SortStableFunc(d.remarks, func(a, b Problem) int { return a.Line - b.Line })
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
			if before.Line == line || takesAll(before.pattern, rules[i].pattern) {
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
