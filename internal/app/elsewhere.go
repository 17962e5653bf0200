package app

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/proof"
	"initium/internal/core/text"
)

// A server that has printed nothing after a while may write its log into a file.
const (
	speechless   = 5 * time.Second
	maxElsewhere = 20_000 // files and folders of a server that are looked at
	mostLogs     = 3      // that are told of
)

// logsElsewhere finds the files below a server's folder that look like logs and were
// written since a moment, the largest first.
func logsElsewhere(dir string, since time.Time) (files []string) {
	sizes := map[string]int64{}
	left := maxElsewhere
	theirs.Walk(dir, func(full string, e fs.DirEntry, err error) error {
		if left--; left < 0 {
			return fs.SkipAll
		}
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if info, err := e.Info(); err == nil && info.Size() > 0 && !info.ModTime().Before(since) && looksLikeLog(full) {
			sizes[full] = info.Size()
			files = append(files, full)
		}
		return nil
	})
	slices.SortFunc(files, func(a, b string) int { return cmp.Or(cmp.Compare(sizes[b], sizes[a]), strings.Compare(a, b)) })
	return files[:min(len(files), mostLogs)]
}

// looksLikeLog tells by its name, or by the times that lines begin with, whether a file
// may be a log.
func looksLikeLog(name string) bool {
	f, err := theirs.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4<<10)
	n, _ := io.ReadFull(f, head) // what there is will do
	head = head[:n]
	if bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	if ext := strings.ToLower(filepath.Ext(name)); ext == ".log" || ext == ".out" {
		return true
	}
	for line := range bytes.Lines(head) {
		if _, _, ok := proof.Opening(line); ok {
			return true
		}
	}
	return false
}

// findLogs looks for the log of a server that has printed nothing. When it was
// started is told by the clock of now, as the times of files are.
func (f *following) findLogs() {
	since := time.Now().Add(-time.Since(f.began))
	f.elsewhere = logsElsewhere(f.server.Record.Dir, since.Add(-time.Second)) // the times of files may be whole seconds
}

// hint says what to do when the log has told nothing that the dialect knows.
func (f *following) hint() string {
	lines := f.reader.Lines()
	name := f.server.Dialect.Name
	switch {
	case lines > 0 && f.reader.Fitted() == 0:
		return fmt.Sprintf("no rule of the dialect %s fits a line of its log; initium teach log %s %s makes one from a line", name, name, text.ShellWord(f.dir.Log()))
	case lines > 0:
		return ""
	}
	f.findLogs()
	if len(f.elsewhere) == 0 {
		return "it printed nothing, and nothing in its folder that looks like a log was written meanwhile"
	}
	return text.Clean(fmt.Sprintf("it printed nothing, but wrote %s meanwhile; if that is its log, initium teach log %s %s --own says so to the dialect", f.elsewhere[0], name, text.ShellWord(f.elsewhere[0])))
}
