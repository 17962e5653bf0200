package proof

import (
	"bytes"
	"slices"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/expect"
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
	replies []*dialect.Rule // those of the console
	mods    map[string]*record
	also    map[string]*record // by what else they are called; nil for what two are called
	order   []*record
	loaded  []string // in the order of the log

	partial  []byte   // the line that has begun and not ended
	part     int      // where its last part begins, after a carriage return
	overlong bool     // the rest of that part is passed over
	bad      [][]byte // parts of it that tell of failures, once it is too long to be kept
	hidden   bool     // something else was said in it that is not kept
	partAt   time.Duration

	lines   int
	fitted  int // of them, lines that a rule fits
	ready   bool
	readyAt time.Duration
	stopped string // why the server gave up, in its own words
	unknown int    // failures that no mod could be found for

	notNames []string // what stood where a name was looked for, and was none
	buf      text.Captures
	onLine   func(Line)
	finder   *finder // of texts without which no line fits a rule; nil when every line has to be looked at
	hits     []hit

	threads map[string]*thread
	thread  *thread // that said the last line
	message message // the one that may go on

	heardFrom Source            // what replies come from
	asked     bool              // the console was asked, and this may be the reply
	named     bool              // the reply that is heard names mods
	listed    bool              // a reply that is whole has named mods
	answered  bool              // the line that ends a reply has come
	players   map[string]bool   // that are in, where rules tell
	told      map[string]string // what the server has said of itself
	begunAs   map[string]string // what it had said by the end of its start
	clock     clock             // of a log that nobody saw arrive

	looksBack bool                   // a rule takes its reason from the line before
	bounded   []*dialect.Rule        // rules that count in a part of the log only
	shut      map[*dialect.Rule]bool // those of them that do not count now
	strangers map[*dialect.Rule][]string

	ends     int           // after so many lines the start is over, 0 for not yet
	reopened time.Duration // when it goes on all the same; 0 for never
	later    []Mod         // what came of mods after it

	remarks  []noted
	key      []byte
	alike    map[string]int
	noticing bool

	latest [lastLines]lastLine // what came last, by the line's number
	heard  int                 // lines with something in them
	starts int                 // that the log has shown, beyond the first

	// Lonely says that no server is known whose log this is: every mod that loads
	// is taken to be registered.
	Lonely bool

	// Settle is how long after it is ready a server goes on starting, by the times of its log; 0
	// for as long as there is no end by End. What is said of mods after that is told apart.
	Settle time.Duration

	// Sole says that the log is that of one process: a mod that loads a second time was
	// loaded anew, and nothing that was said before is forgotten.
	Sole bool

	// Notice keeps lines that sound like trouble and that no rule knows; set it
	// before the first byte is fed.
	Notice bool

	// Stamped says that nobody saw the log arrive: when a line came is worked out
	// from the time that it states itself.
	Stamped bool

	// Gone are the mods that were registered at the last start that was proved, and are not now.
	Gone []Gone

	// Unread are places in the startup files that could not be understood: what is registered
	// there nobody knows, and nothing is proved of it.
	Unread []string

	// Facts are what the startup files say that the server should say of itself, by
	// the names of dialect.Facts.
	Facts map[string]string

	// MayDiffer are those of Facts that the server may tell otherwise and be proved.
	MayDiffer map[string]bool

	// Expect is what the operator expects of the start himself; nil for nothing. Set it before the
	// first byte is fed.
	Expect *expect.Watch

	// Secrets are texts that are hidden in all that is handed out, should the
	// server print them.
	Secrets []string
}

// thread is one of several processes or parts of a server that write into one log.
type thread struct {
	loading *record       // the mod that began to load last and has not ended
	open    *record       // whose reason the next line holds
	opener  *dialect.Rule // that says so
	before  []byte        // the line before, where a rule may ask for it
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
	listed   bool    // the server's own list names it, on its console
	again    bool    // it loaded after it had failed
	earlier  *record // how it failed before a mod loaded anew, when nothing was said of it since

	nobody bool // it is no mod: what is said of it is kept nowhere
	shared bool // another mod's name differs from its own in nothing that a log shows
}

