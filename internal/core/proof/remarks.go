package proof

import (
	"bytes"
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"

	"initium/internal/core/text"
)

// Remark is a line that sounds like trouble and that no rule knows, with the mod
// that it seems to be about. Its strings are safe to show.
type Remark struct {
	Line  int      `json:"line"`  // the first such line
	Count int      `json:"count"` // how many are alike but for times, numbers and addresses
	Text  string   `json:"text"`
	More  []string `json:"more,omitempty"` // the lines that go on with it
	Mod   string   `json:"mod,omitempty"`
	Sure  Sure     `json:"sure,omitempty"`
}

// Sure says what a line is taken to be about a mod for.
type Sure string

// A line has a path of a mod's files in it, or the mod's name, or came while the
// mod was loading: each is less sure than the one before.
const (
	SurePath    Sure = "its path"
	SureName    Sure = "its name"
	SureLoading Sure = "it was loading"
)

// maxRemarks bounds how many different remarks are kept.
const maxRemarks = 500

// troubled are words of lines that sound like trouble.
var troubled = [][]byte{[]byte("error"), []byte("Error"), []byte("ERROR"), []byte("warning"), []byte("Warning"), []byte("WARNING"), []byte("xception"), []byte("raceback"),
	[]byte(" WARN"), []byte("[WARN"), []byte("/WARN"), []byte("=warn"), []byte("[warn"), []byte("SEVERE"), []byte("CRITICAL"), []byte("critical"), []byte("fatal"), []byte("Fatal"), []byte("FATAL"), []byte("panic"), []byte("PANIC"), []byte("failed"), []byte("Failed"), []byte("FAILED"), []byte("failure")}

// trouble finds them in one line.
var trouble = newFinder(troubled)

var paths = regexp.MustCompile(`[^\s'"(),;]*/[^\s'"(),;]+`)

// noted is a remark before it is known what mod it is about.
type noted struct {
	Remark
	message string
	loading string // the mod that was loading
	at      time.Duration
}

// remark keeps a line that no rule knows, if it sounds like trouble; it tells whether
// it does.
func (r *Reader) remark(raw, said []byte, line *Line) bool {
	if trouble.next(raw, 0) == math.MaxInt {
		return false
	}
	r.key = alike(r.key[:0], said)
	r.message = message{open: true, remark: -1, prefixed: len(said) < len(bytes.TrimRight(raw, " \t")), tracing: bytes.Contains(raw, traceback)}
	if at, ok := r.alike[string(r.key)]; ok {
		r.remarks[at].Count++
		return true
	}
	if len(r.remarks) == maxRemarks {
		return true
	}
	r.message.remark = len(r.remarks)
	if r.alike == nil {
		r.alike = map[string]int{}
	}
	r.alike[string(r.key)] = len(r.remarks)
	n := noted{Remark: Remark{Line: line.Number, Count: 1, Text: text.Mask(text.Clean(string(raw)), r.Secrets)}, at: line.At, message: string(said[:min(len(said), text.MaxShown)])}
	if r.thread.loading != nil {
		n.loading = r.thread.loading.expected.Name
	}
	r.remarks = append(r.remarks, n)
	return true
}

// spokenOf is the mod that a line which no rule knows speaks of, by a path or a name
// in it; of one that sounds like trouble, the mod that was loading will do.
func (r *Reader) spokenOf(said string, alarm bool) []string {
	loading := ""
	if alarm && r.thread.loading != nil {
		loading = r.thread.loading.expected.Name
	}
	if mod, _ := r.about(said, loading); mod != "" {
		return []string{mod}
	}
	return nil
}

// Alike is what lines of one kind have in common: what differs from one to another
// (times, numbers, addresses) is taken out.
func Alike(line string) string { return string(alike(nil, []byte(line))) }

// alike takes out of a line every number, decimal or hexadecimal.
func alike(buf, line []byte) []byte {
	for i := 0; i < len(line); {
		end := i
		for end < len(line) && isWord(line[end]) {
			end++
		}
		switch word := line[i:end]; {
		case end == i:
			buf = append(buf, line[i])
			end++
		case isAddress(word):
			buf = append(buf, '#')
		default:
			for j, c := range word {
				if !isDigit(c) {
					buf = append(buf, c)
				} else if j == 0 || !isDigit(word[j-1]) {
					buf = append(buf, '#')
				}
			}
		}
		i = end
	}
	return buf
}

// longHex is how many hexadecimal digits in a row are no word.
const longHex = 8

// isAddress tells whether a word is a hexadecimal number.
func isAddress(word []byte) bool {
	rest, marked := bytes.CutPrefix(word, []byte("0x"))
	digit := false
	for _, c := range rest {
		if !isDigit(c) && !(c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F') {
			return false
		}
		digit = digit || isDigit(c)
	}
	return marked && len(rest) > 0 || digit && len(word) >= longHex
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
}

