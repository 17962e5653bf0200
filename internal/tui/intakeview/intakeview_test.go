package intakeview

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	dir := t.TempDir()
	server := filepath.Join(dir, "server")
	screentest.Must(t, os.CopyFS(server, os.DirFS("../../../demo/harrow-sound")))
	source := filepath.Join(dir, "kelp farms")
	for name, data := range map[string]string{"bill.toml": "name = \"kelp farms\"\nrelease = \"1\"\nwaits_for = [\"nowhere\"]\n", "deck.script": "haul 1\n", long[:200]: "x"} {
		file := filepath.Join(source, name)
		screentest.Must(t, os.MkdirAll(filepath.Dir(file), 0o755))
		screentest.Must(t, os.WriteFile(file, []byte(data), 0o600))
	}
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		_, err := m.App.Adopt(t.Context(), app.Adoption{Dir: server, As: "h"})
		screentest.Must(t, err)
		inside, err := m.App.Inspect(t.Context(), source, "h", lineup.Choices{}, nil)
		screentest.Must(t, err)
		return newView(m, insideMsg{server: "h", source: source, inside: inside})
	})
}
