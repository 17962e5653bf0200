package ledgerview

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/tui/frame"
	"initium/internal/tui/planview"
	"initium/internal/tui/screentest"
)

// The ledger tells what the selected entry did, once for each, and why it cannot.
func TestLedgerTellsLines(t *testing.T) {
	m, _ := screentest.Root(t, 80, 24)
	l := newView(m, "h", "/srv", []host.Entry{{Number: 0}, {Number: 1, Why: "one", Files: []string{"/srv/start"}}, {Number: 2, Why: "two", Files: []string{"/srv/other"}}})
	m.Open(l)
	said := func() string { return ansi.Strip(m.View().Content) }
	if cmd := l.Shown(); cmd == nil || !strings.Contains(said(), "other") {
		t.Errorf("before it is known:\n%s", said())
	}
	after := planview.Rows("/srv", screentest.PlanOf(t), 1)
	l.Update(didMsg{number: 2, rows: after})
	insist.That(t, l.Shown() == nil && strings.Contains(said(), "goes") && strings.Contains(said(), "# berth a"), "once it is known:\n%s", said())
	long := slices.Repeat(after, 9)
	l.Update(didMsg{number: 2, rows: long})
	insist.Holds(t, "of many lines", said(), "lines more; initium ledger")
	insist.That(t, l.Key("down") != nil, "the next entry is not asked for")
	l.Update(didMsg{number: 1, err: errors.New("it is torn")})
	insist.Holds(t, "when it cannot be told", said(), "cannot be told: it is torn")
	l.Key("down")
	insist.Holds(t, "of the first", said(), "as Initium found the server")
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return newView(m, "h", "/srv", []host.Entry{{Number: 0, Why: "found"}, {Number: 1, Why: strings.Repeat("did ", 60), Starts: []host.Start{{Number: 1, Verdict: proof.Proved}}}})
	})
}
