package frame

import (
	"context"
	"fmt"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/intake"
	"initium/internal/host"
)

// Busy is work that takes a while and can be stopped. Its line is shown once the
// work has lasted longer than a moment.
type Busy struct {
	of     *Desk // whose wish it is
	began  time.Time
	cancel context.CancelFunc

	mu   sync.Mutex
	line string
	at   host.Progress
}

// Spans of time that an operator feels.
const (
	moment = 200 * time.Millisecond
	while  = 2 * time.Second
	beat   = 150 * time.Millisecond
)

type beatMsg struct{}

// Copied notes how far the copying of files has come.
func (b *Busy) Copied(p host.Progress) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.at = p
}

// Read notes how much of a source has been read.
func (b *Busy) Read(n int64) { b.Copied(host.Progress{Bytes: n}) }

// words say what is being done, how far it has come and how long it may last.
func (b *Busy) words() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	since := time.Since(b.began)
	if since < moment {
		return ""
	}
	s := b.line
	if b.at.Bytes > 0 {
		s += " " + intake.Bytes(b.at.Bytes)
	}
	if b.at.AllBytes > 0 {
		s += fmt.Sprintf(" of %s, %d of %d files", intake.Bytes(b.at.AllBytes), b.at.Files, b.at.AllFiles)
		if since > while && b.at.Bytes > 0 {
			left := time.Duration(float64(since) * float64(b.at.AllBytes-b.at.Bytes) / float64(b.at.Bytes))
			s += fmt.Sprintf(", about %s more", max(left, time.Second).Round(time.Second))
		}
	}
	return s + " …"
}

// beat keeps the line of what is being done moving.
func (m *Model) beat() tea.Cmd {
	if m.busy == nil {
		return nil
	}
	return tea.Tick(beat, func(time.Time) tea.Msg { return beatMsg{} })
}
