package lineup

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Slip is a place in a startup file that registers nothing, and would register a mod if one
// word of it were written as the dialect has it, from which it is a letter or two off.
type Slip struct {
	Name string // of the mod
	File int    // of Files
	Span text.Span
	Want string // what would have to stand there
}

// SlipAt is where a slip stands, with what is wrong in words.
func (l *Lineup) SlipAt(s Slip) *text.Fault {
	doc := l.Files[s.File].Bytes
	return text.FaultAt(doc, s.Span.Start, "%q is not known here, so that %s is not registered; %q is what registers a mod", s.Span.In(doc), s.Name, s.Want)
}

// slip notes a statement that is a registration but for one word.
func (s *scriptReader) slip(st text.Statement) {
	if len(st.Words) != len(s.line) {
		return
	}
	wrong := -1
	for i, field := range s.line {
		switch {
		case strings.HasPrefix(field, "{") || st.Words[i].Value == field:
		case wrong >= 0 || !nearly(st.Words[i].Value, field):
			return
		default:
			wrong = i
		}
	}
	if wrong >= 0 {
		name, _ := modIn(s.r, s.line.get("mod", st.Words).Value)
		s.Slips = append(s.Slips, Slip{name, s.file, st.Words[wrong].Span, s.line[wrong]})
	}
}

// keySlips notes the ways in which a key that is no mod's could be meant as one.
func (l *Lineup) keySlips(file int, key text.Span) {
	f := &l.Files[file]
	before, after, ok := strings.Cut(l.Dialect.Registrations[f.Registration].Key, "{mod}")
	name := string(key.In(f.Bytes))
	if !ok || strings.ContainsAny(before+after, "{}") {
		return
	}
	for off := -slack; off <= slack; off++ {
		if cut := len(before) + off; before != "" && cut > 0 && cut < len(name)-len(after) && strings.HasSuffix(name, after) && nearly(name[:cut], before) {
			l.Slips = append(l.Slips, Slip{name[cut : len(name)-len(after)], file, text.Span{Start: key.Start, End: key.Start + cut}, before})
		}
		if cut := len(name) - len(after) + off; after != "" && cut > len(before) && cut < len(name) && strings.HasPrefix(name, before) && nearly(name[cut:], after) {
			l.Slips = append(l.Slips, Slip{name[len(before):cut], file, text.Span{Start: key.Start + cut, End: key.End}, after})
		}
	}
}

// slack is how many letters a word may be off that is meant as another, besides capitals. A
// short one may be off by one only.
const slack = 2

// nearly tells whether a word is another one, mistyped.
func nearly(word, meant string) bool {
	most := slack
	if len(meant) < 5 {
		most = 1
	}
	return word != meant && len(meant) > 2 && (strings.EqualFold(word, meant) || apart(word, meant) <= most)
}

// apart is how many letters have to be put in, taken out, changed, or swapped with their
// neighbours to make one word of another; more than slack for words of very different
// lengths.
func apart(a, b string) int {
	if len(a)-len(b) > slack || len(b)-len(a) > slack {
		return slack + 1
	}
	row := func(i int) []int { return append([]int{i}, make([]int, len(b))...) }
	before, above := row(0), row(0)
	for j := range above {
		above[j] = j
	}
	for i := range len(a) {
		now := row(i + 1)
		for j := range len(b) {
			change := 1
			if a[i] == b[j] {
				change = 0
			}
			now[j+1] = min(above[j]+change, above[j+1]+1, now[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				now[j+1] = min(now[j+1], before[j-1]+1)
			}
		}
		before, above = above, now
	}
	return above[len(b)]
}

// mend writes the word that is meant where a slip keeps a mod from being registered.
func (l *Lineup) mend(c Change) (*Lineup, error) {
	i := slices.IndexFunc(l.Slips, func(s Slip) bool { return s.Name == c.Mod })
	if i < 0 {
		return nil, fmt.Errorf("no line is mistyped that would register %s", text.Clean(c.Mod))
	}
	s := l.Slips[i]
	todo := edits{}
	todo.add(s.File, text.Edit{Span: s.Span, New: s.Want})
	after, err := l.with(todo)
	if err != nil {
		return nil, err
	}
	if r := l.Files[s.File].Registration; len(after.entriesOf(r, c.Mod)) == 0 {
		return nil, fmt.Errorf("the %s would not be read as it is meant after this change, so nothing is changed in it; see what check says", l.Dialect.Registrations[r].Name)
	}
	return after, nil
}
