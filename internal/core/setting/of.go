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

// Of is how a file of a server is written, by what the dialect says of it as a startup file, or else by
// its ending; ok is false where neither tells.
func Of(d *dialect.Dialect, vars dialect.Vars, file string) (n Notation, ok bool) {
	for i := range d.Registrations {
		r := &d.Registrations[i]
		if name, known := vars.Expand(r.File); !known || name != file {
			continue
		}
		switch r.Format {
		case dialect.FormatScript:
			n = Notation{Format: r.Format, Comment: r.Comment, Quote: r.Quote}
			if r.Setting == "" {
				continue
			}
			n.Forms = []string{r.Setting}
			return n, true
		case dialect.FormatKeyValue, dialect.FormatINI:
			return Notation{Format: r.Format, Comment: r.Comment, Assign: r.Assign}, true
		case dialect.FormatEnv, dialect.FormatJSON, dialect.FormatYAML, dialect.FormatTOML, dialect.FormatXML:
			return Notation{Format: r.Format}, true
		}
	}
	n, ok = endings[strings.ToLower(path.Ext(file))]
	return n, ok
}
