// Package dialect reads and checks dialects. A dialect is a TOML file that says
// how one family of servers is laid out, how it registers mods, how it is
// started and stopped, and how its log is read. The program itself knows no
// family.
//
// Strings in a dialect may name variables in braces: {dir} is the server's
// folder, {initium} this program, {user_home} the operator's home folder, and
// each [[given]] is a variable of its own name.
package dialect

import (
	"maps"
	"slices"
	"strings"
	"time"

	"initium/internal/core/text"
)

// Dialect is one family of servers. Parse makes it; it is not changed after.
type Dialect struct {
	Name          string         `toml:"name"`  // what commands call it
	Title         string         `toml:"title"` // what screens call it
	About         string         `toml:"about"`
	Order         Order          `toml:"order"`
	Recognise     Recognise      `toml:"recognise"`
	Parts         []Part         `toml:"part"`
	Givens        []Given        `toml:"given"`
	Places        []Place        `toml:"place"`
	Manifests     []Manifest     `toml:"manifest"`
	Sources       []Source       `toml:"source"`
	Names         Names          `toml:"names"`
	Registrations []Registration `toml:"registration"`
	Values        []Value        `toml:"value"`
	Settings      []SettingsFile `toml:"settings"`
	Builds        []Build        `toml:"build"`
	Data          []Data         `toml:"data"`
	Icons         []Icon         `toml:"icon"`
	Keys          Keys           `toml:"keys"`
	Contents      []Content      `toml:"content"`
	Uniques       []Unique       `toml:"unique"`
	Leavings      []Leaving      `toml:"leaves"`
	World         World          `toml:"world"`
	Database      Database       `toml:"database"`
	Load          Load           `toml:"load"`
	Start         Start          `toml:"start"`
	Stop          Stop           `toml:"stop"`
	Log           Log            `toml:"log"`
	Console       Console        `toml:"console"`
	Probes        []Probe        `toml:"probe"`
	Examples      []Example      `toml:"example"`

	remarks Problems
}

// Order says who decides the order in which mods load.
type Order string

// The load order is the list as written, or the server's own choice.
const (
	OrderListed Order = "listed"
	OrderServer Order = "server"
)

// Data is a file of the server that has to be well formed.
type Data struct {
	File   string `toml:"file"`
	Format Format `toml:"format"` // json, yaml, toml or xml; or text, of which the brackets have to close
	About  string `toml:"about"`
	Wrong  Fate   `toml:"wrong"` // what becomes of the mods when it is not

	Comment string `toml:"comment"` // of a text: what begins a comment, where its ending does not tell it
}

// Source is a script of a mod's own, which the server runs when it loads the mod.
type Source struct {
	File    string   `toml:"file"`    // below the mod's folder
	Format  Format   `toml:"format"`  // lua, or script
	Words   []string `toml:"words"`   // of a script: all that a line may begin with
	Comment string   `toml:"comment"` // of a script
	Quote   string   `toml:"quote"`   // of a script
}

// Icon is a picture that has to have an exact size.
type Icon struct {
	File   string `toml:"file"`
	Width  int    `toml:"width"`  // in pixels
	Height int    `toml:"height"` // in pixels
	About  string `toml:"about"`
}

// Keys are files of mods that have to be among the server's own.
type Keys struct {
	Files string `toml:"files"` // below a mod's folder: `keys/*.key`
	Into  string `toml:"into"`  // the server's folder for them
}