// NewReader makes a reader for a start of a server. dir is where relative paths
// in the log start. onLine may be nil; it is called for every line.
func NewReader(d *dialect.Dialect, dir string, expected []Expected, onLine func(Line)) *Reader {
	r := &Reader{dialect: d, dir: dir, mods: make(map[string]*record, len(expected)), also: make(map[string]*record, len(expected)), onLine: onLine, threads: map[string]*thread{}, heardFrom: SourceConsole, players: map[string]bool{}, told: map[string]string{}, begunAs: map[string]string{}}
	r.thread = r.threadOf("")
	for i := range d.Log.Rules {
		r.rules = append(r.rules, &d.Log.Rules[i])
	}
	for i := range d.Console.Rules {
		r.replies = append(r.replies, &d.Console.Rules[i])
	}
	for _, rule := range slices.Concat(r.rules, r.replies) {
		r.looksBack = r.looksBack || rule.Before
		if from, until := rule.Bounds(); from != nil || until != nil {
			r.bounded = append(r.bounded, rule)
		}
	}
	r.unbound()
	if onLine == nil && !r.looksBack && r.bounded == nil {
		r.finder = finderFor(r.rules)
	}
	for _, e := range expected {
		rec := &record{expected: e, known: true}
		shown := text.Clean(e.Name) // the log is cleaned too before it is read
		if other := r.mods[shown]; other != nil && other.expected.Name != e.Name {
			rec.shared, other.shared = true, true
		}
		r.mods[shown] = rec
		r.order = append(r.order, rec)
		r.call(rec)
	}
	return r
}

// Appeared notes that a file or folder which a mod makes by itself was not there
// before this start and is now. It is evidence for a mod that the log says nothing
// of.
func (r *Reader) Appeared(mod, path string, at time.Duration) {
	rec := r.mods[text.Clean(mod)]
	if rec == nil || rec.loaded || rec.failed || rec.shared {
		return
	}
	rec.loaded, rec.ended = true, at
	rec.evidence = append(rec.evidence, Evidence{Source: SourcePath, Text: text.Clean(path) + " has appeared", AtMS: ms(at)})
}

// Lines is how many lines the log has so far.
func (r *Reader) Lines() int { return r.lines }

// Fitted is how many lines so far a rule has fitted.
func (r *Reader) Fitted() int { return r.fitted }

// Players is how many players are in by what the log says; known is false where the dialect has no rules for that.
func (r *Reader) Players() (n int, known bool) {
	return len(r.players), slices.ContainsFunc(r.dialect.Log.Rules, func(rule dialect.Rule) bool { return rule.Means == dialect.MeansJoined })
}

// Starts is how many starts the log has shown. A mod that loads though it has
// loaded before tells that the server was started anew; what the log said before
// that is then forgotten, but for failures of mods that nothing was said of since: it may
// have been but a reload of that one mod.
func (r *Reader) Starts() int { return r.starts + 1 }

// anew forgets an earlier start when a mod begins to load, or has loaded, for the
// second time after the server was ready or gave up.
func (r *Reader) anew(rec *record) {
	if r.Sole || !rec.loaded || !r.ready && r.stopped == "" {
		return
	}
	r.failedLater()
	r.starts++
	r.ready, r.readyAt, r.stopped, r.loaded, r.unknown, r.notNames = false, 0, "", nil, 0, nil
	clear(r.threads)
	r.unbound()
	r.later = nil
	clear(r.told)
	clear(r.players)
	clear(r.begunAs)
	r.thread, r.message, r.listed = r.threadOf(""), message{}, false
	r.remarks, r.alike = nil, nil
	kept := r.order[:0]
	for _, old := range r.order {
		if !old.known {
			delete(r.mods, text.Clean(old.expected.Name))
			continue
		}
		*old = record{expected: old.expected, known: true, shared: old.shared, earlier: old.unmended()}
		kept = append(kept, old)
	}
	r.order = kept
}

// unbound is how rules that are bound to a part of the log count at its beginning.
func (r *Reader) unbound() {
	if r.bounded == nil {
		return
	}
	r.shut = map[*dialect.Rule]bool{}
	for _, rule := range r.bounded {
		from, _ := rule.Bounds()
		r.shut[rule] = from != nil
	}
}

// bound lets rules begin or cease to count with a line; the line itself is in no part. A rule that is
// held to a level or a source is so in this, too: what a player writes opens and closes nothing.
func (r *Reader) bound(said, level, source []byte, begins bool) {
	for _, rule := range r.bounded {
		if !rule.Counts(level, source) {
			continue
		}
		from, until := rule.Bounds()
		edge := until
		if begins {
			edge = from
		}
		if edge != nil {
			if _, ok := edge.Match(said, nil); ok {
				r.shut[rule] = !begins
			}
		}
	}
}

// unmended is the failure of a mod of which nothing better was said since, or nil.
func (rec *record) unmended() *record {
	switch {
	case rec.failed:
		failure := *rec
		failure.earlier = nil
		return &failure
	case rec.loaded || rec.listed:
		return nil
	}
	return rec.earlier
}

