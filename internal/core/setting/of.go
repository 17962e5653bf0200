package setting

import (
	"path"
	"strings"

	"initium/internal/core/dialect"
)

// endings are those of files whose notation they tell.
var endings = map[string]Notation{
	".properties": {Format: dialect.FormatKeyValue, Comment: "# !"},
	".ini":        {Format: dialect.FormatINI, Comment: "; #"},
	".json":       {Format: dialect.FormatJSON},
	".yaml":       {Format: dialect.FormatYAML},
	".yml":        {Format: dialect.FormatYAML},
	".toml":       {Format: dialect.FormatTOML},
	".xml":        {Format: dialect.FormatXML},
	".env":        {Format: dialect.FormatEnv},
}

// Of is how a file of a server is written, by what the dialect says of files with settings or of it as a
// startup file, or else by its ending; ok is false where neither tells.
func Of(d *dialect.Dialect, vars dialect.Vars, file string) (n Notation, ok bool) {
	if below, own := strings.CutPrefix(file, vars["dir"]+"/"); own {
		for i := range d.Settings {
			if s := &d.Settings[i]; s.Fits(below) {
				return fromTable(s), true
			}
		}
	}
	for i := range d.Registrations {
		r := &d.Registrations[i]
		if name, known := vars.Expand(r.File); !known || name != file {
			continue
		}
		switch r.Format {
		case dialect.FormatScript, dialect.FormatText:
			n = Notation{Format: r.Format, Comment: r.Comment, Quote: r.Quote, Forms: r.SettingForms(), Style: r.FormStyle()}
			if len(n.Forms) == 0 {
				continue
			}
			return n, true
		case dialect.FormatKeyValue, dialect.FormatINI:
			return Notation{Format: r.Format, Comment: r.Comment, Assign: r.Assign}, true
		case dialect.FormatShell, dialect.FormatBatch, dialect.FormatUnit, dialect.FormatWords:
			if r.Form != "" { // what is pasted is planned as a field
				continue
			}
			prefix, _, _ := strings.Cut(r.At, "{")
			return Notation{Format: r.Format, Launch: strings.TrimSpace(prefix)}, true
		case dialect.FormatCompose:
			return Notation{Format: dialect.FormatYAML}, true
		case dialect.FormatEnv, dialect.FormatJSON, dialect.FormatYAML, dialect.FormatTOML, dialect.FormatXML:
			return Notation{Format: r.Format}, true
		}
	}
	n, ok = endings[strings.ToLower(path.Ext(file))]
	return n, ok
}

func fromTable(s *dialect.SettingsFile) Notation {
	n := Notation{Format: s.Format, Comment: s.Comment, Assign: s.Assign, Quote: s.Quote, Forms: s.SettingForms()}
	n.Style.Settings, n.Style.Comment = s.Forms(), strings.Fields(s.Comment)
	return n
}