// Load says what the server does with the mods that it finds: in which order,
// and what becomes of those that something is wrong with. Forecasts rest on it.
type Load struct {
	Walk Walk `toml:"walk"` // how a server that decides itself finds the order
	Ties Ties `toml:"ties"` // which of several that could come next is taken

	Absent     Fate `toml:"absent"`      // a registered mod that is not there
	NeedAbsent Fate `toml:"need_absent"` // a mod whose hard need is not there, or did not load
	NeedLate   Fate `toml:"need_late"`   // or comes after it
	Circle     Fate `toml:"circle"`      // mods that need each other
	Unreadable Fate `toml:"unreadable"`  // a manifest that cannot be read
	BadName    Fate `toml:"bad_name"`    // a name with characters that are not allowed
	Differs    Fate `toml:"differs"`     // a manifest with another name than the folder
	NoMain     Fate `toml:"no_main"`     // a mod without its main file
	Twice      Fate `toml:"twice"`       // a mod that is registered a second time
	Key        Fate `toml:"key"`         // one whose key file is not among the server's
	Number     Fate `toml:"number"`      // one with another catalogue number than the list says
	Misfit     Fate `toml:"misfit"`      // one made for another version, loader or runtime
	WrongList  Fate `toml:"wrong_list"`  // one on a list that is not for its side
	Setting    Fate `toml:"setting"`     // one that reads a setting that is not set by then
	Conflict   Fate `toml:"conflict"`    // two that cannot be together
	Twins      Fate `toml:"twins"`       // two of one name in places that rank the same
	Script     Fate `toml:"script"`      // a script with an error in it

	Range Fate `toml:"range"` // a need that is there in a version that will not do
	Port  Fate `toml:"port"`  // what the mods do when the port is taken: nothing ("stops"), or they load before that shows ("loads")
}

// Walk is how a server finds an order by itself.
type Walk string

// The ways in which servers find an order: each mod after its needs, going
// through the list and bringing the needs of each in first; or again and again
// one that waits for nothing more, the longest ready first, or the last that
// became ready first.
const (
	WalkNeedsFirst Walk = "needs-first"
	WalkReadyQueue Walk = "ready-queue"
	WalkReadyStack Walk = "ready-stack"
	WalkUnknown    Walk = "unknown" // none is foretold
)

// Ties says in which order a server looks at its mods.
type Ties string

// Mods are looked at as they are listed, by name, or folder by folder.
const (
	TiesListed Ties = "listed"
	TiesName   Ties = "name"
	TiesPlace  Ties = "place"
)

// Fate is what becomes of a mod that something is wrong with.
type Fate string

// A mod can fail and the server go on; the server can stop because of it; the
// mod can be passed over in silence; or it loads all the same.
const (
	FateFails   Fate = "fails"
	FateStops   Fate = "stops"
	FateLater   Fate = "stops later" // once it has gone through all the others
	FateFirst   Fate = "stops first" // before it comes to any
	FatePassed  Fate = "passed over"
	FateIgnored Fate = "loads"
)

// Recognise says how a folder shows that it is a server of this family.
type Recognise struct {
	Files []string `toml:"files"` // paths below the folder; all have to exist
}

// Given is something that the operator can say when he adopts a server.
type Given struct {
	Name      string   `toml:"name"`
	Kind      Kind     `toml:"kind"`
	About     string   `toml:"about"`
	Default   []string `toml:"default"`      // of paths and programs the first that exists
	Optional  bool     `toml:"optional"`     // may stay without a value
	From      *From    `toml:"from"`         // a file that says it, asked before Default
	Rehearse  *string  `toml:"in_rehearsal"` // what a copy has instead on which a start is rehearsed
	Told      string   `toml:"told"`         // as in Value
	MayDiffer bool     `toml:"may_differ"`
}

// From names a key in a file of "key = value" lines, or a setting in a
// registration's file.
type From struct {
	Registration string `toml:"registration"`
	Key          string `toml:"key"`
}

// Kind is what a given value may be.
type Kind string

// The kinds of given values.
const (
	KindText    Kind = "text"
	KindPort    Kind = "port"    // 1 to 65535
	KindFolder  Kind = "folder"  // a folder that exists
	KindFile    Kind = "file"    // a file that exists
	KindProgram Kind = "program" // a file that can be run; a bare name is looked up in PATH
)

