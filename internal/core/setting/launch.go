package setting

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// readLaunch reads the parameters that have a value of the launch line, and the variables of the script: `-port=1`,
// and `-port 1` where the next word is no parameter itself. What is only known when the script runs is no setting
// of it.
func readLaunch(doc []byte, n Notation) (list []Setting, fault *text.Fault) {
	l, fault := lineup.ReadLaunch(n.Format, doc)
	if fault != nil {
		return nil, fault
	}
	for name, piece := range l.Variables {
		s := Setting{Name: name, Value: piece.Value, Span: piece.Span, piece: &piece, whole: lineAt(doc, piece.Start)}
		list = append(list, s)
	}
	for _, c := range l.Commands {
		if !slices.ContainsFunc(c.Words, func(w text.Piece) bool { return n.Launch == "" || strings.HasPrefix(w.Value, n.Launch) }) {
			continue
		}
		for i := range c.Words {
			if i == 0 || !strings.HasPrefix(c.Words[i].Value, "-") || c.Uses[i].Mixed || c.Uses[i].Cut {
				continue
			}
			word := c.Words[i]
			s := Setting{whole: text.Span{Start: c.Words[i-1].End, End: word.End}, word: true}
			name, _, assigned := strings.Cut(word.Value, "=")
			var piece text.Piece
			switch {
			case assigned && c.Uses[i].Name == "":
				piece = word.Tail(len(name) + 1)
			case !assigned && c.Uses[i].Name == "" && i+1 < len(c.Words) && !strings.HasPrefix(c.Words[i+1].Value, "-") && c.Uses[i+1] == (text.Use{}):
				piece = c.Words[i+1]
				s.whole.End = piece.End
			default:
				continue
			}
			s.Name, s.Value, s.Span, s.piece = name, piece.Value, piece.Text(), &piece
			list = append(list, s)
		}
	}
	return list, nil
}

// errLaunch refuses to add to a launch line.
var errLaunch = errors.New("it is not in the launch line, and no parameter there shows how the server wants it; add it with initium edit")

// plainParameter are the words that stand for themselves in every language of start commands.
var plainParameter = regexp.MustCompile(`^[A-Za-z0-9_.,:/@+=-]+$`)

// addParameter adds a parameter behind the last one that has a value, written as that is.
func addParameter(doc []byte, list []Setting, name, value string) ([]text.Edit, error) {
	at := -1
	for i := range list {
		if list[i].word && (at < 0 || list[i].whole.End > list[at].whole.End) {
			at = i
		}
	}
	if at < 0 || !strings.HasPrefix(name, "-") || strings.Contains(name, "=") {
		return nil, errLaunch
	}
	like := &list[at]
	lead, behind, ok := strings.Cut(string(like.whole.In(doc)), like.Name)
	if !ok {
		return nil, errLaunch
	}
	if !plainParameter.MatchString(name) || !plainParameter.MatchString(value) {
		return nil, fmt.Errorf("%q is not written into a launch line where nothing shows in which quotes it would stand; add it with initium edit", text.Clean(value))
	}
	if strings.Trim(lead, " \t\r\n\\^`") != "" {
		lead = " "
	}
	between := " "
	if strings.HasPrefix(behind, "=") {
		between = "="
	}
	end := like.whole.End // and a quote that closes behind it
	if end < len(doc) && strings.IndexByte(`"'`, doc[end]) >= 0 {
		end++
	}
	return []text.Edit{{Span: text.Span{Start: end, End: end}, New: lead + name + between + value}}, nil
}
