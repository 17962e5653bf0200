package remote

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"initium/internal/core/text"
)

// linker is a host at which a file can have a second name.
type linker interface {
	Link(file, name string) error
}

// liker is a host that can be told who may do what with a file or a folder.
type liker interface {
	Like(name, other string) error // gives what is at name the rights of what is at other
}

// resent is how much of a mod that does not change is sent once more, in bytes, where a host has no second names.
const resent = 16 << 20

// part is what is to be done in one folder, that changes as a whole.
type part struct {
	top  string
	goes bool // the whole folder is gone here
	difference
}

// isBelow tells whether something is a folder, or in it.
func isBelow(rel, top string) bool { return rel == top || strings.HasPrefix(rel, top+"/") }

func (d *difference) all() []string { return slices.Concat(d.folders, d.files, d.gone) }

// split takes out of a difference what happens in some folders.
func (d *difference) split(tops []string) (parts []part) {
	for _, top := range tops {
		p := part{top: top, goes: slices.Contains(d.gone, top)}
		move := func(from, to *[]string) {
			*from = slices.DeleteFunc(*from, func(rel string) bool {
				if isBelow(rel, top) {
					*to = append(*to, rel)
					return true
				}
				return false
			})
		}
		move(&d.folders, &p.folders)
		move(&d.files, &p.files)
		move(&d.gone, &p.gone)
		parts = append(parts, p)
	}
	return parts
}

// wholes are the folders that change as one: mods in which more than one thing does, and folders that go. Where
// something lies at the host that is not known here, or what stays of a mod cannot be kept, it is file by file.
func (m *Mirror) wholes(ctx context.Context, h FS, d *difference) (tops []string, err error) {
	if len(d.all()) < 2 {
		return nil, nil
	}
	var maybe []string
	if m.Mods != nil {
		maybe = m.Mods()
	}
	for _, rel := range d.gone {
		if m.known[rel].Kind == Folder && !slices.Contains(d.files, rel) && !slices.Contains(d.folders, rel) {
			maybe = append(maybe, rel)
		}
	}
	slices.SortFunc(maybe, func(a, b string) int { return len(a) - len(b) }) // a folder before what is in it
	for _, top := range maybe {
		k, known := m.known[top]
		p := (&difference{slices.Clone(d.folders), slices.Clone(d.files), slices.Clone(d.gone)}).split([]string{top})[0]
		switch {
		case !known || k.Kind != Folder || len(p.all()) < 2 || slices.Contains(d.folders, top) || slices.Contains(d.files, top):
			continue
		case slices.ContainsFunc(tops, func(t string) bool { return isBelow(top, t) }):
			continue
		case slices.ContainsFunc(p.files, func(rel string) bool { return m.rank(rel) > 0 }):
			continue // what registers mods arrives after them
		}
		if !p.goes && !m.keepable(h, p) {
			continue
		}
		ours, err := m.allKnown(ctx, h, top)
		if err != nil {
			return nil, err
		}
		if ours {
			tops = append(tops, top)
		}
	}
	return tops, nil
}

// staying are the files and folders of one that changes which stay as they are.
func (m *Mirror) staying(p part) (files, folders []string) {
	for _, rel := range sortedKeys(m.known) {
		switch {
		case !isBelow(rel, p.top) || slices.Contains(p.gone, rel) || slices.Contains(p.files, rel):
		case m.known[rel].Kind == Folder:
			folders = append(folders, rel)
		default:
			files = append(files, rel)
		}
	}
	return files, folders
}

// keepable tells whether what stays of a folder can be in the new one: by second names, or as it is little.
func (m *Mirror) keepable(h FS, p part) bool {
	if _, ok := h.(linker); ok {
		return true
	}
	files, _ := m.staying(p)
	var bytes int64
	for _, rel := range files {
		bytes += m.known[rel].Size
	}
	return bytes <= resent
}

