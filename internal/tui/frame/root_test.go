package frame

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/insist"
	"initium/internal/tui/canvas"
)

// sheet is a screen of these tests, and a server's when it has a name.
type sheet struct {
	*Desk
	got    []tea.Msg
	closed int
}

func (s *sheet) Update(msg tea.Msg) tea.Cmd      { s.got = append(s.got, msg); return nil }
func (s *sheet) Key(k string) tea.Cmd            { return s.Back() }
func (s *sheet) Draw(c *canvas.Canvas, y, h int) {}
func (s *sheet) Keys() []Key                     { return nil }
func (s *sheet) Help() []Help                    { return nil }
func (s *sheet) Close()                          { s.closed++ }

func on(m *Model) *sheet {
	s := &sheet{}
	s.Desk = m.Desk(s)
	m.Open(s)
	return s
}

// Nothing of a closed screen takes answers, unless it goes on when it is not shown; then for
// as long as it does.
func TestClosedScreensAreForgotten(t *testing.T) {
	m := New(t.Context(), nil, nil)
	lowest := on(m)
	for range 5 {
		left, kept := on(m), on(m)
		kept.KeepOpen("watch", "h")
		late, news := left.Ask(func() tea.Msg { return "late" }), kept.Ask(func() tea.Msg { return "news" })
		m.Update(tea.KeyPressMsg{Code: 'x', Text: "x"})
		m.Update(tea.KeyPressMsg{Code: 'x', Text: "x"})
		if m.Top() != Screen(lowest) || left.closed != 1 || kept.closed != 0 || lowest.Ongoing("watch", "h") != Screen(kept) {
			t.Fatalf("left are %d, closed once, and %d, not closed; shown is %T", left.closed, kept.closed, m.Top())
		}
		m.Update(late())
		m.Update(news())
		insist.Need(t, len(left.got) == 0 && len(kept.got) == 1, "of answers that came late the closed one took %d, the one that goes on %d", len(left.got), len(kept.got))
		kept.Forget("watch", "h")
		m.Update(news())
		if kept.closed != 1 || len(kept.got) != 1 || len(m.kept) != 0 || len(m.desks) != 1 {
			t.Fatalf("forgotten: closed %d times, %d answers; %d kept, %d desks", kept.closed, len(kept.got), len(m.kept), len(m.desks))
		}
	}
	m.Update(tea.KeyPressMsg{Code: 'x', Text: "x"})
	insist.That(t, len(m.stack) == 1 && lowest.closed == 0 && lowest.Lowest(), "the lowest screen is left")
}

// The list above what is typed fits into every window.
func TestPathsFit(t *testing.T) {
	for _, size := range [][2]int{{200, 60}, {80, 24}, {40, 12}, {20, 6}, {3, 2}, {1, 1}} {
		m := New(t.Context(), nil, nil)
		on(m)
		m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		m.Prompt = NewPrompt("Title: ", strings.Repeat("x", 90), nil)
		m.Prompt.Paths, m.Prompt.list = true, []string{"/a/" + strings.Repeat("y", 300), "/a/b/"}
		lines := strings.Split(m.View().Content, "\n")
		insist.That(t, len(lines) == size[1], "%d lines in %v", len(lines), size)
		for i, line := range lines {
			if w := ansi.StringWidth(line); w != size[0] {
				t.Errorf("line %d is %d wide in %v", i, w, size)
			}
		}
	}
}
