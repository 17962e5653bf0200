package proof

import (
	"bytes"
	"cmp"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// closeReason takes the reason of a failure from the line after it.
func (r *Reader) closeReason(said []byte, line *Line, raw, stamp []byte) {
	t := r.thread
	reason := text.Mask(text.Clean(string(said)), r.Secrets)
	switch late := (*Mod)(nil); {
	case t.open == nil:
	case r.over(line):
		if late = r.laterOf(t.open); late != nil {
			late.Reason, late.Evidence = reason, append(late.Evidence, r.evidence(line, raw, stamp, SourceLog))
		}
	default:
		t.open.reason = reason
		r.witness(t.open, line, raw, stamp, SourceLog)
	}
	if t.opener.Means == dialect.MeansStopped || t.opener.Fatal && r.stopped == "" {
		r.stopped = reason
	}
	t.open, t.opener = nil, nil
}

// maxPlayers bounds whom a log can name.
const maxPlayers = 1 << 16

func (r *Reader) apply(rule *dialect.Rule, message []byte, caps text.Captures, line *Line, raw, stamp []byte) {
	p := rule.Pattern()
	get := func(name string) string { return string(p.Get(name, message, caps)) }
	reason := text.Mask(text.Clean(strings.TrimSpace(get("reason"))), r.Secrets)
	if rule.Before && reason == "" {
		reason = text.Mask(text.Clean(string(r.thread.before)), r.Secrets)
	}
	if rule.TellsFacts() {
		for _, fact := range dialect.Facts {
			if value := strings.TrimSpace(get(fact)); value != "" {
				r.told[fact] = text.Mask(text.Clean(value), r.Secrets)
				if _, known := r.begunAs[fact]; !known || !r.ready || r.asked { // what changes while it runs is no fault of its start
					r.begunAs[fact] = r.told[fact]
				}
			}
		}
	}
	switch rule.Means {
	case dialect.MeansReady:
		if !r.ready {
			r.ready, r.readyAt, r.thread.loading = true, line.At, nil
		}
	case dialect.MeansJoined:
		if who := get("player"); len(r.players) < maxPlayers {
			r.players[who] = true
		}
	case dialect.MeansLeft:
		delete(r.players, get("player"))
	case dialect.MeansStopped:
		if rule.Next && r.stopped == "" {
			r.thread.opener, r.thread.open = rule, nil
		}
		r.stopped = cmp.Or(r.stopped, reason, text.Mask(text.Clean(string(message)), r.Secrets))
	case dialect.MeansLoading:
		r.anew(r.record(get("mod")))
		rec := r.record(get("mod"))
		if rec.nobody || r.over(line) {
			break
		}
		rec.began, rec.hasBegun = line.At, true
		r.thread.loading = rec
		r.witness(rec, line, raw, stamp, SourceLog)
	case dialect.MeansLoaded:
		r.applyLoaded(rule, get, line, raw, stamp)
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing:
		r.applyFailure(rule, get, reason, line, raw, stamp)
	}
}

// applyLoaded notes that mods have loaded, or that the server's own list names them.
func (r *Reader) applyLoaded(rule *dialect.Rule, get func(string) string, line *Line, raw, stamp []byte) {
	reply := r.reply(rule)
	r.named = r.named || reply
	who := r.namesIn(get("mod"), get("mods"))
	if file := get("path"); file != "" {
		who = append(who, r.nameByPath(file))
	}
	for _, name := range who {
		if reply {
			rec := r.record(name)
			if rec.nobody {
				continue
			}
			rec.listed = true
			r.witness(rec, line, raw, stamp, r.heardFrom)
			continue
		}
		r.anew(r.record(name))
		rec := r.record(name)
		if rec.nobody {
			continue
		}
		if r.over(line) {
			r.comesLater(rec, Confirmed, "", line, raw, stamp)
			continue
		}
		r.strange(rule, rec)
		if !rec.loaded {
			r.loaded = append(r.loaded, rec.expected.Name)
		}
		rec.loaded, rec.again = true, rec.failed
		if !rec.failed {
			rec.ended = line.At
		}
		if r.thread.loading == rec {
			r.thread.loading = nil
		}
		rec.setLoad(get("ms"), get("s"))
		r.witness(rec, line, raw, stamp, SourceLog)
	}
}

func (r *Reader) applyFailure(rule *dialect.Rule, get func(string) string, reason string, line *Line, raw, stamp []byte) {
	var who []*record
	switch rule.Means {
	case dialect.MeansNeeds:
		who = []*record{r.failing(get("mod"))}
		if wanted := names("", get("mods")); len(wanted) > 0 {
			reason = "it needs " + text.Clean(strings.Join(wanted, ", "))
			who[0].wanted = append(who[0].wanted, wanted...)
		}
	case dialect.MeansMissing:
		reason = "it is registered, and the server could not find it"
		fallthrough
	default:
		for _, name := range r.namesIn(get("mod"), get("mods")) {
			who = append(who, r.failing(name))
		}
	}
	if file := get("path"); file != "" {
		if rec := r.mods[r.nameByPath(file)]; rec != nil {
			who = append(who, rec)
		} else {
			r.miss(line)
		}
	}
	for _, rec := range who {
		if rec.nobody {
			r.miss(line)
			continue
		}
		if r.over(line) {
			r.comesLater(rec, Failed, reason, line, raw, stamp)
			continue
		}
		if r.thread.loading == rec {
			r.thread.loading = nil
		}
		if !rec.failed {
			rec.failed, rec.ended, rec.reason, rec.own = true, line.At, reason, rule.Own
		}
		source := SourceLog
		if r.reply(rule) {
			source = r.heardFrom
		}
		r.witness(rec, line, raw, stamp, source)
	}
	switch {
	case rule.Next:
		r.thread.opener, r.thread.open = rule, nil
		if len(who) > 0 {
			r.thread.open = who[0]
		}
	case rule.Fatal && r.stopped == "":
		r.stopped = reason
	}
}

// miss counts a failure that no mod could be found for.
func (r *Reader) miss(line *Line) {
	if !r.over(line) {
		r.unknown++
	}
}

// witness keeps a line as evidence about a mod.
func (r *Reader) witness(rec *record, line *Line, raw, stamp []byte, source Source) {
	line.Mods = append(line.Mods, rec.expected.Name)
	e := r.evidence(line, raw, stamp, source)
	if len(rec.evidence) == maxEvidence {
		rec.evidence[maxEvidence-1] = e
	} else {
		rec.evidence = append(rec.evidence, e)
	}
	if rec.failed {
		r.message = message{rec: rec, open: true, prefixed: stamp != nil, tracing: bytes.Contains(raw, traceback)}
	}
}

func (r *Reader) evidence(line *Line, raw, stamp []byte, source Source) Evidence {
	return Evidence{Source: source, Line: line.Number, Time: r.time(stamp), Text: text.Mask(text.Clean(string(raw)), r.Secrets), AtMS: ms(line.At)}
}

// time gives a line's own time in a form that sorts, when it states a date too;
// else as it stands.
func (r *Reader) time(stamp []byte) string {
	s := text.Clean(string(stamp))
	if t, layout, ok := Moment(s, cmp.Or(r.clock.layout, r.dialect.Log.Time)); ok {
		if r.clock.layout = layout; dated(t) {
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
