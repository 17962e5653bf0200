package remote_test

import (
	"context"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// deckMods are two mods as they stand at a host.
func (b *box) deckMods() {
	for name, data := range map[string]string{
		"start": "use deck\nuse old\n", "mods/deck/bill": "release 1\n", "mods/deck/one": "1", "mods/deck/stays": strings.Repeat("s", 9_000),
		"mods/deck/in/stays": "s", "mods/deck/in/went/x": "x", "mods/old/x": "x", "mods/old/in/y": "y",
	} {
		put(b.t, filepath.Join(b.dir, name), data)
		aged(b.t, filepath.Join(b.dir, name))
	}
	insist.OK(b.t, os.Chmod(filepath.Join(b.dir, "mods/deck/stays"), 0o750))
	insist.OK(b.t, os.Chmod(filepath.Join(b.dir, "mods/deck/one"), 0o711))
	insist.OK(b.t, os.Chmod(filepath.Join(b.dir, "mods/deck/in"), 0o710))
}

// updateDeck is an update of the one, and takes the other away.
func updateDeck(t *testing.T, m *remote.Mirror) {
	t.Helper()
	put(t, filepath.Join(m.Dir, "mods/deck/bill"), "release 2\n")
	put(t, filepath.Join(m.Dir, "mods/deck/one"), strings.Repeat("2", 40_000))
	put(t, filepath.Join(m.Dir, "mods/deck/in/came/z"), "z")
	put(t, filepath.Join(m.Dir, "start"), "use deck\n")
	insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/deck/in/went")))
	insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/old")))
}

func (b *box) deckMirror() *remote.Mirror {
	m := b.mirror()
	m.Mods = func() []string { return []string{"mods/deck"} }
	return m
}

func rights(t *testing.T, name string) os.FileMode {
	t.Helper()
	info, err := os.Stat(name)
	insist.OK(t, err)
	return info.Mode().Perm()
}

// An update of a mod is put in place as a whole: what stays of it is kept there with its rights and times, and is not
// sent again.
func TestWholeMod(t *testing.T) {
	b := newBox(t)
	b.deckMods()
	m, h := b.deckMirror(), b.dial()
	insist.OK(t, insist.Err(m.Pull(context.Background(), h, nil)))
	before, err := os.Stat(filepath.Join(b.dir, "mods/deck/stays"))
	insist.OK(t, err)
	updateDeck(t, m)
	var last remote.Progress
	insist.OK(t, m.Push(context.Background(), h, func(at remote.Progress) { last = at }))
	insist.Same(t, "sent", fmt.Sprint(last), "{4 4 40020 40020}")
	insist.Same(t, "there", holds(t, b.dir), holds(t, m.Dir))
	after, err := os.Stat(filepath.Join(b.dir, "mods/deck/stays"))
	insist.That(t, err == nil && os.SameFile(before, after) && after.Mode() == before.Mode() && after.ModTime().Equal(before.ModTime()), "what stays: %v, %v", after, err)
	insist.Same(t, "rights of what is replaced", rights(t, filepath.Join(b.dir, "mods/deck/one")), 0o711)
	insist.Same(t, "rights of a folder", rights(t, filepath.Join(b.dir, "mods/deck/in")), 0o710)
	said, err := again(m).Ahead()
	insist.That(t, err == nil && len(said) == 0, "still to be sent: %q, %v", said, err)
	p, err := again(m).Pull(context.Background(), h, nil)
	insist.That(t, err == nil && p.Files == 6 && len(p.Names) == 0, "%+v, %v", p, err)

	put(t, filepath.Join(m.Dir, "mods/deck/bill"), "release 3\n") // a single file is as whole by itself
	m = again(m)
	insist.OK(t, m.Push(context.Background(), h, nil))
	after, err = os.Stat(filepath.Join(b.dir, "mods/deck/stays"))
	insist.That(t, err == nil && os.SameFile(before, after), "%v", err)
}

// Where somebody else keeps something in a mod's folder it stays, and the mod is changed file by file.
func TestWholeModWithSomethingElse(t *testing.T) {
	b := newBox(t)
	b.deckMods()
	m, h := b.deckMirror(), b.dial()
	insist.OK(t, insist.Err(m.Pull(context.Background(), h, nil)))
	updateDeck(t, m)
	put(t, filepath.Join(b.dir, "mods/deck/theirs"), "mine")
	insist.OK(t, os.Symlink("one", filepath.Join(b.dir, "mods/deck/link")))
	insist.OK(t, m.Push(context.Background(), h, nil))
	theirs, err := os.ReadFile(filepath.Join(b.dir, "mods/deck/theirs"))
	insist.That(t, err == nil && string(theirs) == "mine", "%q, %v", theirs, err)
	link, err := os.Readlink(filepath.Join(b.dir, "mods/deck/link"))
	insist.That(t, err == nil && link == "one", "%q, %v", link, err)
	insist.OK(t, os.Remove(filepath.Join(b.dir, "mods/deck/theirs")))
	insist.OK(t, os.Remove(filepath.Join(b.dir, "mods/deck/link")))
	insist.Same(t, "there", holds(t, b.dir), holds(t, m.Dir))
}

// meddling is a host at which somebody does something at the moment of a rename.
type meddling struct {
	remote.FS
	does func(from, to string)
}

func (m *meddling) Rename(from, to string) error {
	m.does(from, to)
	return m.FS.Rename(from, to)
}

// What somebody puts into a mod while it is changed comes along, also into one that goes.
func TestPutIntoAWholeMod(t *testing.T) {
	b := newBox(t)
	b.deckMods()
	m := b.deckMirror()
	h := &meddling{FS: b.dial(), does: func(from, _ string) {
		switch {
		case strings.HasSuffix(from, "/mods/deck"):
			put(t, filepath.Join(from, "in/theirs"), "mine")
			put(t, filepath.Join(from, "new/folder"), "of theirs")
		case strings.HasSuffix(from, "/mods/old"):
			put(t, filepath.Join(from, "in/theirs"), "mine")
		}
	}}
	insist.OK(t, insist.Err(m.Pull(context.Background(), h, nil)))
	updateDeck(t, m)
	insist.OK(t, m.Push(context.Background(), h, nil))
	there := holds(t, b.dir)
	insist.Holds(t, "there", there, "mods/deck/in/theirs=mine", "mods/deck/new/folder=of theirs", "mods/old/in/theirs=mine", "mods/deck/in/came/z=z")
	insist.Lacks(t, "there", there, ".initium", "mods/old/x", "went")
	p, err := again(m).Pull(context.Background(), h, nil)
	insist.That(t, err == nil && p.Came >= 3, "%+v, %v", p, err)
	insist.Same(t, "here", holds(t, m.Dir), holds(t, b.dir))
}

// The line breaks anywhere while two mods change: each is the old one or the new, or for the moment between two renames
// none, and the next push brings it to its end.
func TestWholeModOverABreakingLine(t *testing.T) {
	rounds := 24
	if testing.Short() {
		rounds = 6
	}
	random := mathrand.New(mathrand.NewPCG(3, 9))
	cut := 0
	for range rounds {
		b := newBox(t)
		b.deckMods()
		old := holds(t, filepath.Join(b.dir, "mods/deck"))
		m := b.deckMirror()
		insist.OK(t, insist.Err(m.Pull(context.Background(), b.dial(), nil)))
		updateDeck(t, m)
		next := holds(t, filepath.Join(m.Dir, "mods/deck"))
		for tries := 0; ; tries++ {
			insist.Need(t, tries < 60, "it never comes to its end")
			b.left.Store(4_000 + random.Int64N(90_000))
			if tries > 40 {
				b.left.Store(-1)
			}
			h, _, err := remote.Dial(context.Background(), b.addr, remote.Login{Pin: b.pin, Secrets: secret("rope"), Timeout: 5 * time.Second})
			if err == nil {
				m = again(m)
				err = m.Push(context.Background(), h, nil)
				h.Close()
			}
			b.left.Store(-1)
			is := ""
			if _, e := os.Stat(filepath.Join(b.dir, "mods/deck")); e == nil {
				is = holds(t, filepath.Join(b.dir, "mods/deck"))
			}
			insist.That(t, is == "" || is == old || is == next, "the mod is neither the old one nor the new:\n%s", is)
			gone := ""
			if _, e := os.Stat(filepath.Join(b.dir, "mods/old")); e == nil {
				gone = holds(t, filepath.Join(b.dir, "mods/old"))
			}
			insist.That(t, gone == "" || strings.Count(gone, "=") == 2, "a mod that goes is there in part:\n%s", gone)
			if err == nil {
				break
			}
			cut++
		}
		insist.Same(t, "there", holds(t, b.dir), holds(t, m.Dir))
		insist.OK(t, insist.Err(again(m).Pull(context.Background(), b.dial(), nil)))
		insist.Same(t, "here", holds(t, m.Dir), holds(t, b.dir))
	}
	t.Logf("the line broke %d times", cut)
	insist.That(t, cut > rounds/2, "it broke %d times only", cut)
}

// stopping is a host whose line breaks before one of its changes of names.
type stopping struct {
	*shop
	left *atomic.Int64 // renames and removals that are done yet
}

func (s *stopping) spend(do func() error) error {
	if s.left.Add(-1) < 0 {
		return remote.ErrLine
	}
	return do()
}

func (s *stopping) Rename(from, to string) error {
	return s.spend(func() error { return s.shop.Rename(from, to) })
}

func (s *stopping) Remove(name string) error {
	return s.spend(func() error { return s.shop.Remove(name) })
}

func (s *stopping) RemoveFolder(name string) error {
	return s.spend(func() error { return s.shop.RemoveFolder(name) })
}

// A push is cut off before each of its renames and removals, and at each of those of the one that goes on; at a host
// that has no second names.
func TestCutOffAtEachRename(t *testing.T) {
	t.Parallel()
	for first := range 24 {
		for second := range 8 {
			s := &stopping{shop: newShop("/srv/start", "/srv/mods/a/one", "/srv/mods/a/two", "/srv/mods/a/in/x", "/srv/mods/old/x", "/srv/mods/old/y"), left: new(atomic.Int64)}
			s.left.Store(1000)
			m := s.mirror(t)
			m.Mods = func() []string { return []string{"mods/a"} }
			insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
			put(t, filepath.Join(m.Dir, "mods/a/one"), "new one")
			put(t, filepath.Join(m.Dir, "mods/a/more"), "more")
			put(t, filepath.Join(m.Dir, "start"), "use a\n")
			insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/old")))
			insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/a/in")))
			for _, left := range []int{first, second, 1000} {
				s.left.Store(int64(left))
				err := m.Push(context.Background(), s, nil)
				insist.That(t, err == nil || errors.Is(err, remote.ErrLine), "%d, %d: %v", first, second, err)
				one, more, two := string(s.files["/srv/mods/a/one"]), string(s.files["/srv/mods/a/more"]), string(s.files["/srv/mods/a/two"])
				insist.That(t, one+more+two == "was onewas two" || one+more+two == "new onemorewas two" || one+more+two == "", "%d, %d: half of each: %q %q %q", first, second, one, more, two)
				m = again(m)
			}
			var there []string
			for name := range s.files {
				there = append(there, name)
			}
			said, err := m.Ahead()
			insist.That(t, err == nil && len(said) == 0, "still to be sent: %q, %v", said, err)
			insist.That(t, len(s.files) == 7, "%d, %d: %q", first, second, there)
		}
	}
}

// What is large and stays is not sent again for the sake of what changes: at a host without second names such a mod
// changes file by file.
func TestLargeModWithoutSecondNames(t *testing.T) {
	t.Parallel()
	s := newShop("/srv/start", "/srv/mods/a/one", "/srv/mods/a/two", "/srv/mods/a/large")
	s.files["/srv/mods/a/large"] = make([]byte, 17<<20)
	m := s.mirror(t)
	m.Mods = func() []string { return []string{"mods/a"} }
	insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
	put(t, filepath.Join(m.Dir, "mods/a/one"), "new one")
	put(t, filepath.Join(m.Dir, "mods/a/two"), "new two")
	var last remote.Progress
	insist.OK(t, m.Push(context.Background(), s, func(at remote.Progress) { last = at }))
	insist.Same(t, "sent", fmt.Sprint(last), "{2 2 14 14}")
	insist.Same(t, "there", string(s.files["/srv/mods/a/one"])+string(s.files["/srv/mods/a/two"]), "new onenew two")
}
