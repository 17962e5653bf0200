package proof

import (
	"math"
	"regexp"
	"strings"

	"initium/internal/core/text"
)

// Remark is a line that sounds like trouble and that no rule knows, with the mod
// that it seems to be about. Its strings are safe to show.
type Remark struct {
	Line  int    `json:"line"`  // the first such line
	Count int    `json:"count"` // how many are alike but for times, numbers and addresses
	Text  string `json:"text"`
	Mod   string `json:"mod,omitempty"`
	Sure  Sure   `json:"sure,omitempty"`
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
	[]byte("fatal"), []byte("Fatal"), []byte("FATAL"), []byte("panic"), []byte("PANIC"), []byte("failed"), []byte("Failed"), []byte("FAILED"), []byte("failure")}

// trouble finds them in one line.
var trouble = newFinder(troubled)

var (
	words = regexp.MustCompile(`[\pL\pN_.+-]+`)
	paths = regexp.MustCompile(`[^\s'"(),;]*/[^\s'"(),;]+`)
)

// noted is a remark before it is known what mod it is about.
type noted struct {
	Remark
	message string
	loading string // the mod that was loading
}

// remark keeps a line that no rule knows, if it sounds like trouble.
func (r *Reader) remark(raw, message []byte, number int) {
	if trouble.next(raw, 0) == math.MaxInt {
		return
	}
	r.key = alike(r.key[:0], message)
	if at, ok := r.alike[string(r.key)]; ok {
		r.remarks[at].Count++
		return
	}
	if len(r.remarks) == maxRemarks {
		return
	}
	if r.alike == nil {
		r.alike = map[string]int{}
	}
	r.alike[string(r.key)] = len(r.remarks)
	n := noted{Remark: Remark{Line: number, Count: 1, Text: text.Mask(text.Clean(string(raw)), r.Secrets)}, message: string(message[:min(len(message), text.MaxShown)])}
	if r.loading != nil {
		n.loading = r.loading.expected.Name
	}
	r.remarks = append(r.remarks, n)
}

// alike takes from a line what differs from one to another of its kind: every
// number becomes a mark.
func alike(buf, line []byte) []byte {
	for i, c := range line {
		if c < '0' || c > '9' {
			buf = append(buf, c)
		} else if i == 0 || line[i-1] < '0' || line[i-1] > '9' {
			buf = append(buf, '#')
		}
	}
	return buf
}

// about finds the mod that a line seems to be about.
func (r *Reader) about(message, loading string) (mod string, sure Sure) {
	for _, p := range paths.FindAllString(message, -1) {
		if rec := r.byPath(strings.TrimRight(p, ":.")); rec != nil {
			return rec.expected.Name, SurePath
		}
	}
	for _, w := range words.FindAllString(message, -1) { // the longest name tells most
		for _, name := range []string{w, strings.TrimRight(w, ".-"), strings.TrimSuffix(w, ".so")} {
			if rec := r.mods[name]; rec != nil && len(name) > len(mod) {
				mod, sure = rec.expected.Name, SureName
			}
		}
	}
	if mod != "" {
		return mod, sure
	}
	if loading != "" {
		return loading, SureLoading
	}
	return "", ""
}

// Remarks are the lines that sound like trouble and that no rule knows. They are
// kept when Notice is set before the first byte is fed.
func (r *Reader) Remarks() []Remark {
	list := make([]Remark, len(r.remarks))
	for i := range r.remarks {
		n := &r.remarks[i]
		list[i] = n.Remark
		mod, sure := r.about(n.message, n.loading)
		list[i].Mod, list[i].Sure = text.Clean(mod), sure
	}
	return list
}
