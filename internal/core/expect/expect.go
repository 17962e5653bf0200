// Package expect holds what an operator expects of every start, of a server or of a mod of it,
// besides what its family says: his own evidence.
package expect

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Kind is what is expected.
type Kind string

// The kinds of expectations.
const (
	Line   Kind = "line"    // a line of the log holds Text
	NoLine Kind = "no line" // none does
	Reply  Kind = "reply"   // what the server says to Ask on its console holds Text
	Path   Kind = "path"    // there is something at Text, a path below the server's folder
	Told   Kind = "told"    // the server says of itself that its Fact is Text
	Port   Kind = "port"    // the server has the port Text open
)

var kinds = []Kind{Line, NoLine, Reply, Path, Told, Port}

// Expectation is one thing that is expected of every start.
type Expectation struct {
	Number  int64  `json:"number"` // by which it can be taken back
	Mod     string `json:"mod,omitempty"`
	Kind    Kind   `json:"kind"`
	Text    string `json:"text"`
	Ask     string `json:"ask,omitempty"`
	Fact    string `json:"fact,omitempty"`
	Because string `json:"because,omitempty"`
}

// Same tells whether two say the same, for whatever reason.
func (e Expectation) Same(other Expectation) bool {
	e.Number, e.Because, other.Number, other.Because = 0, "", 0, ""
	return e == other
}

// String says it as an operator would. It is safe to show.
func (e Expectation) String() string {
	words := text.Clean(e.Text)
	switch e.Kind {
	case Line:
		return fmt.Sprintf("a line of the log holds %q", words)
	case NoLine:
		return fmt.Sprintf("no line of the log holds %q", words)
	case Reply:
		return fmt.Sprintf("the reply to %q holds %q", text.Clean(e.Ask), words)
	case Path:
		return words + " is there"
	case Told:
		return fmt.Sprintf("the server says that its %s is %s", text.Clean(e.Fact), words)
	}
	return fmt.Sprintf("the server has port %s open", words)
}

// Check says what is wrong with an expectation before it is kept.
func (e Expectation) Check() error {
	switch {
	case !slices.Contains(kinds, e.Kind):
		return fmt.Errorf("%q is nothing that can be expected", text.Clean(string(e.Kind)))
	case strings.TrimSpace(strings.ReplaceAll(e.Text, "{any}", "")) == "":
		return fmt.Errorf("say what is expected")
	case len(e.Text) > maxText || text.Clean(e.Text) != e.Text || text.Clean(e.Ask) != e.Ask:
		return fmt.Errorf("what is expected has to be one line without control characters, of %d bytes at the most", maxText)
	case e.Kind == Reply && strings.TrimSpace(e.Ask) == "":
		return fmt.Errorf("say what is typed on the console for that reply")
	case e.Kind != Reply && e.Ask != "":
		return fmt.Errorf("only a reply is asked for on the console")
	case e.Kind == Path && (path.IsAbs(e.Text) || path.Clean(e.Text) == ".." || strings.HasPrefix(path.Clean(e.Text), "../")):
		return fmt.Errorf("%s has to be a path below the server's folder", e.Text)
	case e.Kind == Told && !slices.Contains(dialect.Facts, e.Fact):
		return fmt.Errorf("what a server says of itself is one of %s", strings.Join(dialect.Facts, ", "))
	case e.Kind == Port:
		if n, err := strconv.Atoi(e.Text); err != nil || n < 1 || n > 65535 {
			return fmt.Errorf("%q is no port", e.Text)
		}
	}
	return nil
}

// maxText bounds what is expected, in bytes.
const maxText = 1000

// Fits tells whether a line holds what is expected: the text as it stands, with {any} for whatever
// may come between its parts.
func (e Expectation) Fits(line string) bool {
	for _, part := range strings.Split(e.Text, "{any}") {
		i := strings.Index(line, part)
		if i < 0 {
			return false
		}
		line = line[i+len(part):]
	}
	return true
}

// Met is what a start has shown of an expectation. Its strings are safe to show.
type Met struct {
	Expectation
	So      bool   `json:"so"`
	Said    string `json:"said"`           // what shows it, or why it is not so
	At      int    `json:"line,omitempty"` // of the log
	Unasked bool   `json:"unasked"`        // the server never came to where it could be looked at
}

