package host

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// has puts a file with these bytes at a place, or nothing there for "-".
func has(t *testing.T, name, data string) {
	t.Helper()
	os.RemoveAll(name)
	if data == "-" {
		return
	}
	insist.OK(t, os.WriteFile(name, []byte(data), 0o644))
}

func is(name string) string {
	data, err := os.ReadFile(name)
	if err != nil {
		return "-"
	}
	return string(data)
}

// TestFileSteps goes through everything that can be found at the place of a file and beside
// it. Whatever is done, what somebody else has written is there afterwards.
func TestFileSteps(t *testing.T) {
	dir := t.TempDir()
	place, beside := filepath.Join(dir, "start"), filepath.Join(dir, "waits")
	kinds := map[string]fileRow{
		"changed": {path: place, old: []byte("old"), new: []byte("new")},
		"made":    {path: place, new: []byte("new"), fresh: true},
		"taken":   {path: place, old: []byte("old"), gone: true},
	}
	before := map[string]string{"changed": "old", "made": "-", "taken": "old"}
	after := map[string]string{"changed": "new", "made": "new", "taken": "-"}
	for kind, row := range kinds {
		for _, there := range []string{"-", "old", "new", "mine"} {
			for _, waiting := range []string{"-", "old", "new", "mine"} {
				for _, waits := range []bool{false, true} {
					if waits && waiting != "new" || kind == "made" && (there == "old" || waiting == "old") || kind == "taken" && (there == "new" || waiting == "new") {
						continue // it is that which waits, and what is neither before nor after is somebody's
					}
					what := fmt.Sprintf("%s, with %q there, %q beside it, ready %v", kind, there, waiting, waits)
					fresh := func() *fileStep {
						has(t, place, there)
						has(t, beside, waiting)
						return &fileStep{fileRow: row, place: place, beside: beside, waits: waits}
					}
					was, is := there == before[kind], func() string { return is(place) + " " + is(beside) }
					mine := func(did string) {
						t.Helper()
						if want := strings.Contains(there+waiting, "mine"); want != strings.Contains(is(), "mine") && (there == "mine" || did != "do") {
							t.Errorf("%s: after %s there is %s", what, did, is())
						}
					}

					s := fresh()
					if begun, err := s.begun(); err != nil || begun != (there == after[kind]) {
						t.Errorf("%s: begun %v, %v", what, begun, err)
					}

					s = fresh()
					err := s.do()
					switch mine("do"); {
					case was && err == nil && strings.HasPrefix(is(), after[kind]+" ") && s.did && !s.waits:
					case was && kind == "taken" && waiting != "-" && errors.Is(err, ErrStale): // somebody has made a file of that name
						mine("a refusal")
					case there == after[kind] && waiting != "mine" && err == nil && is() == there+" "+waiting && !s.did:
					case there == after[kind] && waiting == "mine" && errors.Is(err, ErrStale) && strings.HasPrefix(is(), "mine "): // it goes back
					case !was && there != after[kind] && errors.Is(err, ErrStale) && is() == there+" "+waiting && !s.did:
					default:
						t.Errorf("%s: do: %v, there is %s, did %v", what, err, is(), s.did)
					}

					s = fresh()
					if err := s.undo(); err != nil || is() != there+" "+waiting {
						t.Errorf("%s: what was not done is undone: %v, %s", what, err, is())
					}
					s = fresh()
					s.did = true
					err = s.undo()
					switch mine("undo"); {
					case was && err == nil && is() == there+" "+waiting:
					case !was && there != after[kind] && errors.Is(err, ErrStale) && is() == there+" "+waiting:
					case there == after[kind] && kind == "made" && (err == nil) == (waiting == "-"):
					case there == after[kind] && err == nil && waiting == "-" && strings.HasPrefix(is(), "old "):
					case there == after[kind] && err == nil && strings.HasPrefix(is(), waiting+" "):
					default:
						t.Errorf("%s: undo: %v, there is %s", what, err, is())
					}

					s = fresh()
					err = s.drop()
					switch mine("drop"); {
					case waiting == "mine" && err != nil && strings.Contains(err.Error(), "what he has written is in") && is() == there+" mine":
					case err == nil && is() == there+" -":
					default:
						t.Errorf("%s: drop: %v, there is %s", what, err, is())
					}
				}
			}
		}
	}
}

