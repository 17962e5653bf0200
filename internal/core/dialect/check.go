package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"initium/internal/core/text"
)

// checker gathers what is wrong with a dialect, fills in defaults and compiles
// patterns.
type checker struct {
	file     string
	lines    map[string]int
	problems Problems
}

// bad notes a problem with a key. A key that the file leaves out is reported on
// the line of the table that should have it.
func (c *checker) bad(key, format string, args ...any) {
	line, ok := c.lines[key]
	for table := key; !ok && table != ""; {
		dot := strings.LastIndexByte(table, '.')
		if dot < 0 {
			break
		}
		table = table[:dot]
		line, ok = c.lines[table]
	}
	c.problems = append(c.problems, Problem{c.file, line, key, fmt.Sprintf(format, args...)})
}

func (c *checker) need(key, value string) {
	if value == "" {
		c.bad(key, "is needed and has no value")
	}
}

func oneOf[T ~string](c *checker, key string, value *T, fallback T, allowed ...T) {
	if *value == "" && fallback != "" {
		*value = fallback
	}
	if !slices.Contains(allowed, *value) {
		words := make([]string, len(allowed))
		for i, a := range allowed {
			words[i] = fmt.Sprintf("%q", string(a))
		}
		c.bad(key, "is %q; it may be %s", string(*value), strings.Join(words, ", "))
	}
}

func (c *checker) check(d *Dialect) {
	c.need("name", d.Name)
	if strings.Trim(d.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		c.bad("name", "is %q; use small letters, digits and -", d.Name)
	}
	if d.Title == "" {
		d.Title = d.Name
	}
	oneOf(c, "order", &d.Order, OrderListed, OrderListed, OrderServer)
	for i, f := range d.Recognise.Files {
		if !isBelow(f) {
			c.bad("recognise.files", "entry %d, %q, has to be a path below the server's folder", i+1, f)
		}
	}
	vars := c.givens(d)
	c.places(d, vars)
	c.manifests(d)
	c.registrations(d, vars)
	c.values(d, vars)
	c.settings(d)
	c.uniques(d)
	c.builds(d, vars)
	c.load(d)
	c.data(d, vars)
	c.content(d, vars)
	c.start(d, vars)
	c.log(d, vars)
	c.console(d)
	c.probes(d, vars)
	c.examples(d)
	for _, r := range charRanges(d.Names.Allowed) {
		if r.from > r.to {
			c.bad("names.allowed", "the range %c-%c runs backwards", r.from, r.to)
		}
	}
}

func (c *checker) givens(d *Dialect) (vars []string) {
	vars = c.parts(d, []string{"dir", "initium", "user_home", "form"})
	for i := range d.Givens {
		g, key := &d.Givens[i], fmt.Sprintf("given[%d]", i)
		c.need(key+".name", g.Name)
		if slices.Contains(vars, g.Name) {
			c.bad(key+".name", "%q is there already", g.Name)
		}
		oneOf(c, key+".kind", &g.Kind, KindText, KindText, KindPort, KindFolder, KindFile, KindProgram)
		for _, s := range g.Default {
			c.variables(key+".default", s, vars)
		}
		c.told(key, g.Told, g.MayDiffer)
		if g.From != nil {
			r := d.Registration(g.From.Registration)
			if r == nil {
				c.bad(key+".from", "names the registration %q, which this dialect has not", g.From.Registration)
			} else if n := unknownVariable(r.File, vars); n != "" {
				c.bad(key+".from", "the file of registration %q depends on {%s}, which is only known later", r.Name, n)
			}
			c.need(key+".from.key", g.From.Key)
		}
		vars = append(vars, g.Name)
	}
	return vars
}

// told checks what a value has to agree with of what the server tells of itself.
func (c *checker) told(key, fact string, mayDiffer bool) {
	switch {
	case fact != "" && !slices.Contains(Facts, fact):
		c.bad(key+".told", "%q is none of what a server tells of itself: %s", fact, strings.Join(Facts, ", "))
	case fact == "" && mayDiffer:
		c.bad(key+".may_differ", "is for a value with told, which this has not")
	}
}

