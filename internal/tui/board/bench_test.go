package board

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/dialects"
	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/tui/screentest"
)

// manyMods lays a harbour out on the disk with n mods, each with five needs, two
// of them standing the wrong way round, and says how it is surveyed.
func manyMods(b *testing.B, n int) survey.Input {
	b.Helper()
	dir := b.TempDir()
	r := rand.New(rand.NewPCG(1, 2))
	var script strings.Builder
	script.WriteString("let licence HS-1\n")
	line := make([]int, n)
	for i := range line {
		line[i] = i
	}
	line[n/3], line[2*n/3] = line[2*n/3], line[n/3]
	for i := range n {
		if i%200 == 0 {
			fmt.Fprintf(&script, "\n# ~~ Part %d ~~\n", i/200)
		}
		fmt.Fprintf(&script, "berth mod_%05d\n", line[i])
		var needs []string
		for range min(i, 5) {
			needs = append(needs, fmt.Sprintf("%q", fmt.Sprintf("mod_%05d", r.IntN(i))))
		}
		folder := filepath.Join(dir, "cargo", fmt.Sprintf("mod_%05d", i))
		screentest.Must(b, os.MkdirAll(folder, 0o755))
		bill := fmt.Sprintf("name = \"mod_%05d\"\nrelease = \"1.%d\"\nwaits_for = [%s]\n", i, i%10, strings.Join(needs, ", "))
		for name, data := range map[string]string{"bill.toml": bill, "deck.script": "haul 5\n"} {
			screentest.Must(b, os.WriteFile(filepath.Join(folder, name), []byte(data), 0o644))
		}
	}
	screentest.Must(b, os.WriteFile(filepath.Join(dir, "harbour.start"), []byte(script.String()), 0o644))
	data, err := fs.ReadFile(dialects.FS, "harrow-sound.toml")
	screentest.Must(b, err)
	d, err := dialect.Parse("harrow-sound.toml", data)
	screentest.Must(b, err)
	return survey.Input{Server: "h", Dialect: d, Vars: dialect.Vars{"dir": dir, "startup": "harbour.start", "port": "1"}, FS: disk.NewTree()}
}

func lookAt(in survey.Input) *app.Look {
	s := survey.Take(in)
	report := check.Run(s, check.Surroundings{FS: in.FS})
	return &app.Look{Server: &app.Server{Record: host.Record{Name: "h", Dir: in.Vars["dir"]}, Dialect: in.Dialect, Vars: in.Vars},
		Survey: s, Findings: report.Findings, Forecast: report.Forecast, Repair: report.Repair}
}

// From the disk to the first picture: survey, check with forecast and repair, and
// the board.
func BenchmarkFirstPaint10k(b *testing.B) {
	in := manyMods(b, 10_000)
	for b.Loop() {
		m, board := boardOn(b, 140, 43)
		board.set(lookAt(in), nil, nil, nil)
		m.View()
	}
}

// The same when the server was looked at before, as the screen does every few
// seconds and after each change.
func BenchmarkPaintAgain10k(b *testing.B) {
	in := manyMods(b, 10_000)
	in.Memory = &survey.Memory{}
	time.Sleep(2500 * time.Millisecond) // files that have just been written are not remembered
	for range 2 {
		survey.Take(in)
	}
	for b.Loop() {
		m, board := boardOn(b, 140, 43)
		board.set(lookAt(in), nil, nil, nil)
		m.View()
	}
}

func BenchmarkSurvey10k(b *testing.B) {
	in := manyMods(b, 10_000)
	for b.Loop() {
		survey.Take(in)
	}
}

func BenchmarkCheck10k(b *testing.B) {
	in := manyMods(b, 10_000)
	s := survey.Take(in)
	for b.Loop() {
		check.Run(s, check.Surroundings{FS: in.FS})
	}
}

// A key press on a board of ten thousand, and the picture after it.
func BenchmarkKeyToPaint10k(b *testing.B) {
	m, board := boardOn(b, 140, 43)
	board.set(lookAt(manyMods(b, 10_000)), nil, nil, nil)
	m.View()
	down := tea.KeyPressMsg(tea.Key{Code: tea.KeyDown})
	for b.Loop() {
		m.Update(down)
		m.View()
	}
}
