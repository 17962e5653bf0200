package dialect

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/text"
)

// SettingsFile says how files are written that hold settings, where their ending does not tell it.
type SettingsFile struct {
	Files   string `toml:"files"` // a pattern, as that of a Content
	Format  Format `toml:"format"`
	Comment string `toml:"comment"`
	Assign  string `toml:"assign"`
	Quote   string `toml:"quote"`
	Setting string `toml:"setting"` // as that of a Registration
	About   string `toml:"about"`

	forms []*text.Form
}

// Fits tells whether a file of the server is one of these; name is its path below the server's folder.
func (s *SettingsFile) Fits(name string) bool {
	_, ok := (&Content{Files: s.Files}).Fits(name)
	return ok
}

// SettingForms are the lines that set something, as Setting has them.
func (s *SettingsFile) SettingForms() []string { return formsOf(s.Setting) }

// Forms are these lines compiled, where the format is text.
func (s *SettingsFile) Forms() []*text.Form { return s.forms }

// settings checks how settings are written.
func (c *checker) settings(d *Dialect) {
	for i := range d.Settings {
		s, key := &d.Settings[i], fmt.Sprintf("settings[%d]", i)
		c.glob(key+".files", strings.TrimSuffix(s.Files, "/**"))
		oneOf(c, key+".format", &s.Format, "", FormatScript, FormatText, FormatKeyValue, FormatINI, FormatEnv, FormatJSON, FormatYAML, FormatTOML, FormatXML)
		switch s.Format {
		case FormatScript:
			c.need(key+".setting", s.Setting)
			c.settingWords(key+".setting", s.Setting)
		case FormatText:
			c.need(key+".setting", s.Setting)
			s.forms = c.settingForms(key+".setting", s.Setting, strings.Fields(s.Comment))
		}
	}
}

// settingWords checks the lines of a script that set something.
func (c *checker) settingWords(key, setting string) {
	for _, form := range formsOf(setting) {
		if words := strings.Fields(form); slices.Contains(words, "{name}") {
			c.words(key, form, "name", "value")
		} else {
			c.words(key, form, "value")
		}
	}
}

// settingForms compiles the lines of a text that set something.
func (c *checker) settingForms(key, setting string, comments []string) (forms []*text.Form) {
	for _, source := range formsOf(setting) {
		f, err := text.ParseForm(source, comments, []string{"name", "value", "any"})
		switch {
		case err != nil:
			c.bad(key, "%v", err)
		case !slices.Contains(f.Pattern().Names(), "value"):
			c.bad(key, "%s has to hold {value}", f)
		case !slices.Contains(f.Pattern().Names(), "name") && f.Own() == "":
			c.bad(key, "%s has to hold {name}, or to begin with what it sets", f)
		default:
			forms = append(forms, f)
		}
	}
	return forms
}

// Allows tells whether a setting may have a value.
func (v *Value) Allows(value string) bool {
	if len(v.Allowed) > 0 && !slices.ContainsFunc(v.Allowed, func(a string) bool { return strings.EqualFold(a, value) }) {
		return false
	}
	if v.Least == nil && v.Most == nil {
		return true
	}
	n, err := strconv.ParseFloat(value, 64)
	return err == nil && (v.Least == nil || n >= *v.Least) && (v.Most == nil || n <= *v.Most)
}

// MayBe says in words what a setting may be; "" where anything will do.
func (v *Value) MayBe() string {
	var words []string
	if len(v.Allowed) > 0 {
		words = append(words, strings.Join(v.Allowed, ", "))
	}
	if v.Least != nil {
		words = append(words, fmt.Sprintf("a number from %g", *v.Least))
	}
	if v.Most != nil {
		words = append(words, fmt.Sprintf("a number up to %g", *v.Most))
	}
	return strings.Join(words, ", ")
}

// Is tells whether a setting of a file is this one: its name as the dialect has it, or as a path in the file.
func (v *Value) Is(name string) bool {
	return v.Name == name || strings.ReplaceAll(v.Name, "/", ".") == name
}

// Unique is something of which there may be only one of each name in a script, such as its classes.
type Unique struct {
	Files   string `toml:"files"` // a pattern, as that of a Content
	Line    string `toml:"line"`  // the line that names it, with {value}: `class {value} {{`
	Comment string `toml:"comment"`
	About   string `toml:"about"` // what it is: `a class`

	style text.FormStyle
}

// Fits tells whether a file of the server is one of these; name is its path below the server's folder.
func (u *Unique) Fits(name string) bool {
	_, ok := (&Content{Files: u.Files}).Fits(name)
	return ok
}

// Style is what a script is read by to find the names.
func (u *Unique) Style() text.FormStyle { return u.style }

// uniques checks what has to be unique.
func (c *checker) uniques(d *Dialect) {
	for i := range d.Uniques {
		u, key := &d.Uniques[i], fmt.Sprintf("unique[%d]", i)
		c.glob(key+".files", strings.TrimSuffix(u.Files, "/**"))
		c.need(key+".line", u.Line)
		c.need(key+".about", u.About)
		u.style.Comment = strings.Fields(u.Comment)
		for _, source := range formsOf(u.Line) {
			f, err := text.ParseForm(source, u.style.Comment, []string{"value", "any"})
			switch {
			case err != nil:
				c.bad(key+".line", "%v", err)
			case !slices.Contains(f.Pattern().Names(), "value"):
				c.bad(key+".line", "%s has to hold {value}, which is the name", f)
			default:
				u.style.Settings = append(u.style.Settings, f)
			}
		}
	}
}