func (c *checker) variables(key, s string, vars []string) {
	if _, err := text.ParsePattern(s, nil); err != nil && !strings.Contains(err.Error(), "two placeholders") {
		c.bad(key, "%v", err)
	} else if n := unknownVariable(s, vars); n != "" {
		c.bad(key, "{%s} is not known here; known are {%s}", n, strings.Join(vars, "}, {"))
	}
}

func (c *checker) places(d *Dialect, vars []string) {
	if len(d.Places) == 0 {
		c.bad("place", "at least one [[place]] that mods are put into is needed")
	}
	for i := range d.Places {
		p, key := &d.Places[i], fmt.Sprintf("place[%d]", i)
		c.need(key+".path", p.Path)
		c.variables(key+".path", p.Path, vars)
		c.variables(key+".called", p.Called, vars)
		oneOf(c, key+".loads", &p.Loads, LoadsRegistered, LoadsRegistered, LoadsAlways, LoadsBase)
		if p.Aside != "" {
			c.pattern(key+".aside", p.Aside, []string{"mod"})
		}
		if p.File != "" {
			if pattern := c.pattern(key+".file", p.File, []string{"mod", "release"}); pattern != nil && !slices.Equal(pattern.Names(), []string{"mod"}) && !slices.Equal(pattern.Names(), []string{"mod", "release"}) {
				c.bad(key+".file", "has to hold {mod} once, and {release} at most once and behind it")
			}
			if p.HasRelease() && p.Aside != "" {
				c.bad(key+".aside", "cannot be said where files have releases in their names")
			}
		}
		if p.Main != "" && !isBelow(p.Main) {
			c.bad(key+".main", "%q has to be a file below the mod's folder", p.Main)
		}
		for _, f := range slices.Concat(p.Bundle, p.Mark) {
			if !isBelow(f) {
				c.bad(key, "%q has to be a file below the mod's folder", f)
			} else if _, err := path.Match(f, ""); err != nil || IsPattern(path.Dir(f)) {
				c.bad(key, "%q is no pattern that a file's name could fit", f)
			}
		}
	}
}

func (c *checker) manifests(d *Dialect) {
	for i := range d.Manifests {
		m, key := &d.Manifests[i], fmt.Sprintf("manifest[%d]", i)
		if !isBelow(m.File) {
			c.bad(key+".file", "%q has to be a file below the mod's folder", m.File)
		}
		if m.Beside != "" && !isBelow(m.Beside) {
			c.bad(key+".beside", "%q has to be a file below the mod's folder", m.Beside)
		}
		oneOf(c, key+".format", &m.Format, "", FormatKeyValue, FormatLines, FormatTOML, FormatJSON, FormatYAML, FormatXML, FormatINI, FormatSource)
		switch {
		case m.Assign == "" && (m.Format == FormatKeyValue || m.Format == FormatINI):
			m.Assign = "="
		case m.Format == FormatLines && m.Name+m.Needs+m.Release != "":
			c.bad(key+".format", "a manifest of lines has no keys; every line is a need")
		}
		if m.Format == FormatSource {
			c.sourceKeys(key, m)
		}
		c.notation(key+".versions", &m.Versions)
		if (m.NeedRange != "" || m.NeedMust != "") && m.NeedName == "" {
			c.bad(key+".need_name", "is needed where needs are objects: the key of a need's name")
		}
	}
}

