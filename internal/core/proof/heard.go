package proof

import (
	"bytes"

	"initium/internal/core/dialect"
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
