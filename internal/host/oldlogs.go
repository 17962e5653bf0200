package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"initium/internal/core/proof"
	"initium/internal/core/text"
)

// The logs of the newest starts of a server and that of the last proved one are kept
// whatever they take; the others as long as all of them together take no more than this
// much of the disk, in bytes. Proofs are kept for good, with the lines that they rest on.
const (
	newestLogs = 5
	logRoom    = 2 << 30
)

// DropOldLogs lets go of the logs of a server's oldest starts when all of them take more
// than room, in bytes.
func (h Home) DropOldLogs(server string, room int64) error {
	numbers, err := h.Starts(server)
	if err != nil {
		return err
	}
	slices.Reverse(numbers)
	total, proved := int64(0), false
	for i, n := range numbers {
		dir := h.Start(server, n)
		files, size, err := dir.logFiles()
		if err != nil {
			return err
		}
		last := false // the last proved one
		if !proved {
			if p, err := dir.Proof(); err == nil {
				last = p.Verdict == proof.Proved
			}
		}
		proved = proved || last
		if total += size; total <= room || last || i < newestLogs {
			continue
		}
		for _, file := range files {
			if err := os.Remove(file); err != nil {
				return fmt.Errorf("let go of the log of start %d: %w", n, err)
			}
		}
	}
	return nil
}

// logFiles are the pieces of a log with what belongs to them, and what they take of the
// disk, in bytes.
func (d StartDir) logFiles() (files []string, size int64, err error) {
	if files, err = filepath.Glob(filepath.Join(text.Literal(string(d)), "log*")); err != nil {
		return nil, 0, err
	}
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil {
			return nil, 0, err
		}
		size += info.Size()
	}
	return files, size, nil
}

// LogDropped tells whether the log of a start is not kept any more.
func (d StartDir) LogDropped() bool {
	_, err := os.Stat(d.Log())
	_, ran := d.Running()
	return errors.Is(err, fs.ErrNotExist) && ran == nil
}