func (c *checker) registrations(d *Dialect, vars []string) {
	for i := range d.Registrations {
		r, key := &d.Registrations[i], fmt.Sprintf("registration[%d]", i)
		c.need(key+".name", r.Name)
		c.need(key+".file", r.File)
		c.variables(key+".file", r.File, vars)
		c.variables(key+".new", r.New, vars)
		oneOf(c, key+".shape", &r.Shape, "", ShapeLine, ShapeKey, ShapeList, ShapeParallel, ShapeItems, ShapeWords, ShapeSection, ShapeRepeat, ShapeStatement, ShapePresence, ShapeLink)
		if same := d.Registration(r.SameAs); r.SameAs != "" && same == nil {
			c.bad(key+".same_as", "names the registration %q, which this dialect has not", r.SameAs)
		} else if r.SameAs != "" && same == r {
			c.bad(key+".same_as", "names the registration itself; it has to be another one")
		}
		switch r.Shape {
		case ShapeLine:
			c.lineRegistration(r, key)
		case ShapeKey:
			c.keyRegistration(r, key)
		case ShapePresence, ShapeLink:
			second, form := "aside", r.Aside
			if r.Shape == ShapeLink {
				second, form = "item", r.Item
				if d.Order == OrderListed {
					c.bad(key+".shape", "links have no order but that of their names: say order = %q", string(OrderServer))
				}
			}
			for name, value := range map[string]string{"at": r.At, second: form} {
				if p := c.pattern(key+"."+name, value, []string{"mod"}); p != nil && len(p.Names()) != 1 {
					c.bad(key+"."+name, "has to hold {mod} once")
				}
			}
		case ShapeStatement:
			c.statementRegistration(r, key)
		case ShapeList, ShapeParallel, ShapeItems, ShapeWords, ShapeSection, ShapeRepeat:
			c.listRegistration(r, key)
		}
	}
}

func (c *checker) lineRegistration(r *Registration, key string) {
	oneOf(c, key+".format", &r.Format, FormatScript, FormatScript)
	c.words(key+".line", r.Line, "mod")
	c.settingWords(key+".setting", r.Setting)
	if r.Include != "" {
		c.words(key+".include", r.Include, "file")
	}
	if r.Section != "" {
		c.pattern(key+".section", r.Section, []string{"title"})
		if r.Comment == "" || !strings.HasPrefix(r.Section, r.Comment) {
			c.bad(key+".section", "has to be a comment: begin it with the comment mark")
		}
	}
}

// statementRegistration checks how registrations look in a text, and compiles that.
func (c *checker) statementRegistration(r *Registration, key string) {
	oneOf(c, key+".format", &r.Format, FormatText, FormatText)
	style := text.FormStyle{Comment: strings.Fields(r.Comment)}
	form := func(key, source string, known ...string) *text.Form {
		f, err := text.ParseForm(source, style.Comment, known)
		if err != nil {
			c.bad(key, "%v", err)
		}
		return f
	}
	if len(r.Statements) == 0 {
		c.bad(key+".statements", "is needed and has no value")
	}
	for i, source := range r.Statements {
		f := form(key+".statements", source, "mod", "MOD", "Mod", "any")
		if f != nil && !slices.Contains(f.Pattern().Names(), "mod") {
			c.bad(key+".statements", "form %d has to hold {mod} in its first line", i+1)
		} else if f != nil {
			style.Forms = append(style.Forms, f)
		}
	}
	if r.Within != "" {
		if style.Within = form(key+".within", r.Within, "any"); style.Within != nil && !style.Within.IsBlock() {
			c.bad(key+".within", "has to be a block: the line that opens it, and on the next line the one that closes it")
		}
	}
	for _, source := range r.Skip {
		if f := form(key+".skip", source, "any"); f != nil {
			style.Skip = append(style.Skip, f)
		}
	}
	style.Settings = c.settingForms(key+".setting", r.Setting, style.Comment)
	r.forms = style
}

func (c *checker) keyRegistration(r *Registration, key string) {
	oneOf(c, key+".format", &r.Format, FormatKeyValue, FormatKeyValue, FormatINI, FormatJSON, FormatYAML, FormatTOML)
	c.pattern(key+".key", r.Key, []string{"mod"})
	if !strings.Contains(r.Key, "{mod}") {
		c.bad(key+".key", "has to hold {mod}")
	}
	c.need(key+".on", r.On)
	if r.Format == FormatKeyValue || r.Format == FormatINI || len(r.OffWords) > 0 {
		c.need(key+".off", r.Off)
	}
	if r.Assign == "" {
		r.Assign = "="
	}
}