// allKnown tells whether there is nothing in a folder of the host that is not known here.
func (m *Mirror) allKnown(ctx context.Context, h FS, top string) (bool, error) {
	var folders []string
	for rel, k := range m.known {
		if k.Kind == Folder && isBelow(rel, top) {
			folders = append(folders, rel)
		}
	}
	var mu sync.Mutex
	ours := true
	err := side(ctx, h.Asks(), folders, func(_ context.Context, rel string) error {
		list, err := h.List(m.there(rel))
		mu.Lock()
		defer mu.Unlock()
		for _, e := range list {
			k, ok := m.known[path.Join(rel, e.Name)]
			ours = ours && ok && k.Kind == e.Kind
		}
		ours = ours && err == nil
		if errors.Is(err, ErrLine) {
			return err
		}
		return nil // unchanged says what is the matter with it
	})
	return ours, err
}

// with is two differences as one.
func (d difference) with(o difference) difference {
	return difference{slices.Concat(d.folders, o.folders), slices.Concat(d.files, o.files), slices.Concat(d.gone, o.gone)}
}

// prepareAll makes the new folders of those that change. Those that cannot be changed as a whole come back as what is to
// be done file by file.
func (m *Mirror) prepareAll(ctx context.Context, h FS, j *journal, parts []part, wait func(string) string) (list []sending, whole []part, back difference, err error) {
	for _, p := range parts {
		if p.goes {
			whole = append(whole, p)
			continue
		}
		more, kept, err := m.prepare(ctx, h, j, p, wait(p.top))
		if err != nil {
			return nil, nil, back, err
		}
		if !kept {
			back = back.with(p.difference)
			continue
		}
		whole, list = append(whole, p), append(list, more...)
	}
	return list, whole, back, nil
}

// prepare makes the new folder of one that changes, beside it, and lists what has to be sent into it. It is not kept
// where what stays cannot be in it: the folder is changed file by file then.
func (m *Mirror) prepare(ctx context.Context, h FS, j *journal, p part, waits string) (list []sending, kept bool, err error) {
	in := func(rel string) string { return path.Join(waits, strings.TrimPrefix(rel, p.top)) }
	list, made, err := m.outgoing(p.difference, in)
	if err != nil {
		return nil, false, err
	}
	files, folders := m.staying(p)
	about := sha256.New() // second names must not be written to, as what is sent is
	for _, rel := range slices.Concat(files, folders, []string{""}, p.files, p.folders) {
		fmt.Fprintf(about, "%s\n", rel)
	}
	if is := hex.EncodeToString(about.Sum(nil)); j.Made[waits] != is {
		if j.tried {
			away(h, waits, Folder)
		}
		j.Made[waits] = is
		if err := m.keep(j); err != nil {
			return nil, false, err
		}
	}
	all := slices.Clone(made)
	for _, rel := range folders {
		all = append(all, in(rel))
	}
	slices.Sort(all) // a folder before what is in it
	if err := makeFolders(h, all); err != nil {
		return nil, false, err
	}
	for _, rel := range folders {
		if err := like(h, in(rel), m.there(rel)); err != nil {
			return nil, false, err
		}
	}
	linked, err := m.keepIn(ctx, h, p, waits)
	if err != nil {
		return nil, false, err
	}
	if !linked {
		again, _, err := m.outgoing(difference{files: files}, in)
		var bytes int64
		for _, s := range again {
			bytes += s.size
		}
		if err != nil || bytes > resent {
			away(h, waits, Folder)
			return nil, false, err
		}
		list = append(list, again...)
	}
	return list, true, nil
}

// keepIn gives what stays of a folder a second name in the new one. It is false where the host does not do that.
func (m *Mirror) keepIn(ctx context.Context, h FS, p part, waits string) (bool, error) {
	l, ok := h.(linker)
	if !ok {
		return false, nil
	}
	files, _ := m.staying(p)
	err := side(ctx, h.Asks(), files, func(_ context.Context, rel string) error {
		name := path.Join(waits, strings.TrimPrefix(rel, p.top))
		err := l.Link(m.there(rel), name)
		if err != nil && !errors.Is(err, ErrLine) { // an earlier push has come as far, with what was there then
			if gone(h.Remove(name)) == nil {
				err = l.Link(m.there(rel), name)
			}
		}
		return err
	})
	if err != nil && !errors.Is(err, ErrLine) && ctx.Err() == nil {
		return false, nil
	}
	return err == nil, err
}

// like gives what waits the rights of what it will replace, as far as the host does that.
func like(h FS, waits, place string) error {
	l, ok := h.(liker)
	if !ok {
		return nil
	}
	if err := l.Like(waits, place); errors.Is(err, ErrLine) {
		return err
	}
	return nil
}