// Place is a folder that mods are put into.
type Place struct {
	Path   string   `toml:"path"`
	Loads  Loads    `toml:"loads"`
	Called string   `toml:"called"` // how a registration with a path begins that names a mod in here
	Group  string   `toml:"group"`  // how the name of a category folder begins
	Bundle []string `toml:"bundle"` // files that show a folder to be a bundle of mods
	File   string   `toml:"file"`   // mods are single files: `{mod}.so`, perhaps with their release: `{mod}-{release}.so`
	Newest bool     `toml:"newest"` // of several releases of a mod the newest is taken
	Aside  string   `toml:"aside"`  // what a mod's file or folder is called while it is set aside: `{mod}.off`
	Packed bool     `toml:"packed"` // such a file is a zip archive with the mod's manifest inside
	Mark   []string `toml:"mark"`   // files of which a mod has at least one; empty: every folder is a mod
	Speaks string   `toml:"speaks"` // a file without which a mod loads in silence
	Main   string   `toml:"main"`   // a file without which a mod cannot load
}

// IsPattern tells a name that stands for several files, as package path matches them.
func IsPattern(name string) bool { return strings.ContainsAny(name, "*?[") }

// Loads says what it takes for a mod in a place to be loaded.
type Loads string

// A mod loads when it is registered, whenever it is there, or as part of what
// the server brings itself.
const (
	LoadsRegistered Loads = "registered"
	LoadsAlways     Loads = "always"
	LoadsBase       Loads = "base"
)

// Manifest is one way in which a mod describes itself. Several may apply to a
// mod: each fact is taken from the first that states it.
type Manifest struct {
	File          string `toml:"file"`   // below the mod's folder, or OwnFile
	Beside        string `toml:"beside"` // the server reads it only when this file is there too
	Format        Format `toml:"format"`
	Comment       string `toml:"comment"`
	Assign        string `toml:"assign"`
	Name          string `toml:"name"` // this and the following: keys in the file
	Title         string `toml:"title"`
	Release       string `toml:"release"`
	Needs         string `toml:"needs"`
	OptionalNeeds string `toml:"optional_needs"`
	Side          string `toml:"side"`
	Number        string `toml:"number"`        // in a catalogue
	Separator     string `toml:"separator"`     // between needs, where a value holds several
	OptionalMark  string `toml:"optional_mark"` // before or after an optional need, where it has no key of its own
	ConflictMark  string `toml:"conflict_mark"` // before or after a mod that this one cannot be with

	Conflicts string `toml:"conflicts"` // keys again: mods that this one cannot be with
	Provides  string `toml:"provides"`  // other names that it answers to
	Before    string `toml:"before"`    // mods that have to load after it, if they are there
	After     string `toml:"after"`     // mods that have to load before it, if they are there
	Brings    string `toml:"brings"`    // mods that come in with it, registered or not
	Settings  string `toml:"settings"`  // settings that it reads when it starts
	Server    string `toml:"server"`    // the versions of the server that it is made for
	Loader    string `toml:"loader"`    // and of the loader, or the loader's name
	Runtime   string `toml:"runtime"`   // and of the runtime

	Versions  Notation `toml:"versions"`   // how ranges of versions are written; none: a need is a bare name
	NeedName  string   `toml:"need_name"`  // where needs are objects: the key of the name
	NeedRange string   `toml:"need_range"` // that of the range
	NeedMust  string   `toml:"need_must"`  // that of a yes or no: whether the need is a hard one

	patterns map[string]*text.Pattern // of a source: the keys, compiled
}

// OwnFile is the file of a manifest that a mod which is a single file holds itself.
const OwnFile = "."

// Pattern is the line that a key of a source describes, or nil when the key is no
// pattern.
func (m *Manifest) Pattern(key string) *text.Pattern {
	if p, ok := m.patterns[key]; ok {
		return p
	}
	p, err := text.ParsePattern(key, nil)
	if err != nil {
		return nil
	}
	return p
}

// Notation is how ranges of versions are written.
type Notation string

