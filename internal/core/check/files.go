package check

import (
	"bytes"
	"fmt"
	"image"
	_ "image/gif"  // icons
	_ "image/jpeg" // may be
	_ "image/png"  // any of these
	"path"
	"slices"
	"strings"

	"initium/internal/core/block"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// maxData is the largest data file that is looked into, in bytes.
const maxData = 64 << 20

var problemSeverity = map[Code]Severity{CodeIncludeAgain: Warning, CodeIncludeOutside: Note}

// files looks at the startup files themselves.
func (c *checker) files() {
	l := c.s.Lineup
	seen := map[string]bool{}
	for i := range l.Files {
		f := &l.Files[i]
		if f.Missing {
			c.add(Finding{Code: CodeFileMissing, Severity: Warning, File: f.Path}, "the %s %s is not there; Initium makes it with the first registration",
				c.d.Registrations[f.Registration].Name, path.Base(f.Path))
		} else if !seen[f.Path] {
			seen[f.Path] = true
			c.encoding(f)
			c.mergeMarks(f)
		}
	}
	for _, p := range l.Problems {
		code := Code(p.Code)
		severity, ok := problemSeverity[code]
		if !ok {
			severity = Error
		}
		if p.Harmless {
			severity = Note
		}
		c.add(Finding{Code: code, Severity: severity, File: l.Files[p.File].Path, Line: p.Line, Column: p.Column}, "%s", p.Message)
	}
	for _, s := range c.s.Slips() {
		p := l.SlipAt(s)
		c.mistyped[s.Name] = true
		c.add(Finding{Code: CodeLineMistyped, Severity: Error, File: l.Files[s.File].Path, Line: p.Line, Column: p.Column, Mod: s.Name}, "%s", p.Message).
			remedy(lineup.Change{Op: lineup.OpMend, Mod: s.Name})
	}
}

// encoding tells of startup files that an editor has saved in a way that the
// server will not read.
func (c *checker) encoding(f *lineup.File) {
	plain := c.d.Registrations[f.Registration].Plain
	severity := Warning
	if plain {
		severity = Error
	}
	switch {
	case f.Encoding != text.EncodingPlain:
		c.add(Finding{Code: CodeEncodingWrong, Severity: severity, File: f.Path, Line: 1, Column: 1}, "%s is saved as UTF-16, which few servers read", path.Base(f.Path)).
			Remedy = "save it as UTF-8 in an editor"
	case plain && bytes.HasPrefix(f.Bytes, []byte("\xef\xbb\xbf")):
		c.add(Finding{Code: CodeEncodingWrong, Severity: severity, File: f.Path, Line: 1, Column: 1}, "%s begins with a byte-order mark, which the server takes for text", path.Base(f.Path)).
			Remedy = "save it as UTF-8 without the mark in an editor"
	}
}

// mergeMarks tells of a merge that was not finished.
func (c *checker) mergeMarks(f *lineup.File) {
	if !bytes.Contains(f.Bytes, []byte("<<<<<<< ")) || !bytes.Contains(f.Bytes, []byte(">>>>>>> ")) {
		return
	}
	for i, line := range text.Lines(f.Bytes) {
		if bytes.HasPrefix(line.Text.In(f.Bytes), []byte("<<<<<<< ")) {
			c.add(Finding{Code: CodeMergeUnfinished, Severity: Error, File: f.Path, Line: i + 1, Column: 1}, "%s holds the marks of a merge that was not finished", path.Base(f.Path)).
				Remedy = "keep the side that is meant and take the lines with <<<<<<<, ======= and >>>>>>> out"
		}
	}
}

// data looks at the data files and icons that the dialect knows.
func (c *checker) data() {
	if c.facts.FS == nil {
		return
	}
	for _, d := range c.d.Data {
		name, ok := c.s.Vars.Expand(d.File)
		if !ok {
			continue
		}
		data, err := survey.Open(c.facts.FS, name, maxData)
		if err != nil {
			continue // the server does without it, or its absence has a finding of its own
		}
		fault := wellFormed(d.Format, data)
		if d.Format == dialect.FormatText {
			doc, _ := text.Decode(data)
			language := block.LanguageOf(name, d.Comment)
			fault = language.Balanced(doc)
		}
		if fault != nil {
			c.add(Finding{Code: CodeDataUnreadable, Severity: Error, File: name, Line: fault.Line, Column: fault.Column}, "%s cannot be read: %s", path.Base(name), fault.Message).
				Remedy = "mend the file at this place"
			c.wrong(d.Wrong, fmt.Sprintf("%s cannot be read", path.Base(name)))
		}
	}
	for _, icon := range c.d.Icons {
		c.icon(icon)
	}
}

// wrong lets something that is wrong with the server have the fate that the
// dialect says.
func (c *checker) wrong(fate dialect.Fate, why string) {
	switch fate {
	case dialect.FateStops:
		c.stops = append(c.stops, why)
	case dialect.FatePassed:
		c.passed = append(c.passed, why)
	case dialect.FateFails:
		c.unfound = append(c.unfound, why)
	}
}

func (c *checker) icon(icon dialect.Icon) {
	name, ok := c.s.Vars.Expand(icon.File)
	if !ok {
		return
	}
	data, err := survey.Open(c.facts.FS, name, maxData)
	if err != nil {
		return
	}
	config, _, err := image.DecodeConfig(bytes.NewReader(data))
	switch {
	case err != nil:
		c.add(Finding{Code: CodeIconUnreadable, Severity: Warning, File: name}, "the icon %s is no picture that can be read", path.Base(name)).
			Remedy = fmt.Sprintf("put a PNG of %d by %d pixels there", icon.Width, icon.Height)
	case config.Width != icon.Width || config.Height != icon.Height:
		c.add(Finding{Code: CodeIconSize, Severity: Warning, File: name}, "the icon %s has %d by %d pixels; the server takes %d by %d only", path.Base(name), config.Width, config.Height, icon.Width, icon.Height).
			Remedy = fmt.Sprintf("scale it to %d by %d pixels", icon.Width, icon.Height)
	}
}

// places compares the lists that have to agree, and looks at the length of
// launch lines.
func (c *checker) places() {
	l := c.s.Lineup
	for i, f := range l.Files {
		r := &c.d.Registrations[f.Registration]
		if r.SameAs != "" && !f.Missing && l.Understood(r.Name) && l.Understood(r.SameAs) {
			lead, copied := l.On(r.SameAs), l.On(r.Name)
			if !slices.Equal(lead, copied) {
				c.add(Finding{Code: CodePlacesDisagree, Severity: Error, File: f.Path}, "the %s and the %s do not agree: %s", r.SameAs, r.Name, difference(lead, copied)).
					remedy(lineup.Change{Op: lineup.OpMatch, Registration: r.Name, To: r.SameAs})
			}
		}
		length, limit, what := l.LaunchLimit(i)
		switch {
		case limit > 0 && length > limit:
			c.add(Finding{Code: CodeLaunchTooLong, Severity: Error, File: f.Path}, "%s has %d characters; more than %d are cut off or refused", what, length, limit).
				Remedy = "switch mods off, or hand the list over in a file if the server can read one"
		case limit > 0 && length > limit*4/5:
			c.add(Finding{Code: CodeLaunchLong, Severity: Warning, File: f.Path}, "%s has %d characters, of %d at most", what, length, limit).
				Remedy = "keep it shorter: there is room for few more mods"
		}
	}
}

// difference says how one list differs from another.
func difference(lead, copied []string) string {
	var words []string
	for _, name := range lead {
		if !slices.Contains(copied, name) {
			words = append(words, name+" is only in the first")
		}
	}
	for _, name := range copied {
		if !slices.Contains(lead, name) {
			words = append(words, name+" is only in the second")
		}
	}
	if len(words) == 0 {
		return "the order is another"
	}
	if more := len(words) - 3; more > 0 {
		words = append(words[:3], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(words, ", ")
}
