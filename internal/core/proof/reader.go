package proof

import (
	"bytes"
	"path"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// MaxLine is how many bytes of one log line are read; the rest of a longer line
// is passed over.
const MaxLine = 64 << 10

// maxEvidence bounds what is kept for one mod.
const maxEvidence = 16

// Reader reads a log as it comes and keeps what it says about each mod. Feed it
// bytes; ask it at any time.
type Reader struct {
	dialect *dialect.Dialect
	dir     string // where relative paths in the log start
	rules   []*dialect.Rule
	mods    map[string]*record
	order   []*record
	loaded  []string // in the order of the log

	partial  []byte // the line that has begun and not ended
	overlong bool   // the rest of it is passed over
	partAt   time.Duration

	lines   int
	ready   bool
	readyAt time.Duration
	stopped string // why the server gave up, in its own words
	open    *record
	opener  *dialect.Rule // the rule whose reason the next line holds
	unknown int           // failures that no mod could be found for
	buf     text.Captures
	onLine  func(Line)
	finder  *finder // of texts without which no line fits a rule; nil when every line has to be looked at
	hits    []hit
	loading *record // the mod that began to load last and has not ended

	remarks  []noted
	key      []byte
	alike    map[string]int
	noticing bool

	starts int // that the log has shown, beyond the first

	// Lonely says that no server is known whose log this is: every mod that loads
	// is taken to be registered.
	Lonely bool

	// Notice keeps lines that sound like trouble and that no rule knows; set it
	// before the first byte is fed.
	Notice bool

	// Secrets are texts that are hidden in all that is handed out, should the
	// server print them.
	Secrets []string
}

// Line is one line of the log with what it means.
type Line struct {
	Number int
	At     time.Duration
	Text   string // as it came, at most MaxLine bytes; to be cleaned before it is shown
	Means  dialect.Meaning
	Mods   []string // the mods that it speaks of
}

// record is what the log has said about one mod.
type record struct {
	expected Expected
	known    bool // by the survey
	began    time.Duration
	ended    time.Duration
	hasBegun bool
	loaded   bool
	failed   bool
	reason   string
	wanted   []string // what it needs, as the log says
	own      bool     // it failed by its own fault
	loadMS   float64
	hasMS    bool
	evidence []Evidence
}

// NewReader makes a reader for a start of a server. dir is where relative paths
// in the log start. onLine may be nil; it is called for every line.
func NewReader(d *dialect.Dialect, dir string, expected []Expected, onLine func(Line)) *Reader {
	r := &Reader{dialect: d, dir: dir, mods: make(map[string]*record, len(expected)), onLine: onLine}
	for i := range d.Log.Rules {
		r.rules = append(r.rules, &d.Log.Rules[i])
	}
	if onLine == nil {
		r.finder = finderFor(r.rules)
	}
	for _, e := range expected {
		rec := &record{expected: e, known: true}
		r.mods[text.Clean(e.Name)] = rec // the log is cleaned too before it is read
		r.order = append(r.order, rec)
	}
	return r
}

// Appeared notes that a file or folder which a mod makes by itself was not there
// before this start and is now. It is evidence for a mod that the log says nothing
// of.
func (r *Reader) Appeared(mod, path string, at time.Duration) {
	rec := r.mods[text.Clean(mod)]
	if rec == nil || rec.loaded || rec.failed {
		return
	}
	rec.loaded, rec.ended = true, at
	rec.evidence = append(rec.evidence, Evidence{Source: "path", Text: text.Clean(path) + " has appeared", AtMS: ms(at)})
}

// Lines is how many lines the log has so far.
func (r *Reader) Lines() int { return r.lines }

// Starts is how many starts the log has shown. A mod that loads though it has
// loaded before tells that the server was started anew; what the log said before
// that is then forgotten.
func (r *Reader) Starts() int { return r.starts + 1 }

// anew forgets an earlier start when a mod begins to load, or has loaded, for the
// second time after the server was ready or gave up.
func (r *Reader) anew(rec *record) {
	if !rec.loaded || !r.ready && r.stopped == "" {
		return
	}
	r.starts++
	r.ready, r.readyAt, r.stopped, r.loaded, r.unknown = false, 0, "", nil, 0
	r.open, r.opener, r.loading = nil, nil, nil
	r.remarks, r.alike = nil, nil
	kept := r.order[:0]
	for _, old := range r.order {
		if !old.known {
			delete(r.mods, text.Clean(old.expected.Name))
			continue
		}
		*old = record{expected: old.expected, known: true}
		kept = append(kept, old)
	}
	r.order = kept
}

// Ready reports whether the server has said that it is ready.
func (r *Reader) Ready() bool { return r.ready }

// Feed reads the next bytes of the log, which arrived at the given time after
// the start.
func (r *Reader) Feed(chunk []byte, at time.Duration) {
	r.begin()
	for len(chunk) > 0 {
		if len(r.partial) == 0 && !r.overlong {
			r.partAt = at
			if r.finder != nil {
				end := bytes.LastIndexByte(chunk, '\n') + 1
				found := r.finder.skim(chunk[:end], r.hits)
				r.consume(found, at)
				r.hits = found.hits
				if chunk = chunk[end:]; len(chunk) == 0 {
					return
				}
			}
		}
		end := bytes.IndexByte(chunk, '\n')
		if end < 0 {
			r.keep(chunk)
			return
		}
		if len(r.partial) == 0 && !r.overlong && end <= MaxLine {
			r.line(chunk[:end], at)
		} else {
			r.keep(chunk[:end])
			r.line(r.partial, r.partAt)
			r.partial, r.overlong = r.partial[:0], false
		}
		chunk = chunk[end+1:]
	}
}

// begin makes ready for what the first bytes are read by.
func (r *Reader) begin() {
	if r.Notice && !r.noticing {
		r.noticing = true
		if r.finder != nil {
			r.finder = finderFor(r.rules, troubled...)
		}
	}
}

// keep holds on to a piece of a line, up to MaxLine.
func (r *Reader) keep(piece []byte) {
	if room := MaxLine - len(r.partial); len(piece) > room {
		piece, r.overlong = piece[:room], true
	}
	r.partial = append(r.partial, piece...)
}

// Flush reads what is left when the log has ended without a line ending.
func (r *Reader) Flush() {
	if len(r.partial) > 0 {
		r.line(r.partial, r.partAt)
		r.partial, r.overlong = r.partial[:0], false
	}
}

func (r *Reader) line(raw []byte, at time.Duration) {
	r.lines++
	raw = bytes.TrimRight(raw, "\r")
	if at := bytes.LastIndexByte(raw, '\r'); at >= 0 {
		raw = raw[at+1:] // what a line that was written over and over shows in the end
	}
	if bytes.IndexByte(raw, 0x1b) >= 0 {
		raw = []byte(text.Clean(string(raw)))
	}
	message, stamp, level := raw, []byte(nil), []byte(nil)
	if p := r.dialect.Log.PrefixPattern(); p != nil {
		if caps, end, ok := p.MatchPrefix(raw, r.buf); ok {
			r.buf, stamp, level, message = caps, p.Get("time", raw, caps), p.Get("level", raw, caps), raw[end:]
		}
	}
	message = bytes.TrimRight(message, " \t")
	line := Line{Number: r.lines, At: at}
	if r.opener != nil {
		r.closeReason(message, &line, raw, stamp)
	}
	known := false
	for _, rule := range r.rules {
		if rule.Level != "" && rule.Level != string(level) {
			continue
		}
		caps, ok := rule.Pattern().Match(message, r.buf)
		r.buf = caps
		if ok {
			line.Means, known = rule.Means, true
			r.apply(rule, message, caps, &line, raw, stamp)
			break
		}
	}
	if r.Notice && !known {
		r.remark(raw, message, line.Number)
	}
	if r.onLine != nil {
		line.Text = text.Mask(string(raw), r.Secrets)
		r.onLine(line)
	}
}

// closeReason takes the reason of a failure from the line after it.
func (r *Reader) closeReason(message []byte, line *Line, raw, stamp []byte) {
	reason := text.Mask(text.Clean(string(message)), r.Secrets)
	if r.open != nil {
		r.open.reason = reason
		r.witness(r.open, line, raw, stamp)
	}
	if r.opener.Fatal && r.stopped == "" {
		r.stopped = reason
	}
	r.open, r.opener = nil, nil
}

func (r *Reader) apply(rule *dialect.Rule, message []byte, caps text.Captures, line *Line, raw, stamp []byte) {
	p := rule.Pattern()
	get := func(name string) string { return string(p.Get(name, message, caps)) }
	reason := text.Mask(text.Clean(strings.TrimSpace(get("reason"))), r.Secrets)
	switch rule.Means {
	case dialect.MeansReady:
		if !r.ready {
			r.ready, r.readyAt, r.loading = true, line.At, nil
		}
	case dialect.MeansStopped:
		if r.stopped == "" {
			r.stopped = reason
			if r.stopped == "" {
				r.stopped = text.Clean(string(message))
			}
		}
	case dialect.MeansLoading:
		r.anew(r.record(get("mod")))
		rec := r.record(get("mod"))
		rec.began, rec.hasBegun = line.At, true
		r.loading = rec
		r.witness(rec, line, raw, stamp)
	case dialect.MeansLoaded:
		who := names(get("mod"), get("mods"))
		if file := get("path"); file != "" {
			who = append(who, r.nameByPath(file))
		}
		for _, name := range who {
			r.anew(r.record(name))
			rec := r.record(name)
			if !rec.loaded {
				r.loaded = append(r.loaded, rec.expected.Name)
			}
			rec.loaded, rec.ended = true, line.At
			if r.loading == rec {
				r.loading = nil
			}
			rec.setLoad(get("ms"), get("s"))
			r.witness(rec, line, raw, stamp)
		}
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing:
		r.applyFailure(rule, get, reason, line, raw, stamp)
	}
}

func (r *Reader) applyFailure(rule *dialect.Rule, get func(string) string, reason string, line *Line, raw, stamp []byte) {
	var who []*record
	switch rule.Means {
	case dialect.MeansNeeds:
		who = []*record{r.record(get("mod"))}
		if wanted := names("", get("mods")); len(wanted) > 0 {
			reason = "it needs " + text.Clean(strings.Join(wanted, ", "))
			who[0].wanted = append(who[0].wanted, wanted...)
		}
	case dialect.MeansMissing:
		reason = "it is registered, and the server could not find it"
		fallthrough
	default:
		for _, name := range names(get("mod"), get("mods")) {
			who = append(who, r.record(name))
		}
	}
	if file := get("path"); file != "" {
		if rec := r.mods[r.nameByPath(file)]; rec != nil {
			who = append(who, rec)
		} else {
			r.unknown++
		}
	}
	for _, rec := range who {
		if r.loading == rec {
			r.loading = nil
		}
		if !rec.failed {
			rec.failed, rec.ended, rec.reason, rec.own = true, line.At, reason, rule.Own
		}
		r.witness(rec, line, raw, stamp)
	}
	switch {
	case rule.Next:
		r.opener, r.open = rule, nil
		if len(who) > 0 {
			r.open = who[0]
		}
	case rule.Fatal && r.stopped == "":
		r.stopped = reason
	}
}

// record finds what is kept about a mod, by its name in the log.
func (r *Reader) record(name string) *record {
	name = text.Clean(name)
	rec := r.mods[name]
	if rec == nil {
		rec = &record{expected: Expected{Name: name, Registered: r.Lonely}}
		r.mods[name] = rec
		r.order = append(r.order, rec)
	}
	return rec
}

// nameByPath gives the name of the mod that a log line names by its file, by a
// path to it, or by its bare name.
func (r *Reader) nameByPath(file string) string {
	if r.mods[file] != nil {
		return file
	}
	if rec := r.byPath(file); rec != nil {
		return rec.expected.Name
	}
	base := path.Base(file)
	for _, rec := range r.order {
		if rec.expected.Path != "" && path.Base(rec.expected.Path) == base {
			return rec.expected.Name
		}
	}
	if name := strings.TrimSuffix(base, path.Ext(base)); r.mods[name] != nil {
		return name
	}
	return file
}

// byPath finds the mod that a file belongs to: the one whose folder holds it;
// failing that (a path may be cut short or seen from elsewhere) the one whose
// folder's name is the last to occur in it.
func (r *Reader) byPath(file string) *record {
	if !path.IsAbs(file) {
		file = path.Join(r.dir, file)
	}
	file = path.Clean(file)
	var best *record
	for _, rec := range r.order {
		if p := rec.expected.Path; p != "" && (file == p || strings.HasPrefix(file, p+"/")) && (best == nil || len(p) > len(best.expected.Path)) {
			best = rec
		}
	}
	if best != nil {
		return best
	}
	at := -1
	for _, rec := range r.order {
		if rec.expected.Path == "" {
			continue
		}
		if i := strings.LastIndex(file, "/"+path.Base(rec.expected.Path)+"/"); i > at {
			best, at = rec, i
		}
	}
	return best
}

// witness keeps a line as evidence about a mod.
func (r *Reader) witness(rec *record, line *Line, raw, stamp []byte) {
	line.Mods = append(line.Mods, rec.expected.Name)
	e := Evidence{Source: "log", Line: line.Number, Time: r.time(stamp), Text: text.Mask(text.Clean(string(raw)), r.Secrets), AtMS: ms(line.At)}
	if len(rec.evidence) == maxEvidence {
		rec.evidence[maxEvidence-1] = e
		return
	}
	rec.evidence = append(rec.evidence, e)
}

// time gives a line's own time in a form that sorts, when it states a date too;
// else as it stands.
func (r *Reader) time(stamp []byte) string {
	s := text.Clean(string(stamp))
	if layout := r.dialect.Log.Time; layout != "" {
		if t, err := time.Parse(layout, s); err == nil && t.Year() > 0 {
			return t.Format("2006-01-02T15:04:05.999")
		}
	}
	return s
}

func (rec *record) setLoad(inMS, inS string) {
	if inMS != "" {
		rec.loadMS, rec.hasMS = number(inMS), true
	} else if inS != "" {
		rec.loadMS, rec.hasMS = number(inS)*1000, true
	}
}

func number(s string) float64 {
	v, _ := strconv.ParseFloat(s, 64) // the pattern has let only digits through
	return v
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// names reads the names in a captured text: those in quotes when there are
// quotes, else the words.
func names(one, many string) (list []string) {
	if one != "" {
		list = append(list, one)
	}
	if many == "" {
		return list
	}
	if i := strings.IndexAny(many, "\"'"); i >= 0 {
		q := many[i : i+1]
		for parts := strings.Split(many, q); len(parts) > 2; parts = parts[2:] {
			list = append(list, parts[1])
		}
		return list
	}
	return append(list, strings.FieldsFunc(many, func(c rune) bool { return strings.ContainsRune(" \t,;", c) })...)
}
