package host

import (
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"initium/internal/core/text"
)

// maxOwnLog is how large Initium's own log grows, in bytes. Then it becomes the earlier
// one, and the one that was that before goes.
const maxOwnLog = 1 << 20

// Slow is how long a thing takes that is worth a line in Initium's own log.
const Slow = 2 * time.Second

// ownLog appends records to Initium's own log.
type ownLog struct{ file string }

// Log is Initium's own log: what it did by itself, what went wrong behind a screen or under
// a keeper, and what took long. What cannot be written there is lost: no work stops for it.
func (h Home) Log() *slog.Logger {
	return slog.New(slog.NewTextHandler(ownLog{h.ownLogFile()}, &slog.HandlerOptions{ReplaceAttr: harmless}))
}

func (h Home) ownLogFile() string { return filepath.Join(h.Dir, "initium.log") }

// harmless takes secrets and control sequences out of what is written down.
func harmless(_ []string, a slog.Attr) slog.Attr {
	switch v := a.Value.Any().(type) {
	case error:
		a.Value = slog.StringValue(text.Mask(text.Clean(v.Error()), nil))
	case string:
		a.Value = slog.StringValue(text.Mask(text.Clean(v), nil))
	case time.Duration:
		a.Value = slog.StringValue(v.Round(time.Millisecond).String())
	}
	return a
}

// Write appends one record.
func (l ownLog) Write(record []byte) (int, error) {
	if info, err := os.Lstat(l.file); err == nil && info.Size() > maxOwnLog {
		if err := os.Rename(l.file, l.file+".1"); err != nil {
			return 0, err
		}
	}
	f, err := os.OpenFile(l.file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	n, err := f.Write(record)
	return n, errors.Join(err, f.Close())
}

// ReadLog writes Initium's own log out, the oldest line first.
func (h Home) ReadLog(out io.Writer) error {
	for _, file := range []string{h.ownLogFile() + ".1", h.ownLogFile()} {
		f, err := os.Open(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		_, err = io.Copy(out, f)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}
