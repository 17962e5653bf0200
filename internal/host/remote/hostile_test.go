package remote_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// shop is a host in memory that can be told to lie, and to refuse.
type shop struct {
	mu    sync.Mutex
	files map[string][]byte // by whole path; folders end in a slash
	at    time.Time

	lists    func(dir string, list []remote.Entry) ([]remote.Entry, error)
	gets     func(name string, data []byte) []byte
	keeps    int  // bytes of a file that it has room for; 0 for all
	noOver   bool // it does not rename over what is there
	noAppend bool
	hides    bool          // it does not tell of names that begin with a dot
	grain    time.Duration // how exactly it tells times; 0 for a second
	breaks   int           // bytes of the next file after which the line breaks; 0 for never
	began    []int64       // where each file was begun with
}

func newShop(files ...string) *shop {
	s := &shop{files: map[string][]byte{"/srv/": nil}, at: time.Now().Add(-time.Hour).Truncate(time.Second)}
	for _, f := range files {
		for dir := path.Dir(f); dir != "/srv"; dir = path.Dir(dir) {
			s.files[dir+"/"] = nil
		}
		s.files[f] = []byte("was " + path.Base(f))
	}
	return s
}

var errNo = errors.New("550 no")

func (s *shop) entry(name string) (remote.Entry, error) {
	if data, ok := s.files[name]; ok && !strings.HasSuffix(name, "/") {
		return remote.Entry{Name: path.Base(name), Size: int64(len(data)), Time: s.at}, nil
	}
	if _, ok := s.files[name+"/"]; ok {
		return remote.Entry{Name: path.Base(name), Kind: remote.Folder, Time: s.at}, nil
	}
	return remote.Entry{}, fs.ErrNotExist
}

func (s *shop) List(dir string) (list []remote.Entry, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name := range s.files {
		name = strings.TrimSuffix(name, "/")
		if path.Dir(name) == dir && name != dir {
			e, _ := s.entry(name)
			list = append(list, e)
		}
	}
	if s.lists != nil {
		return s.lists(dir, list)
	}
	return list, nil
}

func (s *shop) Stat(name string) (remote.Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hides && strings.HasPrefix(path.Base(name), ".") {
		return remote.Entry{}, fs.ErrNotExist
	}
	return s.entry(name)
}

func (s *shop) Size(name string) (int64, error) {
	e, err := s.Stat(name)
	return e.Size, err
}

func (s *shop) Get(_ context.Context, name string, from int64, to io.Writer) error {
	s.mu.Lock()
	data, ok := s.files[name]
	if s.gets != nil {
		data = s.gets(name, data)
	}
	s.mu.Unlock()
	if !ok {
		return fs.ErrNotExist
	}
	_, err := io.Copy(to, bytes.NewReader(data[from:]))
	return err
}

func (s *shop) Put(_ context.Context, name string, what io.Reader, from int64) error {
	data, err := io.ReadAll(what)
	s.mu.Lock()
	defer s.mu.Unlock()
	if from > 0 && s.noAppend {
		return errNo
	}
	s.began = append(s.began, from)
	if s.breaks > 0 && len(data) > s.breaks {
		s.files[name] = append(append([]byte{}, s.files[name][:from]...), data[:s.breaks]...)
		s.breaks = 0
		return remote.ErrLine
	}
	whole := append(append([]byte{}, s.files[name][:from]...), data...)
	if s.keeps > 0 && len(whole) > s.keeps {
		whole = whole[:s.keeps]
	}
	s.files[name] = whole
	return err
}

func (s *shop) Rename(from, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.files[to]; ok && s.noOver {
		return errNo
	}
	moved := false
	for name, data := range s.files {
		if name == from || name == from+"/" || strings.HasPrefix(name, from+"/") {
			delete(s.files, name)
			s.files[to+strings.TrimPrefix(name, from)] = data
			moved = true
		}
	}
	if !moved {
		return fs.ErrNotExist
	}
	return nil
}

func (s *shop) Remove(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.files[name]; !ok {
		return fs.ErrNotExist
	}
	delete(s.files, name)
	return nil
}

func (s *shop) RemoveFolder(name string) error { return s.Remove(name + "/") }

