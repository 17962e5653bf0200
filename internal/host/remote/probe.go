package remote

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"initium/internal/core/text"
)

// Probe finds out what can be done in a folder of a host, with two small files that are taken away again. The error is
// that of what nothing goes without: to list, to write, to read back, to rename and to remove.
func Probe(ctx context.Context, h FS, folder string) (said []string, err error) {
	began := time.Now()
	list, err := h.List(folder)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", text.Clean(folder), err)
	}
	said = append(said, fmt.Sprintf("looks into %s: %d entries, in %d ms", text.Clean(folder), len(list), time.Since(began).Milliseconds()))
	one := path.Join(folder, shownPrefix+"probe-"+rand.Text()[:12])
	two := one + "-2"
	defer func() {
		_ = h.Remove(one) // where it was not renamed
		if gone := h.Remove(two); err == nil && gone != nil {
			err = fmt.Errorf("remove a file: %w", gone)
		}
	}()
	if err := h.Put(ctx, one, strings.NewReader("one"), 0); err != nil {
		return said, fmt.Errorf("write a file: %w", err)
	}
	said = append(said, "writes files")
	if err := h.Put(ctx, one, strings.NewReader("two"), 3); err != nil {
		if errors.Is(err, ErrLine) {
			return said, err
		}
		said = append(said, "does not go on behind what has arrived: a file that was cut off is sent once more from its beginning")
		if err := h.Put(ctx, one, strings.NewReader("onetwo"), 0); err != nil {
			return said, fmt.Errorf("write a file: %w", err)
		}
	} else {
		said = append(said, "goes on behind what has arrived")
	}
	var back bytes.Buffer
	if err := h.Get(ctx, one, 0, &back); err != nil || back.String() != "onetwo" {
		return said, fmt.Errorf("read a file back: it holds %q (%w)", text.Clean(back.String()), err)
	}
	said = append(said, "reads back what was written")
	e, err := h.Stat(one)
	if err != nil {
		return said, fmt.Errorf("look at a file: %w", err)
	}
	if off := time.Since(e.Time).Round(time.Second); off > time.Minute || off < -time.Minute {
		said = append(said, fmt.Sprintf("its clock is off by %s, or is in another zone; that does no harm", off))
	}
	if e.Time.Nanosecond() == 0 {
		said = append(said, "tells times in whole seconds")
	}
	if hidden, err := hides(h, path.Join(folder, waitsPrefix+"shown-"+rand.Text()[:12])); err != nil {
		return said, fmt.Errorf("make a folder: %w", err)
	} else if hidden {
		said = append(said, "lists no names that begin with a dot: files of that kind are not seen, and what is sent waits under names without one")
	}
	if err := h.Put(ctx, two, strings.NewReader("old"), 0); err != nil {
		return said, fmt.Errorf("write a file: %w", err)
	}
	if err := h.Rename(one, two); err == nil {
		said = append(said, "renames over what is there")
		return said, nil
	}
	said = append(said, "does not rename over what is there: for a moment nothing is at a file's place when it is replaced")
	if err := h.Remove(two); err != nil {
		return said, fmt.Errorf("remove a file: %w", err)
	}
	if err := h.Rename(one, two); err != nil {
		return said, fmt.Errorf("rename a file: %w", err)
	}
	return said, nil
}