// Ready reports whether the server has said that it is ready, and when, after its
// start.
func (r *Reader) Ready() (at time.Duration, ok bool) { return r.readyAt, r.ready }

// Listens says that the server has begun to listen on the port that shows it to be ready.
func (r *Reader) Listens(at time.Duration) {
	if !r.ready {
		r.ready, r.readyAt, r.thread.loading = true, at, nil
	}
}

// From says that so many lines came before the first byte that is fed.
func (r *Reader) From(lines int) { r.lines = lines }

// Ask says that what comes now may be the reply to what was typed on the console,
// or that it is over.
func (r *Reader) Ask(on bool) {
	if !on && r.named && r.Whole() {
		r.listed = true
	}
	r.asked, r.answered, r.named = on, false, false
}

// Answered tells whether the line that ends a reply has come since Ask.
func (r *Reader) Answered() bool { return r.answered }

// Whole tells whether the reply that is heard can be taken to be whole: its last line
// has come, or the dialect knows none. What a part of a list does not name may yet be
// in the rest.
func (r *Reader) Whole() bool { return r.answered || r.dialect.Console.EndPattern() == nil }

// maxThreads bounds how many parts of a server are told apart.
const maxThreads = 1000

func (r *Reader) threadOf(source string) *thread {
	t := r.threads[source]
	if t == nil {
		if len(r.threads) >= maxThreads {
			return r.thread
		}
		t = &thread{}
		r.threads[source] = t
	}
	return t
}