func (s *shop) MakeFolder(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.files[name+"/"]; ok {
		return errNo
	}
	s.files[name+"/"] = nil
	return nil
}

func (s *shop) Lines() int           { return 3 }
func (s *shop) Asks() int            { return 5 }
func (s *shop) Grain() time.Duration { return max(s.grain, time.Second) }
func (s *shop) Close() error         { return nil }

func (s *shop) mirror(t *testing.T) *remote.Mirror {
	notes := t.TempDir()
	return &remote.Mirror{Dir: filepath.Join(notes, "there"), Root: "/srv", Notes: notes}
}

// What a host lists and sends is believed only as far as it can be true here.
func TestHostThatLies(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		does  func(s *shop)
		fails string
		has   string // what is here then
		tells string // among what was passed over
	}{
		"names that lead elsewhere": {does: func(s *shop) {
			s.lists = func(dir string, list []remote.Entry) ([]remote.Entry, error) {
				if dir == "/srv" {
					for _, n := range []string{"..", ".", "", "../x", "a/b", "a\\b", "\x00", "we\nird", "\xff", strings.Repeat("n", 300)} {
						list = append(list, remote.Entry{Name: n, Size: 1, Time: s.at})
					}
				}
				return list, nil
			}
		}, has: "mods/\nmods/a=was a 5\nstart=was start 9\n", tells: "no name that a file could have here"},
		"folders without an end": {does: func(s *shop) {
			s.lists = func(string, []remote.Entry) ([]remote.Entry, error) {
				return []remote.Entry{{Name: "d", Kind: remote.Folder}}, nil
			}
		}, fails: "lie deeper than"},
		"too many": {does: func(s *shop) {
			s.lists = func(string, []remote.Entry) (list []remote.Entry, err error) {
				for i := range 200_001 {
					list = append(list, remote.Entry{Name: fmt.Sprint(i)})
				}
				return list, nil
			}
		}, fails: "more than 200000 files"},
		"too much": {does: func(s *shop) {
			s.lists = func(dir string, _ []remote.Entry) ([]remote.Entry, error) {
				return []remote.Entry{{Name: "big", Size: 1 << 40, Time: s.at}}, nil
			}
		}, fails: "more than is brought here"},
		"more than it said": {does: func(s *shop) {
			s.gets = func(_ string, data []byte) []byte { return append(bytes.Clone(data), "and more"...) }
		}, fails: "another size than it has"},
		"less than it said": {does: func(s *shop) { s.gets = func(_ string, data []byte) []byte { return data[:1] } }, fails: "another size than it has"},
		"a size below nothing": {does: func(s *shop) {
			s.lists = func(dir string, list []remote.Entry) ([]remote.Entry, error) {
				if dir != "/srv" {
					return nil, nil
				}
				return []remote.Entry{{Name: "odd", Size: -4}, {Name: "pipe", Kind: remote.Other}}, nil
			}
		}, has: "", tells: "neither a file nor a folder"},
		"what may not be read": {does: func(s *shop) {
			s.lists = func(dir string, list []remote.Entry) ([]remote.Entry, error) { return list, fs.ErrPermission }
		}, fails: "permission"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop("/srv/start", "/srv/mods/a")
			c.does(s)
			m := s.mirror(t)
			p, err := m.Pull(context.Background(), s, nil)
			if c.fails != "" {
				insist.Fails(t, name, err, c.fails)
				return
			}
			insist.OK(t, err)
			insist.Same(t, "here", holds(t, m.Dir), c.has)
			insist.Holds(t, "told", strings.Join(p.Passed, "\n"), c.tells)
			outside, err := os.ReadDir(m.Notes)
			insist.That(t, err == nil && len(outside) == 2, "beside it are %v", outside)
		})
	}
}

