package dialect

import (
	"slices"

	"initium/internal/core/text"
)

// Log says how the server's log is read.
type Log struct {
	Prefix string   `toml:"prefix"` // what stands before the message: `{time}: {level}: `
	Time   string   `toml:"time"`   // how {time} is written, as in Go's package time
	Files  []string `toml:"files"`  // that the server writes its log into, besides what it prints
	Rules  []Rule   `toml:"rule"`

	prefix *text.Pattern
}

// PrefixPattern is the compiled Prefix, or nil when there is none.
func (l *Log) PrefixPattern() *text.Pattern { return l.prefix }

// OnlyAsked tells whether what the server has loaded shows in no line of its log, but by asking it, or
// by looking at it, once it is up.
func (d *Dialect) OnlyAsked() bool {
	asked := d.Console.List != "" || len(d.ProbesOf(ProbeLoaded)) > 0
	return asked && !slices.ContainsFunc(d.Log.Rules, func(r Rule) bool { return r.Means == MeansLoaded })
}

// Rule gives one kind of log line its meaning.
type Rule struct {
	Means  Meaning `toml:"means"`
	Line   string  `toml:"line"`
	Level  string  `toml:"level"`  // only for lines whose prefix has this {level}
	Source string  `toml:"source"` // only for lines whose prefix has this {source}
	Next   bool    `toml:"next"`   // the reason stands on the following line
	Before bool    `toml:"before"` // or on the one before
	From   string  `toml:"from"`   // only after a line that says this,
	Until  string  `toml:"until"`  // and before one that says that
	Fatal  bool    `toml:"fatal"`  // the server stops because of it
	Own    bool    `toml:"own"`    // the mod's own fault: it will be so again while its files stay the same

	pattern, from, until *text.Pattern
	facts                bool
}

// Pattern is the compiled Line.
func (r *Rule) Pattern() *text.Pattern { return r.pattern }

// Counts says whether the rule is one for lines with this level and source.
func (r *Rule) Counts(level, source []byte) bool {
	return (r.Level == "" || r.Level == string(level)) && (r.Source == "" || r.Source == string(source))
}

// Bounds are the compiled From and Until; nil where there are none.
func (r *Rule) Bounds() (from, until *text.Pattern) { return r.from, r.until }

// TellsFacts says whether the line holds one of Facts.
func (r *Rule) TellsFacts() bool { return r.facts }

// Meaning is what a log line says.
type Meaning string

// The meanings of log lines.
const (
	MeansReady   Meaning = "ready"   // the server lets players in
	MeansLoading Meaning = "loading" // {mod} begins to load
	MeansLoaded  Meaning = "loaded"  // {mod} has loaded, perhaps in {ms} or {s}
	MeansFailed  Meaning = "failed"  // {mod}, or the mod with the file {path}, did not load, for {reason}
	MeansNeeds   Meaning = "needs"   // {mod} did not load, for want of {mods}
	MeansMissing Meaning = "missing" // {mods} were registered and not found
	MeansStopped Meaning = "stopped" // the server gives up, for {reason}
	MeansIgnore  Meaning = "ignore"  // worth no attention
	MeansTold    Meaning = "told"    // the server says something of itself, one of Facts
	MeansJoined  Meaning = "joined"  // {player} has come in
	MeansLeft    Meaning = "left"    // {player} has gone
)

// Facts are what a server says of itself: placeholders that any rule may hold.
var Facts = []string{"title", "map", "mode", "slots", "port", "version"}

// Console says what can be asked of a running server by typing on its console,
// and how its replies are read.
type Console struct {
	List      string   `toml:"list"`       // makes the server name the mods that it has loaded
	Status    string   `toml:"status"`     // makes it say what it is: its map, title, slots and so on
	Within    Duration `toml:"within"`     // how long a reply may take
	End       string   `toml:"end"`        // the line that a reply ends with; without it, a reply ends when it is quiet
	EndLevel  string   `toml:"end_level"`  // only one whose prefix has this {level},
	EndSource string   `toml:"end_source"` // and this {source}
	Reload    string   `toml:"reload"`     // loads one mod anew: `reload {mod}`
	Load      string   `toml:"load"`       // loads one more
	Unload    string   `toml:"unload"`     // takes one out
	Rules     []Rule   `toml:"rule"`       // as in the log, for replies

	end *text.Pattern
}

// EndPattern is the compiled End, or nil when there is none.
func (c *Console) EndPattern() *text.Pattern { return c.end }

// Ends tells the line that a reply ends with, by what it says and what stands before that.
func (c *Console) Ends(said, level, source []byte) bool {
	if c.end == nil || c.EndLevel != "" && c.EndLevel != string(level) || c.EndSource != "" && c.EndSource != string(source) {
		return false
	}
	_, ok := c.end.Match(said, nil)
	return ok
}
