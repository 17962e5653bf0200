package setting

import (
	"errors"
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
			if i == 0 || !strings.HasPrefix(c.Words[i].Value, "-") || c.Uses[i].Mixed {
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
var errLaunch = errors.New("it is not in the launch line, and nobody here knows where in it the server wants it; add it with initium edit")