// launchFormats are those in which a list is found by a launch parameter.
var launchFormats = []Format{FormatShell, FormatBatch, FormatUnit, FormatWords, FormatCompose}

func (c *checker) listRegistration(r *Registration, key string) {
	c.need(key+".at", r.At)
	if r.Format == FormatCompose {
		c.need(key+".within", r.Within)
	}
	switch r.Shape {
	case ShapeList:
		oneOf(c, key+".format", &r.Format, "", FormatKeyValue, FormatINI, FormatEnv, FormatJSON, FormatYAML, FormatTOML, FormatXML, FormatShell, FormatBatch, FormatUnit, FormatWords, FormatCompose)
		if slices.Contains(launchFormats, r.Format) && strings.Count(r.At, "{list}") != 1 {
			c.bad(key+".at", "has to hold {list} once, where the value of the launch parameter stands")
		}
		c.need(key+".separator", r.Separator)
	case ShapeParallel:
		oneOf(c, key+".format", &r.Format, "", FormatKeyValue, FormatINI, FormatEnv, FormatJSON, FormatYAML, FormatTOML)
		c.need(key+".numbers", r.Numbers)
		c.need(key+".separator", r.Separator)
	case ShapeItems:
		oneOf(c, key+".format", &r.Format, "", FormatJSON, FormatYAML, FormatTOML, FormatXML, FormatText)
		if r.Format == FormatText {
			r.forms.Comment = strings.Fields(r.Comment)
			f, err := text.ParseForm(r.At, r.forms.Comment, []string{"any"})
			if err != nil {
				c.bad(key+".at", "%v", err)
			} else if !f.InBrackets() {
				c.bad(key+".at", "has to be the line with the bracket that opens the list, and on the next line the one that closes it")
			}
			r.forms.Within = f
		}
		if r.Item == "" {
			r.Item = "{mod}"
		}
		if !strings.Contains(r.Item, "{mod}") {
			c.bad(key+".item", "has to hold {mod}")
		}
	case ShapeWords:
		oneOf(c, key+".format", &r.Format, "", FormatShell, FormatBatch, FormatUnit, FormatWords)
		if strings.Count(r.At, "{mod}") != 1 {
			c.bad(key+".at", "has to hold {mod} once")
		}
	case ShapeSection, ShapeRepeat:
		oneOf(c, key+".format", &r.Format, FormatINI, FormatINI)
	}
	oneOf(c, key+".last", &r.Last, text.LastAsFound, text.LastAsFound, text.LastWanted, text.LastForbidden)
}

// words checks a pattern of blank-separated words in which each placeholder is
// a word of its own and stands once, and the first word is none.
func (c *checker) words(key, s string, placeholders ...string) {
	fields := strings.Fields(s)
	if len(fields) == 0 {
		c.bad(key, "is needed and has no value")
		return
	}
	for _, p := range placeholders {
		if i := slices.Index(fields, "{"+p+"}"); i < 0 || i == 0 && p != "name" && !(p == "mod" && len(fields) == 1) {
			c.bad(key, "has to hold {%s} as a word of its own, after the first word or alone", p)
		}
	}
	for _, f := range fields {
		if strings.HasPrefix(f, "{") && !slices.Contains(placeholders, strings.Trim(f, "{}")) {
			c.bad(key, "%s is not known here; known are {%s}", f, strings.Join(placeholders, "}, {"))
		}
	}
}

func (c *checker) pattern(key, s string, known []string) *text.Pattern {
	p, err := text.ParsePattern(s, known)
	if err != nil {
		c.bad(key, "%v", err)
		return nil
	}
	return p
}