// The notations of version ranges.
const (
	VersionsComparators Notation = "comparators" // >=1.2 <2, ^1.2, ~1.2, 1.x, 1.0 - 2.0, parts joined by ||
	VersionsIntervals   Notation = "intervals"   // [1.2,2), (,2], [1.2]; a bare version is the least
	VersionsLeast       Notation = "least"       // a bare version is the least that will do
	VersionsListed      Notation = "listed"      // the versions that will do, one after the other
)

// Build is a version of something that mods have to fit: of the server, its
// loader, or its runtime.
type Build struct {
	Of           BuildOf  `toml:"of"`
	About        string   `toml:"about"`
	Command      []string `toml:"command"`      // prints the version; or
	File         string   `toml:"file"`         // holds it, as a whole
	Format       Format   `toml:"format"`       // or, in TOML, JSON or YAML,
	Key          string   `toml:"key"`          // at a key; or
	Registration string   `toml:"registration"` // at a key in the file of a registration
	Line         string   `toml:"line"`         // the line with it: `Engine {version}`; the first line when left out
	Wants        string   `toml:"wants"`        // the range that this family of servers needs
	Versions     Notation `toml:"versions"`
	Called       []string `toml:"called"` // what manifests call it that name it among the mods which they need

	line *text.Pattern
}

// LinePattern is the compiled Line, or nil when there is none.
func (b *Build) LinePattern() *text.Pattern { return b.line }

// BuildOf says what a Build is the version of.
type BuildOf string

// What mods have to fit.
const (
	BuildServer  BuildOf = "server"
	BuildLoader  BuildOf = "loader"
	BuildRuntime BuildOf = "runtime"
)

// Format is how a file is written.
type Format string

// The formats of manifests and of files that register mods.
const (
	FormatKeyValue Format = "key-value" // key = value
	FormatLines    Format = "lines"     // one need on a line (manifests only)
	FormatLua      Format = "lua"       // (sources only)
	FormatSource   Format = "source"    // a script; keys are lines such as `needs {value}` (manifests only)
	FormatTOML     Format = "toml"
	FormatJSON     Format = "json"
	FormatScript   Format = "script" // words on lines (registrations only, as are those below)
	FormatINI      Format = "ini"
	FormatYAML     Format = "yaml"
	FormatXML      Format = "xml"
	FormatShell    Format = "shell"   // a start script for sh or bash
	FormatBatch    Format = "batch"   // a start script for Windows
	FormatUnit     Format = "unit"    // a systemd service
	FormatText     Format = "text"    // any other text, read by its Statements
	FormatEnv      Format = "env"     // NAME=value
	FormatWords    Format = "words"   // a command line as it is pasted
	FormatCompose  Format = "compose" // a compose-style YAML file, with the command of a service at Within
)

// Names says what a mod may be called and where its name comes from.
type Names struct {
	Allowed string `toml:"allowed"` // characters and ranges, such as "a-z0-9_"
	Agree   bool   `toml:"agree"`   // folder and manifest have to give the same name
}