// String says how it is in a sentence.
func (m Met) String() string {
	said := m.Expectation.String()
	if m.Mod != "" {
		said = text.Clean(m.Mod) + ": " + said
	}
	switch {
	case m.So:
		said += ", and so it is"
	case m.Unasked:
		said += ", which was not looked at"
	default:
		said += ", and that is not so"
	}
	if m.Said != "" {
		said += ": " + m.Said
	}
	if m.Because != "" && !m.So {
		said += " (you expect it because " + text.Clean(m.Because) + ")"
	}
	return said
}

// Watch looks at the lines of a log for what is expected of them.
type Watch struct {
	Met     []Met
	Settled bool // all was looked at
}

// NewWatch begins to look for expectations.
func NewWatch(list []Expectation) *Watch {
	w := &Watch{}
	for _, e := range list {
		w.Met = append(w.Met, Met{Expectation: e})
	}
	return w
}

// Line looks at a line of the log, which has been cleaned; shown is the line as it may be shown.
func (w *Watch) Line(number int, line string, shown func() string) {
	for i := range w.Met {
		if m := &w.Met[i]; (m.Kind == Line || m.Kind == NoLine) && m.At == 0 && m.Fits(line) {
			m.At, m.Said = number, fmt.Sprintf("line %d of the log, %s", number, shown())
		}
	}
}

// Answers is how what is not in the log is looked at, once the server is ready. Each returns what
// it found, in words that are safe to show.
type Answers struct {
	Reply func(ask string, fits func(line string) bool) (so bool, said string)
	Path  func(path string) (so bool, said string)
	Port  func(port int) (so bool, said string)
	Told  func(fact string) string // "" when it said nothing
}

// Settle looks at what is expected besides the lines of the log. up tells that the server is ready
// and runs.
func (w *Watch) Settle(up bool, ask Answers) {
	w.Settled = true
	for i := range w.Met {
		m := &w.Met[i]
		if !up && m.Kind != NoLine && m.Kind != Path && m.At == 0 {
			m.Unasked = true
			continue
		}
		switch m.Kind {
		case Line:
			if m.So = m.At > 0; !m.So {
				m.Said = "no line does"
			}
		case NoLine:
			if m.So = m.At == 0; m.So {
				m.Said = ""
			}
		case Reply:
			m.So, m.Said = ask.Reply(m.Ask, m.Fits)
		case Path:
			m.So, m.Said = ask.Path(m.Text)
		case Port:
			n, _ := strconv.Atoi(m.Text) // Check has looked
			m.So, m.Said = ask.Port(n)
		case Told:
			switch told := ask.Told(m.Fact); {
			case told == "":
				m.Said = "it does not say"
			default:
				m.So, m.Said = strings.EqualFold(strings.Trim(told, `"'`), strings.Trim(m.Text, `"'`)), "it says "+told
			}
		}
	}
}

// Unmet is the first that is not so, in a sentence; "" when all are.
func (w *Watch) Unmet() string {
	for _, m := range w.Met {
		if !m.So {
			return "not as expected: " + m.String()
		}
	}
	return ""
}

// Forms are how expectations are typed, for a hint.
const Forms = "line, no line, path, port TEXT; told NAME VALUE; reply WORDS = TEXT; then because …"

// Parse reads an expectation as it is typed: what it is, what is expected, and perhaps why, such as
// `told map fen because the others are empty`.
func Parse(typed string) (e Expectation, err error) {
	said, because, _ := strings.Cut(strings.TrimSpace(typed), " because ")
	e.Because = strings.TrimSpace(because)
	for _, k := range []Kind{NoLine, Line, Reply, Path, Told, Port} {
		if rest, ok := strings.CutPrefix(said, string(k)+" "); ok {
			e.Kind, e.Text = k, strings.TrimSpace(rest)
			break
		}
	}
	ok := true
	switch e.Kind {
	case Told:
		e.Fact, e.Text, ok = strings.Cut(e.Text, " ")
	case Reply:
		e.Ask, e.Text, ok = strings.Cut(e.Text, " = ")
	}
	e.Text = strings.TrimSpace(e.Text)
	if e.Kind == "" || !ok {
		return e, fmt.Errorf("%q is nothing that can be expected; it is one of %s", text.Clean(typed), Forms)
	}
	return e, e.Check()
}