func (c *checker) values(d *Dialect, vars []string) {
	for i := range d.Values {
		v, key := &d.Values[i], fmt.Sprintf("value[%d]", i)
		c.need(key+".name", v.Name)
		if v.Registration == "" && len(d.Registrations) == 1 {
			v.Registration = d.Registrations[0].Name
		}
		if d.Registration(v.Registration) == nil {
			c.bad(key+".registration", "names %q, which this dialect has not", v.Registration)
		}
		c.variables(key+".put", v.Put, vars)
		c.told(key, v.Told, v.MayDiffer)
		if v.Wrong == "" {
			v.Wrong = FateIgnored
			if v.Required {
				v.Wrong = FateStops
			}
		}
		oneOf(c, key+".wrong", &v.Wrong, "", FateStops, FatePassed, FateFails, FateIgnored)
		c.variables(key+".file", v.File, append(slices.Clip(vars), "value"))
	}
}

func (c *checker) start(d *Dialect, vars []string) {
	s := &d.Start
	if len(s.Command) == 0 {
		c.bad("start.command", "is needed: the words of the command that starts the server")
	}
	if s.Directory == "" {
		s.Directory = "{dir}"
	}
	c.variables("start.directory", s.Directory, vars)
	for _, w := range slices.Concat(append([][]string{s.Command}, s.Extra...)...) {
		c.variables("start.command", w, vars)
	}
	for _, f := range s.Files {
		c.variables("start.files", f, vars)
	}
	for _, f := range d.Start.Hands {
		c.variables("start.hands", f, vars)
	}
	c.variables("start.listens", s.Listens, vars)
	for name, value := range s.Env {
		c.variables("start.env."+name, value, vars)
	}
	if s.Within == 0 {
		s.Within = Duration(defaultWithin)
	}
	if d.Stop.Patience == 0 {
		d.Stop.Patience = Duration(defaultPatience)
	}
	if d.Stop.Console == "" || d.Stop.Signal != "" {
		oneOf(c, "stop.signal", &d.Stop.Signal, "TERM", "INT", "TERM", "HUP", "QUIT")
	}
}

// placeholders of log rules, by meaning: those a rule may use, and those of
// which it has to use one.
var ruleWords = map[Meaning]struct{ may, must []string }{
	MeansReady:   {may: []string{"any"}},
	MeansLoading: {may: []string{"mod", "release", "any"}, must: []string{"mod"}},
	MeansLoaded:  {may: []string{"mod", "mods", "path", "release", "ms", "s", "any"}, must: []string{"mod", "mods", "path"}},
	MeansFailed:  {may: []string{"mod", "mods", "path", "release", "reason", "any"}, must: []string{"mod", "mods", "path"}},
	MeansNeeds:   {may: []string{"mod", "mods", "release", "any"}, must: []string{"mod"}},
	MeansMissing: {may: []string{"mod", "mods", "any"}, must: []string{"mod", "mods"}},
	MeansStopped: {may: []string{"reason", "any"}},
	MeansIgnore:  {may: []string{"any"}},
	MeansTold:    {may: []string{"any"}, must: Facts},
	MeansJoined:  {may: []string{"player", "any"}, must: []string{"player"}},
	MeansLeft:    {may: []string{"player", "any"}, must: []string{"player"}},
	MeansFault:   {may: []string{"file", "row", "reason", "any"}, must: []string{"reason"}},
}

func (c *checker) log(d *Dialect, vars []string) {
	l := &d.Log
	if l.Prefix != "" {
		l.prefix = c.pattern("log.prefix", l.Prefix, []string{"time", "level", "source", "any"})
		if l.prefix != nil && l.Time != "" {
			l.prefix.Shape("time", l.Time)
		}
		if strings.HasSuffix(l.Prefix, "}") && !strings.HasSuffix(l.Prefix, "}}") {
			c.bad("log.prefix", "has to end with the text before the message, not with a placeholder")
		}
	}
	for _, f := range l.Files {
		c.variables("log.files", f, vars)
	}
	c.rules("log", l.Rules, l.Prefix)
	if d.Start.Listens == "" && !slices.ContainsFunc(l.Rules, func(r Rule) bool { return r.Means == MeansReady }) {
		c.bad("log", "a rule that means \"ready\" is needed: the line that ends a start; or start.listens, the port that shows it")
	}
}

