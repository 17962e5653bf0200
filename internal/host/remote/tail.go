package remote

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"time"
)

// fingerprint is how many bytes tell whether a file is still the one that was read.
const fingerprint = 128

// maxTurned bounds how many files beside a log are looked at, when it was moved away and begun anew.
const maxTurned = 8

// maxAtOnce bounds what is fetched of a log between two looks, in bytes.
const maxAtOnce = 4 << 20

// Tail reads a file at a host as it grows, through being cut off, and through being moved away and begun anew. What it
// held when it was marked is passed over.
type Tail struct {
	Name  string            // whole, with slashes
	Feed  func(p []byte)    // takes what is new
	Began func(missed bool) // what comes next does not go on with what came before; missed says that there may have been more of that

	at    int64
	seen  []byte    // the last bytes before at
	head  []byte    // the first of the file, as they were when it was marked; nil where it has begun since
	entry Entry     // as it was seen last
	old   bool      // all before at was there when it was marked
	since time.Time // since when it has looked like that
}

// Mark passes over what the file holds now. One that is not there yet is waited for.
func (t *Tail) Mark(ctx context.Context, f FS) error {
	for range markTries {
		before, err := f.Stat(t.Name)
		if errors.Is(err, fs.ErrNotExist) {
			t.at, t.seen, t.head, t.entry, t.old = 0, nil, nil, Entry{}, true
			return nil
		}
		if err != nil {
			return err
		}
		size := before.Size
		if before.Kind == Link { // whose size is not that of the file
			if size, err = f.Size(t.Name); err != nil {
				return absent(err)
			}
		}
		from := max(size-fingerprint, 0)
		got, err := piece(ctx, f, t.Name, from, size-from)
		if err != nil {
			return absent(err)
		}
		if t.head = got; from > 0 {
			if t.head, err = piece(ctx, f, t.Name, 0, fingerprint); err != nil {
				return absent(err)
			}
		}
		t.at, t.seen, t.entry, t.old, t.since = from+int64(len(got)), got, before, true, time.Now()
		if after, err := f.Stat(t.Name); err != nil || after.Same(before) {
			return absent(err)
		}
	}
	return nil // it grows as fast as it is looked at
}

// freshFor is for how long, besides the moment by which a host tells times, a file that has changed is looked into though
// it looks the same: one that was begun anew in that moment may be as long.
const freshFor = 3 * time.Second

// markTries is how often a file is marked that changes meanwhile.
const markTries = 5

// Next hands on what is new; more tells that there is more than is fetched at once. The error is ErrLine for a line that
// broke; the next look goes on where this one ended.
func (t *Tail) Next(ctx context.Context, f FS) (more bool, err error) {
	e, err := f.Stat(t.Name)
	switch {
	case err != nil:
		return false, absent(err) // it is being moved away, or was never there
	case e.Kind == File && e.Size < t.at:
		return t.anew(ctx, f)
	case e.Kind == File && e.Size == t.at && e.Same(t.entry) && time.Since(t.since) > freshFor+f.Grain():
		return false, nil
	}
	// With the bytes before it, which tell whether it is still the same file.
	got, err := piece(ctx, f, t.Name, t.at-int64(len(t.seen)), maxAtOnce)
	if err != nil && len(got) <= len(t.seen) {
		return false, absent(err)
	}
	rewritten := t.old && t.at > 0 && e.Kind == File && e.Size == t.at && t.entry.Size == t.at && !e.Same(t.entry) // the same, once more
	if t.old && len(t.head) > 0 && len(got) == len(t.seen) {                                                       // it looks the same, and may begin otherwise
		head, err := piece(ctx, f, t.Name, 0, int64(len(t.head)))
		if err != nil {
			return false, absent(err)
		}
		rewritten = rewritten || !bytes.Equal(head, t.head)
	}
	if len(got) < len(t.seen) || !bytes.Equal(got[:len(t.seen)], t.seen) || rewritten && len(got) == len(t.seen) {
		return t.anew(ctx, f)
	}
	t.take(got[len(t.seen):])
	if !e.Same(t.entry) {
		t.entry, t.since = e, time.Now()
	}
	return len(got) == maxAtOnce, absent(err)
}

// absent passes over that a file is gone: it is being moved away.
func absent(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// take hands on what is new.
func (t *Tail) take(p []byte) {
	if len(p) == 0 {
		return
	}
	t.at += int64(len(p))
	t.seen = append(t.seen, p[max(len(p)-fingerprint, 0):]...)
	t.seen = bytes.Clone(t.seen[max(len(t.seen)-fingerprint, 0):])
	t.old = false
	t.Feed(p)
}

// anew begins a file from its beginning, after the rest of the one before it, if that still lies beside it.
func (t *Tail) anew(ctx context.Context, f FS) (more bool, err error) {
	found := len(t.seen) == 0
	if !found {
		rest, ok, err := t.turned(ctx, f)
		if err != nil {
			return false, err
		}
		t.take(rest)
		found = ok || t.old // what it said before it was marked is nobody's business
	}
	t.Began(!found)
	t.at, t.seen, t.head, t.entry, t.old = 0, nil, nil, Entry{}, false
	return true, nil
}

// turned looks for the file among those beside it, and reads what has come since. ok is false where it is not found.
func (t *Tail) turned(ctx context.Context, f FS) (rest []byte, ok bool, err error) {
	dir := path.Dir(t.Name)
	list, err := f.List(dir)
	if err != nil {
		return nil, false, absent(err)
	}
	list = slices.DeleteFunc(list, func(e Entry) bool {
		return e.Kind != File || !goodName(e.Name) || e.Name == path.Base(t.Name) || e.Size < t.at
	})
	slices.SortStableFunc(list, func(a, b Entry) int { return b.Time.Compare(a.Time) })
	for _, e := range list[:min(len(list), maxTurned)] {
		got, err := piece(ctx, f, path.Join(dir, e.Name), t.at-int64(len(t.seen)), maxAtOnce)
		if errors.Is(err, ErrLine) || ctx.Err() != nil {
			return nil, false, err
		}
		if err == nil && len(got) >= len(t.seen) && bytes.Equal(got[:len(t.seen)], t.seen) {
			return got[len(t.seen):], true, nil
		}
	}
	return nil, false, nil
}

// errEnough ends a transfer of which enough has come.
var errEnough = errors.New("enough")

// piece fetches some bytes of a file; there may be less. What came before an error is handed out with it.
func piece(ctx context.Context, f FS, name string, from, size int64) ([]byte, error) {
	var got bytes.Buffer
	err := f.Get(ctx, name, from, upTo{&got, size})
	if errors.Is(err, errEnough) || int64(got.Len()) == size {
		err = nil
	}
	return got.Bytes(), err
}

// upTo takes no more than some bytes.
type upTo struct {
	into *bytes.Buffer
	size int64
}

// Write takes what there is room for.
func (u upTo) Write(p []byte) (int, error) {
	room := int(min(u.size-int64(u.into.Len()), int64(len(p))))
	u.into.Write(p[:room])
	if room < len(p) {
		return room, errEnough
	}
	return room, nil
}
