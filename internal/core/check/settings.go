package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/setting"
	"initium/internal/core/text"
)

// values looks at the settings that the dialect knows.
func (c *checker) values() {
	for i := range c.d.Values {
		c.value(&c.d.Values[i])
	}
	c.repeated()
	c.templates()
}

// fileOf is the file that a registration's settings stand in, "" when it is not
// there.
func (c *checker) fileOf(registration string) string {
	for _, f := range c.s.Lineup.Files {
		if c.d.Registrations[f.Registration].Name == registration && !f.Missing {
			return f.Path
		}
	}
	return ""
}

func (c *checker) atSetting(code Code, severity Severity, s lineup.Setting) Finding {
	f := &c.s.Lineup.Files[s.File]
	line, column := text.Position(f.Bytes, s.Span.Start)
	return Finding{Code: code, Severity: severity, File: f.Path, Line: line, Column: column}
}

func (c *checker) value(v *dialect.Value) {
	file := c.fileOf(v.Registration)
	if file == "" {
		if v.Required {
			c.wrong(v.Wrong, v.Name+" is not set")
		}
		return // the file's absence is a finding of its own
	}
	set, ok := c.s.Lineup.Setting(v.Registration, v.Name)
	shown := set.Value
	if v.Secret {
		shown = "what it is"
	}
	var f *Finding
	switch {
	case !ok && v.Required:
		f = c.add(Finding{Code: CodeSettingMissing, Severity: Error, File: file}, "%s is not set: %s", v.Name, v.About)
	case !ok:
		return
	case slices.Contains(v.Placeholders, set.Value):
		f = c.add(c.atSetting(CodeSettingPlaceholder, Error, set), "%s still has the value of the template: %s", v.Name, v.About)
	case !v.Allows(set.Value):
		f = c.add(c.atSetting(CodeSettingRefused, Error, set), "%s cannot be %s: it may be %s", v.Name, shown, v.MayBe())
	}
	if f != nil {
		c.wrong(v.Wrong, f.Message)
		if value, known := c.s.Vars.Expand(v.Put); known && value != "" {
			f.remedy(lineup.Change{Op: lineup.OpSet, Mod: v.Name, To: value, Registration: v.Registration})
		} else {
			f.Remedy = "give " + v.Name + " its value: " + c.setting(v.Name, file)
		}
		return
	}
	c.named(v, set)
	if slices.ContainsFunc(v.Risky, func(r string) bool { return strings.EqualFold(r, set.Value) }) {
		c.add(c.atSetting(CodeSettingRisky, Warning, set), "%s is %s: %s", v.Name, shown, v.Risk).
			Remedy = "set it otherwise (" + c.setting(v.Name, file) + "), or accept it with the reason"
	}
	for _, broad := range v.Broad {
		name, value, _ := strings.Cut(broad, " ")
		c.undone(v, name, strings.TrimSpace(value))
	}
}

// undone tells of a broad setting that undoes narrow ones, which may be of the same name.
func (c *checker) undone(v *dialect.Value, name, value string) {
	all := c.s.Lineup.Settings
	isBroad := func(s lineup.Setting) bool { return s.Name == name && strings.EqualFold(s.Value, value) }
	var narrow []string
	for _, s := range all {
		if s.Name != v.Name || isBroad(s) || c.d.Registrations[c.s.Lineup.Files[s.File].Registration].Name != v.Registration {
			continue
		}
		shown := s.Value
		if v.Secret {
			shown = "what it is"
		}
		line, _ := text.Position(c.s.Lineup.Files[s.File].Bytes, s.Span.Start)
		narrow = append(narrow, fmt.Sprintf("%s %s (line %d)", s.Name, shown, line))
	}
	if len(narrow) == 0 {
		return
	}
	for _, s := range all {
		if isBroad(s) {
			c.add(c.atSetting(CodeSettingUndone, Warning, s), "%s %s undoes %s: the broad one wins", name, s.Value, strings.Join(narrow, ", ")).
				Remedy = fmt.Sprintf("take %s %s away, or make it narrower: initium settings %s %s", name, s.Value, c.s.Server, name)
		}
	}
}

// setting is the command that sets something in a startup file of which that can be said.
func (c *checker) setting(name, file string) string {
	if _, ok := setting.Of(c.d, c.s.Vars, file); !ok {
		return "in " + path.Base(file)
	}
	return text.Clean(fmt.Sprintf("initium set %s %s VALUE --in %s", c.s.Server, name, strings.TrimPrefix(file, c.s.Vars["dir"]+"/")))
}

// named looks for the file that a setting names.
func (c *checker) named(v *dialect.Value, set lineup.Setting) {
	if v.File == "" || strings.ContainsAny(set.Value, "/\\") {
		return
	}
	vars := dialect.Vars{"value": set.Value}
	for name, value := range c.s.Vars {
		vars[name] = value
	}
	if name, ok := vars.Expand(v.File); ok && !c.exists(name) {
		c.add(c.atSetting(CodeSettingNamesNothing, Error, set), "%s is %s, and there is no %s", v.Name, set.Value, name).
			Remedy = fmt.Sprintf("choose one that is in %s", path.Dir(name))
		c.wrong(v.Wrong, fmt.Sprintf("%s names %s, which is not there", v.Name, set.Value))
	}
}

// repeated tells of settings that a later line overrules. Only those count that
// the dialect knows or a mod reads: others may be lists by repetition.
func (c *checker) repeated() {
	known := map[string]bool{}
	for _, v := range c.d.Values {
		known[v.Name] = true
	}
	for i := range c.s.Mods {
		for _, name := range order.Settings(c.s, &c.s.Mods[i]) {
			known[name] = true
		}
	}
	first := map[string]lineup.Setting{}
	for _, s := range c.s.Lineup.Settings {
		key := s.Name + "\x00" + c.d.Registrations[c.s.Lineup.Files[s.File].Registration].Name
		old, again := first[key]
		if again && known[s.Name] && old.Value != s.Value {
			line, _ := text.Position(c.s.Lineup.Files[s.File].Bytes, s.Span.Start)
			c.add(c.atSetting(CodeSettingOverruled, Warning, old), "%s is set here, and again on line %d of %s with another value, which counts", s.Name, line, path.Base(c.s.Lineup.Files[s.File].Path)).
				Remedy = "keep the line that is meant"
		}
		first[key] = s
	}
}

// templateValue is how people write "your own value here".
var templateValue = regexp.MustCompile(`(?i)^(<[^<>]+>|\{\{.*\}\}|change[-_ ]?(me|this).*|(put|enter|insert|type)[-_ ].*[-_ ](here|key|name)|your[-_ ].*(key|token|licen[cs]e|password|name|here)|.*[-_ ](goes|yours)[-_ ]here|x{4,}|to-?do)$`)

// templates tells of values that look as if a template still waited to be filled
// in.
func (c *checker) templates() {
	for _, s := range c.s.Lineup.Settings {
		if !templateValue.MatchString(s.Value) || slices.ContainsFunc(c.findings, func(f Finding) bool {
			return f.Code == CodeSettingPlaceholder && f.Line == c.atSetting("", "", s).Line && f.File == c.s.Lineup.Files[s.File].Path
		}) {
			continue
		}
		c.add(c.atSetting(CodeSettingTemplate, Warning, s), "%s looks as if a template was not filled in", s.Name).
			Remedy = "give " + text.Clean(s.Name) + " its value: " + c.setting(s.Name, c.s.Lineup.Files[s.File].Path)
	}
}