// Feed reads the next bytes of the log, which arrived at the given time after
// the start.
func (r *Reader) Feed(chunk []byte, at time.Duration) {
	r.begin()
	for len(chunk) > 0 {
		if len(r.partial) == 0 && !r.overlong {
			r.partAt = at
			if r.finder != nil && !r.asked {
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
			r.hold(chunk)
			return
		}
		if len(r.partial) == 0 && !r.overlong {
			r.whole(chunk[:end], at)
		} else {
			r.hold(chunk[:end])
			r.endLine(r.partAt)
		}
		chunk = chunk[end+1:]
	}
}

// whole reads a line that is there from its beginning to its end.
func (r *Reader) whole(raw []byte, at time.Duration) {
	if len(raw) <= MaxLine {
		r.line(raw, at)
		return
	}
	r.hold(raw)
	r.endLine(at)
}

// endLine reads what was kept of a line.
func (r *Reader) endLine(at time.Duration) {
	r.line(r.partial, at)
	r.partial, r.part, r.overlong, r.bad, r.hidden = r.partial[:0], 0, false, nil, false
}

// begin makes ready for what the first bytes are read by.
func (r *Reader) begin() {
	if r.Expect != nil {
		r.finder = nil // every line is looked at
	}
	if r.Notice && !r.noticing {
		r.noticing = true
		if r.finder != nil {
			r.finder = finderFor(r.rules, troubled...)
		}
	}
}

// hold holds on to a piece of a line: to each of its parts up to MaxLine.
func (r *Reader) hold(piece []byte) {
	for {
		said, rest, turned := bytes.Cut(piece, []byte{'\r'})
		if room := MaxLine - (len(r.partial) - r.part); !r.overlong && len(said) > room {
			said, r.overlong = said[:room], true
			r.partial = append(r.partial, said...)
		} else if !r.overlong {
			r.partial = append(r.partial, said...)
		}
		if !turned {
			return
		}
		r.partial = append(r.partial, '\r')
		r.part, r.overlong = len(r.partial), false
		if r.part > maxParts {
			r.spill()
		}
		piece = rest
	}
}

// Of a line that is written over and over, maxParts bytes are kept, and maxBad parts beyond
// that which tell of failures.
const (
	maxParts = 2 * MaxLine
	maxBad   = 16
)

// spill lets go of the parts of a line that were written over, but for the failures in them.
func (r *Reader) spill() {
	parts, hides := overwritten(r.partial[:r.part])
	for _, part := range parts {
		if rule, _, _, _ := r.failure(part); rule != nil && len(r.bad) < maxBad {
			r.bad = append(r.bad, bytes.Clone(part))
		}
	}
	r.hidden = r.hidden || hides
	r.partial, r.part = r.partial[:0], 0
}

// failure is the rule by which a part of a line that was written over tells of a failure, or
// nil.
func (r *Reader) failure(part []byte) (rule *dialect.Rule, said, stamp []byte, caps text.Captures) {
	said, stamp, level, source, _ := r.split(part)
	if rule, caps = r.first(r.rules, said, level, source); rule == nil || !fails(rule.Means) {
		return nil, nil, nil, nil
	}
	return rule, said, stamp, caps
}

// Flush reads what is left when the log has ended without a line ending.
func (r *Reader) Flush() {
	if len(bytes.TrimRight(r.partial, "\r")) > 0 || len(r.bad) > 0 {
		r.endLine(r.partAt)
	}
}

func (r *Reader) line(raw []byte, at time.Duration) {
	r.lines++
	full := bytes.TrimRight(raw, "\r\n")
	over, hides := overwritten(full)
	hides, over = hides || r.hidden, append(r.bad, over...)
	raw, full = Plain(full), text.Uncoloured(full)
	said, stamp, level, source, prefixed := r.split(raw)
	if prefixed {
		r.thread = r.threadOf(string(source))
	}
	if r.Stamped {
		at = r.clock.at(stamp, raw)
	}
	line := Line{Number: r.lines, At: at}
	if r.Expect != nil && !r.over(&line) {
		r.Expect.Line(r.lines, text.Clean(string(full)), func() string { return text.Mask(text.Clean(string(full)), r.Secrets) })
	}
	closed := r.thread.opener != nil
	if closed {
		r.closeReason(said, &line, full, stamp)
	}
	for _, part := range over { // what went wrong counts, whatever was written over it
		if rule, said, stamp, caps := r.failure(part); rule != nil {
			line.Means = rule.Means
			r.apply(rule, said, caps, &line, full, stamp)
		}
	}
	r.bound(said, level, source, false)
	rule, caps := r.fits(said, level, source)
	r.bound(said, level, source, true)
	if rule != nil && hides && confirms(rule.Means) {
		rule = nil // of a line that says something else too, nobody knows who said this
	}
	r.answered = r.answered || r.asked && r.dialect.Console.Ends(said, level, source)
	switch {
	case rule != nil:
		r.fitted++
		if line.Means == "" || fails(rule.Means) {
			line.Means = rule.Means
		}
		r.message = message{}
		r.apply(rule, said, caps, &line, full, stamp)
	case line.Means != "":
		r.fitted++
		r.message = message{}
	case r.message.goesOn(raw, prefixed, r.dialect.Log.PrefixPattern() != nil):
		r.goOn(raw)
		line.Joined = true
	case closed: // what comes next may go on with the reason
	default:
		r.message = message{}
		if r.Notice {
			line.Alarm = r.remark(full, said, &line)
		}
	}
	if r.looksBack && len(said) > 0 {
		r.thread.before = append(r.thread.before[:0], said...)
	}
	if r.Notice && r.onLine != nil && len(bytes.TrimSpace(full)) > 0 { // else not every line comes here
		r.latest[r.heard%lastLines].keep(r.lines, at, full)
		r.heard++
	}
	if r.onLine != nil {
		if line.Mods == nil {
			line.Mods = r.spokenOf(string(said), line.Alarm)
		}
		line.Text = text.Mask(string(full), r.Secrets)
		r.onLine(line)
	}
}

// split takes a line apart into what stands before the message, and the message.
func (r *Reader) split(raw []byte) (said, stamp, level, source []byte, prefixed bool) {
	said = raw
	if p := r.dialect.Log.PrefixPattern(); p != nil {
		caps, end, ok := p.MatchPrefix(raw, r.buf)
		if ok {
			r.buf, prefixed = caps, true
			stamp, level, source, said = p.Get("time", raw, caps), p.Get("level", raw, caps), p.Get("source", raw, caps), raw[end:]
		}
	}
	return bytes.TrimRight(said, " \t"), stamp, level, source, prefixed
}

// fits finds the rule that a message fits: of the console first, when it may be a
// reply.
func (r *Reader) fits(said, level, source []byte) (*dialect.Rule, text.Captures) {
	if r.asked {
		if rule, caps := r.first(r.replies, said, level, source); rule != nil {
			return rule, caps
		}
	}
	return r.first(r.rules, said, level, source)
}

// first finds the first of some rules that a message fits.
func (r *Reader) first(rules []*dialect.Rule, said, level, source []byte) (*dialect.Rule, text.Captures) {
	for _, rule := range rules {
		if !rule.Counts(level, source) || r.shut[rule] {
			continue
		}
		caps, ok := rule.Pattern().Match(said, r.buf)
		r.buf = caps
		if ok {
			return rule, caps
		}
	}
	return nil, nil
}

// reply tells whether a rule is one for replies on the console.
func (r *Reader) reply(rule *dialect.Rule) bool { return slices.Contains(r.replies, rule) }
