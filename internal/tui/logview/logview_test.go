package logview

import (
	"strings"
	"testing"

	"initium/internal/core/proof"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		v := newView(m, logMsg{server: "h", mod: "a"})
		v.log.Add([]proof.Line{{Number: 1, Text: strings.Repeat("long ", 100)}, {Number: 2, Text: "a word or two more so that there is something to see in it"}})
		return v
	})
}