// about finds the mod that a line seems to be about.
func (r *Reader) about(message, loading string) (mod string, sure Sure) {
	if strings.Contains(message, "/") {
		for _, p := range paths.FindAllString(message, -1) {
			p = strings.TrimRight(p, ":.")
			if rec := r.byPath(p); rec != nil {
				return rec.expected.Name, SurePath
			}
			if name := r.placed(p); name != "" {
				return name, SurePath
			}
		}
	}
	for at := 0; at < len(message); { // the longest name tells most
		end := at
		for end < len(message) && inName(message[end]) {
			end++
		}
		if end == at {
			at++
			continue
		}
		w := message[at:end]
		for _, name := range []string{w, strings.TrimRight(w, ".-"), strings.TrimSuffix(w, ".so")} {
			if rec := r.mods[name]; rec != nil && len(name) > len(mod) {
				mod, sure = rec.expected.Name, SureName
			}
		}
		at = end
	}
	if mod != "" {
		return mod, sure
	}
	if loading != "" {
		return loading, SureLoading
	}
	return "", ""
}

// inName tells whether names have such a byte in them; those of other scripts have
// bytes above ASCII.
func inName(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '.' || c == '+' || c == '-' || c >= 0x80
}

// Remarks are the lines that sound like trouble and that no rule knows. They are
// kept when Notice is set before the first byte is fed.
func (r *Reader) Remarks() []Remark {
	list := make([]Remark, len(r.remarks))
	for i := range r.remarks {
		n := &r.remarks[i]
		list[i] = n.Remark
		mod, sure := r.about(strings.Join(append([]string{n.message}, n.More...), "\n"), n.loading)
		list[i].Mod, list[i].Sure = text.Clean(mod), sure
	}
	return list
}

func (s Sure) words() string {
	if s == SureLoading {
		return "for " + string(s)
	}
	return "by " + string(s)
}

// rank orders what a line is taken to be about a mod for, the surest first.
var rank = map[Sure]int{SurePath: 0, SureName: 1, SureLoading: 2}

// Explain adds to a proof what no rule has told: for a mod that nothing was said of, the
// line that sounds like trouble with it; for a server that stopped without a reason, the
// last trouble in its log. It changes no outcome.
func (r *Reader) Explain(p *Proof) {
	remarks := r.Remarks()
	for i := range p.Mods {
		m := &p.Mods[i]
		if m.Outcome != Silent {
			continue
		}
		best := -1
		for k := range remarks {
			if remarks[k].Mod == m.Name && (best < 0 || rank[remarks[k].Sure] < rank[remarks[best].Sure]) {
				best = k
			}
		}
		if best >= 0 {
			n := &remarks[best]
			m.Reason = fmt.Sprintf("%s (it sounds like trouble with it, %s; nothing says that it loaded)", r.telling(best), n.Sure.words())
			m.Evidence = append(m.Evidence, Evidence{Source: SourceLog, Line: n.Line, Text: n.Text, More: n.More, AtMS: ms(r.remarks[best].at)})
		}
	}
	if p.Exit == nil || r.stopped != "" {
		return
	}
	p.LastLines = r.lastWords()
	switch last := len(remarks) - 1; {
	case p.Hint != "":
	case last < 0 && len(p.LastLines) > 0:
		n := &p.LastLines[len(p.LastLines)-1]
		p.Hint = fmt.Sprintf("the last that it wrote is line %d: %s", n.Line, n.Text)
	case last >= 0:
		n := &remarks[last]
		p.Hint = fmt.Sprintf("the last trouble in its log is in line %d: %s", n.Line, r.telling(last))
		if n.Mod != "" {
			p.Hint += fmt.Sprintf("; it seems to be about %s, %s", n.Mod, n.Sure.words())
		}
	}
}

// lastLines is how many lines are kept for a server that stops and gives no reason.
const lastLines = 6

// lastLine is one of them, as it came.
type lastLine struct {
	number int
	at     time.Duration
	text   []byte
}

func (l *lastLine) keep(number int, at time.Duration, line []byte) {
	l.number, l.at = number, at
	l.text = append(l.text[:0], line[:min(len(line), text.MaxShown)]...)
}

// lastWords are the last lines that the server wrote, in their order.
func (r *Reader) lastWords() (lines []Evidence) {
	for i := max(r.heard-lastLines, 0); i < r.heard; i++ {
		l := &r.latest[i%lastLines]
		lines = append(lines, Evidence{Source: SourceLog, Line: l.number, Text: text.Mask(text.Clean(string(l.text)), r.Secrets), AtMS: ms(l.at)})
	}
	return lines
}

// telling is the line of a remark that says most: the one with a path or a name in it,
// else the one that a trace ends with, else the first.
func (r *Reader) telling(i int) string {
	n := &r.remarks[i]
	for _, line := range append([]string{n.message}, n.More...) {
		if mod, _ := r.about(line, ""); mod != "" {
			return text.Mask(strings.TrimSpace(text.Clean(line)), r.Secrets)
		}
	}
	if k := len(n.More) - 1; k >= 0 && n.More[k] != "" && n.More[k][0] != ' ' {
		return n.More[k]
	}
	return text.Mask(strings.TrimSpace(text.Clean(n.message)), r.Secrets)
}
