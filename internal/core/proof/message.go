package proof

import (
	"bytes"
	"math"
	"regexp"

	"initium/internal/core/text"
)

// message is one that may go on over several lines: a failure of a mod, or a
// remark, with what a program says about where it was.
type message struct {
	open    bool
	rec     *record // whose failure it is; nil for a remark
	remark  int     // which one; -1 for one that is not kept
	lines   int
	tracing bool // a trace has begun, which ends with a line of its own

	prefixed bool // it began as messages do
}

// maxMessage bounds how many lines of one message are kept.
const maxMessage = 40

// The ways in which programs go on with a message.
var (
	begins = [][]byte{[]byte("at "), []byte("Caused by"), []byte("caused by"), []byte("..."), []byte("File \""), []byte("stack traceback"), []byte("Stack trace"),
		[]byte("goroutine "), []byte("#"), []byte("Traceback"), []byte("}"), []byte(")")}
	traceback = []byte("raceback")
)

// goesOn tells whether a line belongs to the message before it: it has not what
// stands before every message, or, where messages have no such thing, it looks like
// a part of one.
func (m *message) goesOn(raw []byte, prefixed, hasPrefix bool) bool {
	switch {
	case !m.open || prefixed || len(bytes.TrimSpace(raw)) == 0:
		return false
	case raw[0] == ' ' || raw[0] == '\t' || m.tracing:
		return true
	}
	for _, b := range begins {
		if bytes.HasPrefix(raw, b) {
			return true
		}
	}
	return hasPrefix && m.prefixed && (trouble.next(raw, 0) == math.MaxInt || thrown.Match(raw))
}

// thrown is what a trace may begin with after the message: what was thrown.
var thrown = regexp.MustCompile(`^[\w.$]+(?:Exception|Error)(?::|$)`)

// goOn adds a line to the message that is open.
func (r *Reader) goOn(raw []byte) {
	m := &r.message
	indented := len(raw) > 0 && (raw[0] == ' ' || raw[0] == '\t')
	switch {
	case bytes.Contains(raw, traceback):
		m.tracing = true
	case !indented: // what a trace ends with
		m.tracing = false
	}
	if m.lines++; m.lines > maxMessage {
		return
	}
	more := text.Mask(text.Clean(string(raw)), r.Secrets)
	switch {
	case m.rec != nil:
		if n := len(m.rec.evidence); n > 0 {
			e := &m.rec.evidence[n-1]
			e.More = append(e.More, more)
		}
	case m.remark >= 0:
		n := &r.remarks[m.remark]
		n.More = append(n.More, more)
	}
}