// Between looking and renaming somebody may have come: a swap that finds another state than
// the one looked at says so and changes nothing.
func TestSwapTooLate(t *testing.T) {
	dir := t.TempDir()
	place, beside := filepath.Join(dir, "start"), filepath.Join(dir, "waits")
	for _, test := range []struct {
		row            fileRow
		there, waiting string
	}{
		{fileRow{fresh: true, new: []byte("new")}, "mine", "new"},
		{fileRow{gone: true, old: []byte("old")}, "-", "-"},
		{fileRow{gone: true, old: []byte("old")}, "old", "mine"},
		{fileRow{old: []byte("old"), new: []byte("new")}, "-", "new"},
	} {
		has(t, place, test.there)
		has(t, beside, test.waiting)
		s := &fileStep{fileRow: test.row, place: place, beside: beside}
		if err := s.swap(); !errors.Is(err, ErrStale) || is(place) != test.there || is(beside) != test.waiting {
			t.Errorf("%+v: %v, %q and %q", test, err, is(place), is(beside))
		}
	}
	// And what comes out of the place is looked at once more.
	has(t, place, "old")
	has(t, beside, "new")
	s := &fileStep{fileRow: fileRow{old: []byte("old"), new: []byte("new")}, place: place, beside: beside}
	insist.OK(t, s.swap())
	has(t, beside, "mine")
	if err := s.do(); !errors.Is(err, ErrStale) || is(place) != "mine" {
		t.Errorf("%v, %q", err, is(place))
	}
	// Also when somebody has emptied what is to go.
	has(t, place, "old")
	has(t, beside, "-")
	s = &fileStep{fileRow: fileRow{gone: true, old: []byte("old")}, place: place, beside: beside}
	insist.OK(t, s.swap())
	has(t, beside, "")
	if err := s.do(); !errors.Is(err, ErrStale) || is(place) != "" {
		t.Errorf("%v, %q", err, is(place))
	}
}

// Folders that hold the parts of others are made by a step that is done once more, and stay
// when it is undone; what comes for nothing is made known.
func TestPartSteps(t *testing.T) {
	dir := t.TempDir()
	step := func(old, new string) *partStep {
		return &partStep{partRow: partRow{path: filepath.Join(dir, "mods"), old: old, new: new}, spots: spots{filepath.Join(dir, "fresh"), filepath.Join(dir, "aside")}, contents: &disk.Digests{}}
	}
	made := step("", plan.EmptyFolder)
	if begun, err := made.begun(); begun || err != nil {
		t.Error("a folder for others has begun", err)
	}
	for range 2 {
		insist.OK(t, made.do())
		insist.OK(t, made.undo())
		insist.That(t, disk.Exists(made.path) && !disk.Exists(made.fresh), "a folder for others is not there")
	}
	goes := step(plan.EmptyFolder, "")
	insist.OK(t, goes.do())
	insist.OK(t, os.Mkdir(goes.aside, 0o755)) // of somebody else
	if begun, err := goes.begun(); begun || err != nil {
		t.Error("a folder that goes afterwards has begun", err)
	}
	insist.OK(t, goes.undo())
	insist.That(t, disk.Exists(goes.path) && disk.Exists(goes.aside), "a folder that goes later went")
	insist.OK(t, os.Remove(goes.aside))
	insist.OK(t, os.Remove(goes.path))
	insist.Fails(t, "", step("", "x").do(), "what was to come is gone")
	// What went aside comes back, and never over what somebody has put there since.
	insist.OK(t, os.Mkdir(goes.aside, 0o755))
	insist.OK(t, os.Mkdir(goes.path, 0o755))
	if err := step("x", "").undo(); err == nil || !disk.Exists(goes.aside) || !disk.Exists(goes.path) {
		t.Error("a folder of somebody else was in the way:", err)
	}
	insist.OK(t, os.Remove(goes.path))
	if err := step("x", "").undo(); err != nil || disk.Exists(goes.aside) || !disk.Exists(goes.path) {
		t.Error(err)
	}
	// What waits while something is in its place has not begun; and a change that was cut off
	// takes along whatever has become of its folders.
	comes := step("", "x")
	insist.OK(t, os.Mkdir(comes.fresh, 0o755))
	if begun, err := comes.begun(); begun || err != nil {
		t.Error("what waits has begun", err)
	}
	late := step("x", "")
	if err := late.do(); !errors.Is(err, ErrStale) || disk.Exists(late.aside) {
		t.Error("what has changed goes aside:", err)
	}
	late.late = true
	if err := late.do(); err != nil || !disk.Exists(late.aside) || disk.Exists(late.path) {
		t.Error("when it was cut off:", err)
	}
}

// What is needed is the bytes of all that comes, and some for each file.
func TestRooms(t *testing.T) {
	r := rooms{}
	for range 2 {
		insist.OK(t, insist.Err(r.add(t.TempDir(), &plan.Part{Items: []plan.Item{{Rel: "a", Size: 10}, {Rel: "b", Size: 20}, {Rel: "c", Folder: true}}})))
	}
	insist.OK(t, r.check())
	_, here, err := disk.Room(t.TempDir())
	insist.OK(t, err)
	for device, n := range r {
		insist.Same(t, "the device", device, here)
		insist.Same(t, "", n.bytes, 60+4*4096)
		free, _, err := disk.Room(n.dir)
		insist.OK(t, err)
		n.bytes = free + 1<<40
		insist.Fails(t, "", (rooms{device: n}).check(), "there is too little room at "+n.dir)
	}
}