// Registration is one place where the family wants a mod named.
type Registration struct {
	Name    string `toml:"name"`
	File    string `toml:"file"`
	Format  Format `toml:"format"`
	Shape   Shape  `toml:"shape"`
	Comment string `toml:"comment"`
	New     string `toml:"new"` // what the file holds when Initium has to make it

	Sides    []string `toml:"sides"`    // which mods belong here, by their side; empty for those that no other takes
	SameAs   string   `toml:"same_as"`  // the registration whose list this one repeats
	Plain    bool     `toml:"plain"`    // the server reads the file only as UTF-8 without a byte-order mark
	Held     bool     `toml:"held"`     // the file must not change while the server runs
	Optional bool     `toml:"optional"` // the file need not be there

	// What is written in place of a mod's bare name:
	Options string `toml:"options"` // what parts the name from options after it
	Paths   bool   `toml:"paths"`   // a path may stand for its last element
	Suffix  string `toml:"suffix"`  // an ending that may be left out, such as that of a file

	// Where a list is, for all shapes but a line for each mod:
	At        string    `toml:"at"`        // a key, a path of keys, or the words of a launch parameter
	Numbers   string    `toml:"numbers"`   // of parallel lists: where the other one is, with a catalogue number for each mod
	Apart     bool      `toml:"apart"`     // of parallel lists: the numbers are those of downloads, each once, and not item by item those of the mods
	Aside     string    `toml:"aside"`     // of presence: the name while it is off; At is the name while it is on
	Within    string    `toml:"within"`    // of a compose-style file: where the command is, such as services.game.command; of a text: the block that the statements stand in
	Form      string    `toml:"form"`      // the field of a web form that the file stands for; it is kept in {form}
	Separator string    `toml:"separator"` // between the items of a list in one value
	Mark      string    `toml:"mark"`      // before each of them
	Last      text.Last `toml:"last"`      // whether a separator ends the list: "wanted", "forbidden", or as found
	Item      string    `toml:"item"`      // of a structured list: what an item is written as; of a link: where it leads
	NameKey   string    `toml:"name_key"`  // and, when items are objects, which key names the mod

	// A text with its own way to write things:
	Statements []string `toml:"statements"` // how a registration looks, each a line, or the two of a block: `load "{mod}";`
	Skip       []string `toml:"skip"`       // blocks in which nothing counts

	forms text.FormStyle

	// A script:
	Quote   string `toml:"quote"`
	Line    string `toml:"line"`    // the words that register: `berth {mod}`
	Setting string `toml:"setting"` // the words of a setting, `let {name} {value}` or `title {value}`; several, each on a line
	Include string `toml:"include"` // the words that read another file: `also {file}`
	Section string `toml:"section"` // the comment that titles a section: `# ~~ {title} ~~`

	// Key and value:
	Assign   string   `toml:"assign"`
	Key      string   `toml:"key"`       // `load_{mod}`
	On       string   `toml:"on"`        // what Initium writes for a mod that is on
	Off      string   `toml:"off"`       // and for one that is off
	OnWords  []string `toml:"on_words"`  // what else means on; letter case does not matter
	OffWords []string `toml:"off_words"` // what else means off, to the letter
	OnPath   bool     `toml:"on_path"`   // a value with a slash says where the mod is, and means on
}

// Shape is how mods stand in a registration.
type Shape string

// The shapes of registrations.
const (
	ShapeLine      Shape = "line"      // a line for each mod or category folder
	ShapeKey       Shape = "key"       // a key for each mod with a yes or no
	ShapeList      Shape = "list"      // a list in one value
	ShapeParallel  Shape = "parallel"  // two lists in two values, names and catalogue numbers
	ShapeItems     Shape = "items"     // a list in a structured document
	ShapeWords     Shape = "words"     // a launch parameter for each mod
	ShapeSection   Shape = "section"   // the keys of a section, in order
	ShapeRepeat    Shape = "repeat"    // a key that comes once for each mod, its value being the name
	ShapeStatement Shape = "statement" // lines or blocks that look as one of Statements does
	ShapePresence  Shape = "presence"  // being in a folder, File; set aside under another name to be off
	ShapeLink      Shape = "link"      // a link in a folder, File, to where the mod is
)

// SettingForms are the lines that set something, as Setting has them.
func (r *Registration) SettingForms() []string { return formsOf(r.Setting) }

// SettingForm is the line that sets a name: one of its own, or else the first that sets any; "" where no
// line does.
func (r *Registration) SettingForm(name string) (form string) {
	for _, f := range r.SettingForms() {
		named := strings.Contains(f, "{name}")
		if first, _, _ := strings.Cut(strings.TrimSpace(f), " "); !named && first == name {
			return f
		}
		if named && form == "" {
			form = f
		}
	}
	return form
}

func formsOf(setting string) []string {
	return slices.DeleteFunc(strings.Split(setting, "\n"), func(f string) bool { return strings.TrimSpace(f) == "" })
}

