package proof

import (
	"bytes"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Heard reads what a command has printed that lists the mods which the server has loaded, by the
// rules for it. whole tells that it came to its end: what it does not name is not loaded then.
func (r *Reader) Heard(printed []byte, rules []dialect.Rule, whole bool) {
	replies := r.replies
	r.replies, r.heardFrom = nil, SourceCommand
	for i := range rules {
		r.replies = append(r.replies, &rules[i])
	}
	r.Ask(true)
	for raw := range bytes.Lines(printed) {
		said := bytes.TrimSpace(Plain(raw[:min(len(raw), MaxLine)]))
		if rule, caps := r.first(r.replies, said, nil, nil); rule != nil {
			r.apply(rule, said, caps, &Line{}, said, nil)
		}
	}
	if r.asked = false; r.named && whole {
		r.listed = true
	}
	r.replies, r.heardFrom = replies, SourceConsole
}

// Holds notes which of the mods the server holds in its memory, each with the file of it that was
// found there: that is the server's own list of them, and what it does not hold is not loaded.
func (r *Reader) Holds(files map[string]string, at time.Duration) {
	for _, rec := range r.order {
		if file, ok := files[rec.expected.Name]; ok && !rec.shared {
			rec.listed = true
			rec.evidence = append(rec.evidence, Evidence{Source: SourceMemory, Text: text.Clean(file), AtMS: ms(at)})
		}
	}
	r.listed = true
}