// Hosts that do not rename over what is there, do not go on with a file, or have no room are dealt with, or told.
func TestHostThatCannot(t *testing.T) {
	t.Parallel()
	s := newShop("/srv/start", "/srv/mods/a")
	s.noOver, s.noAppend = true, true
	m := s.mirror(t)
	insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
	put(t, filepath.Join(m.Dir, "start"), "use a\n")
	put(t, filepath.Join(m.Dir, "mods/b/x"), "long enough to be cut")
	s.keeps = 4
	insist.Fails(t, "no room", m.Push(context.Background(), s, nil), "is the host's disk full?")
	insist.Same(t, "what is there", string(s.files["/srv/start"]), "was start")
	s.keeps = 0
	insist.OK(t, again(m).Push(context.Background(), s, nil))
	insist.Same(t, "what is there", string(s.files["/srv/start"])+string(s.files["/srv/mods/b/x"]), "use a\nlong enough to be cut")
	for name := range s.files {
		insist.Lacks(t, "left beside", name, ".initium")
	}
	said, err := remote.Probe(context.Background(), s, "/srv")
	insist.OK(t, err)
	insist.Holds(t, "told", strings.Join(said, "\n"), "looks into /srv: 2 entries", "writes files", "reads back", "does not go on behind what has arrived", "does not rename over what is there", "its clock is off by 1h0m", "tells times in whole seconds")
	for name := range s.files {
		insist.Lacks(t, "left by it", name, "probe")
	}
	s.gets = func(_ string, data []byte) []byte { return bytes.ToUpper(data) }
	put(t, filepath.Join(m.Dir, "start"), "use b\n")
	insist.Fails(t, "other bytes", again(m).Push(context.Background(), s, nil), "is not what was sent")
	insist.Same(t, "what is there", string(s.files["/srv/start"]), "use a\n")
	_, err = remote.Probe(context.Background(), s, "/srv")
	insist.Fails(t, "probed", err, "read a file back")
}

// A file that was cut off is gone on with where it was right, and begun anew where it was not.
func TestGoesOnWithAFile(t *testing.T) {
	t.Parallel()
	for name, spoil := range map[string]bool{"right": false, "other bytes": true} {
		s := newShop("/srv/start")
		m := s.mirror(t)
		insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
		put(t, filepath.Join(m.Dir, "start"), "0123456789")
		s.breaks = 4
		insist.That(t, errors.Is(m.Push(context.Background(), s, nil), remote.ErrLine), "the line did not break")
		for file, data := range s.files {
			if strings.Contains(file, ".initium-") {
				insist.Same(t, name, string(data), "0123")
				if spoil {
					s.files[file] = []byte("01x3")
				}
			}
		}
		s.began = nil
		insist.OK(t, again(m).Push(context.Background(), s, nil))
		insist.Same(t, name, string(s.files["/srv/start"]), "0123456789")
		insist.Same(t, name, fmt.Sprint(s.began), map[bool]string{false: "[4]", true: "[0]"}[spoil])
	}
}

// Somebody who takes away what is to be replaced has changed it; one who takes away what is to go has not.
func TestTakenAwayMeanwhile(t *testing.T) {
	t.Parallel()
	s := newShop("/srv/start", "/srv/mods/a/x", "/srv/mods/b")
	m := s.mirror(t)
	insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
	insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/a")))
	said, err := m.Ahead()
	insist.That(t, err == nil && strings.Join(said, "; ") == "mods/a/x goes; mods/a goes", "%q, %v", said, err)
	delete(s.files, "/srv/mods/a/x")
	insist.OK(t, again(m).Push(context.Background(), s, nil))
	_, there := s.files["/srv/mods/a/"]
	insist.That(t, !there && s.files["/srv/mods/b"] != nil, "there are %v", s.files)

	m = again(m)
	put(t, filepath.Join(m.Dir, "start"), "new")
	delete(s.files, "/srv/start")
	err = m.Push(context.Background(), s, nil)
	insist.That(t, errors.Is(err, remote.ErrChanged) && strings.HasSuffix(err.Error(), "start"), "%v", err)
	s.files["/srv/mods/c/"] = nil
	insist.OK(t, os.Remove(filepath.Join(m.Dir, "start")))
	put(t, filepath.Join(m.Dir, "mods/c/x"), "new")
	err = again(m).Push(context.Background(), s, nil)
	insist.That(t, errors.Is(err, remote.ErrChanged) && strings.HasSuffix(err.Error(), "mods/c"), "%v", err)
	insist.Same(t, "what is there", len(s.files["/srv/mods/c/x"]), 0)
}