// FormStyle is what a text is read by that holds statements.
func (r *Registration) FormStyle() text.FormStyle { return r.forms }

// Switched tells whether a key for each mod says on or off; where there is no word for off, its
// value are the mod's settings.
func (r *Registration) Switched() bool { return r.Off != "" || len(r.OffWords) > 0 }

// ByPresence tells whether a mod is registered by being in a folder, not by a file that
// names it.
func (r *Registration) ByPresence() bool { return r.Shape == ShapePresence }

// InFolder tells whether what registers are the names in a folder, File, or the links there.
func (r *Registration) InFolder() bool { return r.ByPresence() || r.Shape == ShapeLink }

// Value is a setting of the server that is worth knowing.
type Value struct {
	Name         string   `toml:"name"`
	Registration string   `toml:"registration"` // whose file it stands in
	Required     bool     `toml:"required"`
	Told         string   `toml:"told"`         // which of the facts that the server tells of itself it has to agree with: `title`
	MayDiffer    bool     `toml:"may_differ"`   // a server that tells something else is proved all the same
	Placeholders []string `toml:"placeholders"` // what a template holds before anyone has filled it in
	Allowed      []string `toml:"allowed"`      // all that it may be
	Least        *float64 `toml:"least"`        // as a number
	Most         *float64 `toml:"most"`
	Risky        []string `toml:"risky"` // values that open the server to cheating, or keep mods from working
	Risk         string   `toml:"risk"`  // why
	Broad        []string `toml:"broad"` // settings, written `name value`, that undo this one from elsewhere
	About        string   `toml:"about"`
	Wrong        Fate     `toml:"wrong"`        // what becomes of the mods when it is missing or cannot be
	File         string   `toml:"file"`         // a file that has to be there, with {value} in its name
	Put          string   `toml:"put"`          // what Initium can put there, when it can know
	Secret       bool     `toml:"secret"`       // never shown
	Rehearse     *string  `toml:"in_rehearsal"` // as in Given
}

// Names tells whether a variable is handed to the server when it is started.
func (s *Start) Names(variable string) bool {
	words := slices.Concat(s.Command, slices.Concat(s.Extra...), slices.Collect(maps.Values(s.Env)))
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "{"+variable+"}") })
}

// Start says how the server is started and when it counts as started.
type Start struct {
	Directory string            `toml:"directory"`
	Command   []string          `toml:"command"`
	Files     []string          `toml:"files"`   // that the command names, and have to be there seen from Directory
	Hands     []string          `toml:"hands"`   // files that a script or unit which starts the server has to hand over to it
	Extra     [][]string        `toml:"extra"`   // added when all its variables have a value
	Env       map[string]string `toml:"env"`     // set when all its variables have a value
	Listens   string            `toml:"listens"` // the port on which it listens once it is ready, where no line says so: `{port}`
	Within    Duration          `toml:"within"`
	Settle    Duration          `toml:"settle"`   // how long it has to stay up after it said ready
	Terminal  bool              `toml:"terminal"` // it wants a terminal to print on
}

// Stop says how the server is stopped: a console word or a signal, then
// patience, then insistence.
type Stop struct {
	Console  string   `toml:"console"`
	Signal   string   `toml:"signal"` // INT, TERM, HUP or QUIT
	Patience Duration `toml:"patience"`
}

// Duration is a time span, written like "20s" or "1m30s".
type Duration time.Duration

// UnmarshalText reads a duration.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = Duration(v)
	return err
}

// Registration finds a registration by name, or nil.
func (d *Dialect) Registration(name string) *Registration {
	for i := range d.Registrations {
		if d.Registrations[i].Name == name {
			return &d.Registrations[i]
		}
	}
	return nil
}

// Given finds a given value by name, or nil.
func (d *Dialect) Given(name string) *Given {
	for i := range d.Givens {
		if d.Givens[i].Name == name {
			return &d.Givens[i]
		}
	}
	return nil
}