// rules checks rules and makes them ready for use.
func (c *checker) rules(table string, rules []Rule, prefix string) {
	for i := range rules {
		r, key := &rules[i], fmt.Sprintf("%s.rule[%d]", table, i)
		words, ok := ruleWords[r.Means]
		if !ok {
			oneOf(c, key+".means", &r.Means, "", MeansReady, MeansLoading, MeansLoaded, MeansFailed, MeansNeeds, MeansMissing, MeansStopped, MeansTold, MeansJoined, MeansLeft, MeansIgnore)
			continue
		}
		if r.Means == MeansFault && !strings.HasPrefix(table, "probe") {
			c.bad(key+".means", "is for a probe of the startup files")
		}
		c.kept(key+".level", "level", r.Level, prefix)
		c.kept(key+".source", "source", r.Source, prefix)
		switch tells := r.Means == MeansFailed || r.Means == MeansStopped; {
		case r.Before && r.Next:
			c.bad(key+".before", "the reason cannot stand on the line before and on the next one")
		case r.Before && !tells:
			c.bad(key+".before", "is for a rule that means %q or %q", MeansFailed, MeansStopped)
		}
		c.need(key+".line", r.Line)
		if r.pattern = c.pattern(key+".line", r.Line, slices.Concat(words.may, Facts)); r.pattern == nil {
			continue
		}
		holds := func(n string) bool { return slices.Contains(r.pattern.Names(), n) }
		if len(words.must) > 0 && !slices.ContainsFunc(words.must, holds) {
			c.bad(key+".line", "a rule that means %q has to hold {%s}", r.Means, strings.Join(words.must, "} or {"))
		}
		r.facts = slices.ContainsFunc(Facts, holds)
		r.from, r.until = c.bound(table, key+".from", r.From), c.bound(table, key+".until", r.Until)
	}
}

// kept checks that lines can be told apart by what one is kept to.
func (c *checker) kept(key, placeholder, value, prefix string) {
	if value != "" && !strings.Contains(prefix, "{"+placeholder+"}") {
		c.bad(key, "log.prefix has no {%s} that it could be compared with", placeholder)
	}
}

// bound checks where the part of the log begins or ends that a rule is held to.
func (c *checker) bound(table, key, line string) *text.Pattern {
	switch {
	case line == "":
		return nil
	case table != "log":
		c.bad(key, "is for rules of the log: what is heard on the console is a part of its own")
		return nil
	}
	return c.pattern(key, line, []string{"any"})
}

// defaultReply is how long a reply on the console may take.
const defaultReply = 5 * time.Second

func (c *checker) console(d *Dialect) {
	k := &d.Console
	c.rules("console", k.Rules, d.Log.Prefix)
	if k.End != "" {
		k.end = c.pattern("console.end", k.End, append([]string{"any"}, Facts...))
	}
	c.kept("console.end_level", "level", k.EndLevel, d.Log.Prefix)
	c.kept("console.end_source", "source", k.EndSource, d.Log.Prefix)
	if k.Within == 0 {
		k.Within = Duration(defaultReply)
	}
	if k.List != "" && !slices.ContainsFunc(k.Rules, func(r Rule) bool { return r.Means == MeansLoaded }) {
		c.bad("console", "a rule that means \"loaded\" is needed to read the reply to the list")
	}
	for key, words := range map[string]string{"reload": k.Reload, "load": k.Load, "unload": k.Unload} {
		if words != "" && !strings.Contains(words, "{mod}") {
			c.bad("console."+key, "has to hold {mod}")
		}
		c.variables("console."+key, words, []string{"mod"})
	}
}

// isBelow tells a slash path that stays below the folder it is taken from.
func isBelow(p string) bool {
	return p != "" && !path.IsAbs(p) && path.Clean(p) == p && p != ".." && !strings.HasPrefix(p, "../")
}