// Where a host tells times by the minute, in a zone of its own, what is not old is looked at once more.
func TestTimesByTheMinute(t *testing.T) {
	t.Parallel()
	for age, came := range map[time.Duration]int{25 * time.Hour: 1, -25 * time.Hour: 1, 27 * time.Hour: 0} {
		s := newShop("/srv/start")
		s.grain, s.at = time.Minute, time.Now().Add(-age)
		m := s.mirror(t)
		insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
		p, err := again(m).Pull(context.Background(), s, nil)
		insist.That(t, err == nil && p.Came == came, "%s: %+v, %v", age, p, err)
	}
}

// A pull that was cut off, at whatever moment, leaves nothing that would be taken for a change made here.
func TestPullThatIsCutOff(t *testing.T) {
	t.Parallel()
	for _, saved := range []bool{true, false} { // or killed before anything was written down
		s := newShop("/srv/start", "/srv/mods/a/x")
		m := s.mirror(t)
		insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
		notes := filepath.Join(m.Notes, "there.json")
		before, err := os.ReadFile(notes)
		insist.OK(t, err)
		s.at = s.at.Add(time.Minute)
		s.files["/srv/start"], s.files["/srv/new/"], s.files["/srv/new/one"], s.files["/srv/new/two"] = []byte("changed"), nil, []byte("1"), []byte("22")
		s.gets = func(name string, data []byte) []byte {
			if name == "/srv/new/two" {
				return nil
			}
			return data
		}
		insist.Fails(t, "cut off", insist.Err(m.Pull(context.Background(), s, nil)), "/srv/new/two")
		if !saved {
			insist.OK(t, os.WriteFile(notes, before, 0o600))
		}
		put(t, filepath.Join(m.Dir, "new/stray"), "of a file that went meanwhile")
		said, err := again(m).Ahead()
		insist.That(t, err == nil && len(said) == 0, "to be sent: %q, %v", said, err)
		s.gets, s.began = nil, nil
		insist.OK(t, again(m).Push(context.Background(), s, nil))
		insist.OK(t, insist.Err(again(m).Pull(context.Background(), s, nil)))
		insist.Same(t, "here", holds(t, m.Dir), "mods/\nmods/a/\nmods/a/x=was x 5\nnew/\nnew/one=1 1\nnew/two=22 2\nstart=changed 7\n")
		insist.Same(t, "sent", len(s.began), 0)
		put(t, filepath.Join(m.Dir, "start"), "mine")
		_, err = again(m).Pull(context.Background(), s, nil)
		insist.That(t, errors.Is(err, remote.ErrAhead), "what was done here is written over: %v", err)
	}
}

// At a host that lists no names with a dot before them, a file and a mod are replaced all the same, and nothing is left.
func TestHostThatHidesDots(t *testing.T) {
	t.Parallel()
	s := newShop("/srv/start", "/srv/mods/reed/bill", "/srv/mods/reed/deck")
	s.lists = func(_ string, list []remote.Entry) ([]remote.Entry, error) {
		return slices.DeleteFunc(list, func(e remote.Entry) bool { return strings.HasPrefix(e.Name, ".") }), nil
	}
	s.hides = true
	m := s.mirror(t)
	m.Mods = func() []string { return []string{"mods/reed"} }
	insist.OK(t, insist.Err(m.Pull(context.Background(), s, nil)))
	for _, f := range []string{"start", "mods/reed/bill", "mods/reed/deck"} {
		insist.OK(t, os.WriteFile(filepath.Join(m.Dir, filepath.FromSlash(f)), []byte("is another"), 0o600))
	}
	insist.OK(t, m.Push(context.Background(), s, nil))
	for name, data := range s.files {
		insist.That(t, strings.HasSuffix(name, "/") || string(data) == "is another", "%s: %q", name, data)
		insist.Lacks(t, "left", name, "initium")
	}
	said, err := remote.Probe(context.Background(), s, "/srv")
	insist.OK(t, err)
	insist.Holds(t, "told", strings.Join(said, "\n"), "lists no names that begin with a dot")
}