// aside is where a folder is put that another one replaces.
func aside(waits string) string { return waits + "-old" }

// swap puts a new folder in the place of one, or takes one away. Between its two renames there is none: that of a host
// does not exchange folders.
func (m *Mirror) swap(h FS, p part, waits string) error {
	if err := h.Rename(m.there(p.top), aside(waits)); err != nil || p.goes {
		return err
	}
	if err := h.Rename(waits, m.there(p.top)); err != nil {
		if !errors.Is(err, ErrLine) {
			err = errors.Join(err, h.Rename(aside(waits), m.there(p.top)))
		}
		return err
	}
	return nil
}

// swapped looks how far an earlier push has come with a folder, and brings it to its end: done tells that nothing is
// left to do but to take the old one away.
func (m *Mirror) swapped(h FS, p part, waits string) (done bool, err error) {
	is := func(name string) bool {
		_, e := h.Stat(name)
		if e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
		return e == nil
	}
	old, place := is(aside(waits)), is(m.there(p.top))
	switch {
	case err != nil:
		return false, err
	case p.goes:
		return !place, nil
	case old && !place:
		err := h.Rename(waits, m.there(p.top))
		return err == nil, err
	}
	waiting := is(waits)
	return !waiting && place, err
}

// swappedOf tells those that an earlier push has put in place from those that are still to be.
func (m *Mirror) swappedOf(h FS, list []part, wait func(string) string) (rest, done []part, err error) {
	for _, p := range list {
		over, err := m.swapped(h, p, wait(p.top))
		if err != nil {
			return nil, nil, err
		}
		if over {
			done = append(done, p)
		} else {
			rest = append(rest, p)
		}
	}
	return rest, done, nil
}

// settle takes away what was put aside for one that is in place, and remembers what is there now.
func (m *Mirror) settle(ctx context.Context, h FS, p part, waits string) error {
	if err := m.clearOld(ctx, h, p, aside(waits)); err != nil {
		return fmt.Errorf("take the old %s away: %w", text.Clean(p.top), err)
	}
	m.forget(p.top)
	if p.goes {
		return nil
	}
	return m.learn(h, p.top)
}

// clearOld takes away what was put aside. What somebody has put into it meanwhile comes to where the rest went.
func (m *Mirror) clearOld(ctx context.Context, h FS, p part, old string) error {
	var files, folders []string
	var visit func(in string) error
	visit = func(in string) error {
		list, err := h.List(path.Join(old, in))
		if err != nil {
			return gone(err)
		}
		folders = append(folders, in)
		for _, e := range list {
			at := path.Join(in, e.Name)
			k, known := m.known[path.Join(p.top, at)]
			switch {
			case !goodName(e.Name):
				err = fmt.Errorf("%s was put into %s while that was changed, and lies in %s now", text.Clean(e.Name), text.Clean(p.top), text.Clean(old))
			case !known || k.Kind != e.Kind:
				err = m.bring(h, path.Join(old, at), path.Join(p.top, at))
			case e.Kind == Folder:
				err = visit(at)
			default:
				files = append(files, at)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	if err := visit(""); err != nil {
		return err
	}
	if err := side(ctx, h.Asks(), files, func(_ context.Context, at string) error { return gone(h.Remove(path.Join(old, at))) }); err != nil {
		return err
	}
	for _, at := range slices.Backward(folders) {
		if err := gone(h.RemoveFolder(path.Join(old, at))); err != nil {
			return err
		}
	}
	return nil
}

// bring puts something into a folder that may not be there any more.
func (m *Mirror) bring(h FS, from, rel string) error {
	for i, c := range rel {
		if c == '/' {
			_ = h.MakeFolder(m.there(rel[:i])) // or it is there
		}
	}
	return h.Rename(from, m.there(rel))
}

// forget leaves out of what is known of a folder what is not here any more.
func (m *Mirror) forget(top string) {
	for _, rel := range sortedKeys(m.known) {
		if !isBelow(rel, top) {
			continue
		}
		if _, err := os.Lstat(m.here(rel)); errors.Is(err, fs.ErrNotExist) {
			delete(m.known, rel)
		}
	}
}
