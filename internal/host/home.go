// Package host is the outside world: Initium's home, files, processes and the
// keeper that owns a running server.
package host

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/google/renameio/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/expect"
	"initium/internal/core/proof"
)

// Home is the folder that holds all that Initium keeps.
type Home struct{ Dir string }

// FindHome is $INITIUM_HOME, else initium in the operator's XDG data folder.
// The folder need not exist yet.
func FindHome() (Home, error) {
	if dir := os.Getenv("INITIUM_HOME"); dir != "" {
		abs, err := filepath.Abs(dir)
		return Home{abs}, err
	}
	base := os.Getenv("XDG_DATA_HOME")
	if base == "" {
		user, err := os.UserHomeDir()
		if err != nil {
			return Home{}, fmt.Errorf("find a home for Initium: %w; set INITIUM_HOME to a folder", err)
		}
		base = filepath.Join(user, ".local", "share")
	}
	return Home{filepath.Join(base, "initium")}, nil
}

// Record is the small file that Initium keeps about a server.
type Record struct {
	Name    string            `toml:"name"`
	Dir     string            `toml:"dir"`
	Dialect string            `toml:"dialect"`
	Set     map[string]string `toml:"set"` // given values that the operator supplied
	Adopted time.Time         `toml:"adopted"`
	Own     []string          `toml:"own,omitempty" json:",omitempty"`     // settings that are its own, and are not carried from or to it
	Guard   int               `toml:"guard"`                               // how many crashes in a row it is started again after
	Service string            `toml:"service,omitempty" json:",omitempty"` // which systemd starts it: ServiceOfMachine, ServiceOfUser, or none, ""

	// Of a server that stands at a host: which, and where there. Dir is its mirror then.
	Host string `toml:"host,omitempty" json:",omitempty"`
	Path string `toml:"path,omitempty" json:",omitempty"`
	Log  string `toml:"log,omitempty" json:",omitempty"` // its log there, below Path; "" for what the dialect says
}

// Place is where something of a server lies, in words: its path, or HOST:PATH. full is whole, in the server's folder or
// elsewhere on this machine.
func (r Record) Place(full string) string {
	if rest, ok := strings.CutPrefix(full, r.Dir); ok && r.Host != "" && (rest == "" || rest[0] == '/') {
		return r.Host + ":" + r.Path + rest
	}
	return full
}

var serverName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// CheckName refuses what cannot be the name of a server.
func CheckName(name string) error {
	if !serverName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a server: use letters, digits, . _ and -, at most 64, beginning with a letter or digit", name)
	}
	return nil
}

// DialectDir is where the operator's own dialects are.
func (h Home) DialectDir() string { return filepath.Join(h.Dir, "dialects") }

func (h Home) serverDir(name string) string { return filepath.Join(h.Dir, "servers", name) }

// FormDir is where the fields of a rented server's web form are kept.
func (h Home) FormDir(name string) string { return filepath.Join(h.serverDir(name), "form") }

func (h Home) recordFile(name string) string {
	return filepath.Join(h.serverDir(name), "server.toml")
}

// ErrUnknownServer is wrapped by errors about a server that was not adopted.
var ErrUnknownServer = errors.New("no such server")

// Record reads what is kept about a server. The error wraps ErrUnknownServer
// when it was never adopted.
func (h Home) Record(name string) (Record, error) {
	var r Record
	if err := CheckName(name); err != nil {
		return r, fmt.Errorf("%w: %w", ErrUnknownServer, err)
	}
	data, err := os.ReadFile(h.recordFile(name))
	if errors.Is(err, fs.ErrNotExist) {
		return r, fmt.Errorf("%w: %s is not adopted; adopt its folder first (initium adopt DIR --as %s)", ErrUnknownServer, name, name)
	}
	if err != nil {
		return r, err
	}
	if err := toml.Unmarshal(data, &r); err != nil {
		return r, fmt.Errorf("read %s: %w", h.recordFile(name), err)
	}
	r.Name = name
	return r, nil
}

// PutRecord keeps a record.
func (h Home) PutRecord(r Record) error {
	data, err := toml.Marshal(r)
	if err != nil {
		return err
	}
	return WritePrivate(h.recordFile(r.Name), data)
}

// Servers lists the names of all adopted servers.
func (h Home) Servers() ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(h.Dir, "servers"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		if _, err := os.Stat(h.recordFile(e.Name())); err == nil {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// WritePrivate writes a private file of Initium's own, all or nothing.
func WritePrivate(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	return renameio.WriteFile(name, data, 0o600)
}

func writeJSON(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return WritePrivate(name, append(data, '\n'))
}

func readJSON(name string, v any) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, v); err != nil {
		return fmt.Errorf("read %s: %w", name, err)
	}
	return nil
}

// StartDir is the folder of one start of a server.
type StartDir string

// NewStart makes the folder for the next start of a server; of two who make one at the
// same time each gets its own.
func (h Home) NewStart(server string) (StartDir, int, error) {
	numbers, err := h.Starts(server)
	if err != nil {
		return "", 0, err
	}
	next := 1
	if n := len(numbers); n > 0 {
		next = numbers[n-1] + 1
	}
	if err := os.MkdirAll(filepath.Dir(string(h.Start(server, next))), 0o700); err != nil {
		return "", 0, err
	}
	for ; ; next++ {
		dir := h.Start(server, next)
		if err := os.Mkdir(string(dir), 0o700); !errors.Is(err, fs.ErrExist) {
			return dir, next, err
		}
	}
}

// Start is the folder of a start by its number.
func (h Home) Start(server string, number int) StartDir {
	return StartDir(filepath.Join(h.serverDir(server), "starts", startName(number)))
}

func startName(number int) string { return fmt.Sprintf("%05d", number) }

// Starts lists the numbers of all kept starts, oldest first.
func (h Home) Starts(server string) ([]int, error) {
	entries, err := os.ReadDir(filepath.Join(h.serverDir(server), "starts"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var numbers []int
	for _, e := range entries {
		if n, err := strconv.Atoi(e.Name()); err == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

func (d StartDir) spec() string      { return filepath.Join(string(d), "start.json") }
func (d StartDir) run() string       { return filepath.Join(string(d), "run.json") }
func (d StartDir) exit() string      { return filepath.Join(string(d), "exit.json") }
func (d StartDir) listens() string   { return filepath.Join(string(d), "listens.json") }
func (d StartDir) proof() string     { return filepath.Join(string(d), "proof.json") }
func (d StartDir) inventory() string { return filepath.Join(string(d), "inventory.zst") }
func (d StartDir) expect() string    { return filepath.Join(string(d), "expect.json") }

// Server is the name of the server whose start this is.
func (d StartDir) Server() (string, error) {
	var spec Spec
	err := readJSON(d.spec(), &spec)
	return spec.Server, err
}

// PutExpected keeps what the start is to be judged by.
func (d StartDir) PutExpected(e Expected) error { return writeJSON(d.expect(), e) }

// Expected reads what the start is to be judged by.
func (d StartDir) Expected() (e Expected, err error) { return e, readJSON(d.expect(), &e) }

// expectAs lets a start be judged by what another one is judged by.
func (d StartDir) expectAs(other StartDir) error {
	e, err := other.Expected()
	if err != nil {
		return err
	}
	return d.PutExpected(e)
}

// PutInventory keeps what a server is started with.
func (d StartDir) PutInventory(v *proof.Inventory) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	w, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	return WritePrivate(d.inventory(), w.EncodeAll(data, nil))
}

// Inventory reads what a server was started with; fs.ErrNotExist when that was not
// kept.
func (d StartDir) Inventory() (*proof.Inventory, error) {
	packed, err := os.ReadFile(d.inventory())
	if err != nil {
		return nil, err
	}
	r, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	v := new(proof.Inventory)
	data, err := r.DecodeAll(packed, nil)
	if err == nil {
		err = json.Unmarshal(data, v)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", d.inventory(), err)
	}
	return v, nil
}

// Key is a secret of this home, by which secrets can be sealed: the same one has the
// same seal, and it cannot be guessed from that.
func (h Home) Key() ([]byte, error) {
	name := filepath.Join(h.Dir, "key")
	key, err := os.ReadFile(name)
	if err == nil && len(key) == 32 {
		return key, nil
	}
	key = make([]byte, 32)
	rand.Read(key)
	return key, WritePrivate(name, key)
}

// Expected is what a start is judged by, whoever comes to judge it.
type Expected struct {
	Mods     []proof.Expected `json:"mods"`
	Foretold []string         `json:"foretold"` // what check says of each, in the same order; "" for nothing
	Within   time.Duration    `json:"within"`   // for becoming ready, ns
	Settle   time.Duration    `json:"settle"`   // for staying up then, ns
	Absent   []Absent         `json:"absent"`
	Unread   []string         `json:"unread,omitempty"` // places in its startup files that cannot be understood
	Gone     []proof.Gone     `json:"gone,omitempty"`

	Entry *int `json:"entry,omitempty"` // the newest of the ledger then; nil where that was not noted

	Own []expect.Expectation `json:"own,omitempty"` // what the operator expects himself
}

// Absent is something that a mod makes by itself, and that was not there before.
type Absent struct {
	Mod  string `json:"mod"`
	Path string `json:"path"`
}

// PutProof keeps the proof of a start.
func (d StartDir) PutProof(p *proof.Proof) error { return writeJSON(d.proof(), p) }

// Judged tells whether there is a proof of a start.
func (d StartDir) Judged() bool {
	_, err := os.Stat(d.proof())
	return err == nil
}

// Proof reads the proof of a start. The error is fs.ErrNotExist when it was
// never judged.
func (d StartDir) Proof() (*proof.Proof, error) {
	p := new(proof.Proof)
	if err := readJSON(d.proof(), p); err != nil {
		return nil, err
	}
	return p, nil
}

// WriteExport writes a file that others are to read, whole or not at all. Through a link
// the file behind it is written; a device or a pipe is written into, not replaced.
func WriteExport(name string, data []byte) (err error) {
	switch info, statErr := os.Stat(name); {
	case statErr == nil && info.Mode().IsRegular():
		var full string
		if full, err = filepath.EvalSymlinks(name); err == nil {
			err = renameio.WriteFile(full, data, 0o644)
		}
	case statErr == nil && !info.IsDir():
		var f *os.File
		if f, err = os.OpenFile(name, os.O_WRONLY, 0); err == nil {
			_, err = f.Write(data)
			err = errors.Join(err, f.Close())
		}
	default:
		err = renameio.WriteFile(name, data, 0o644)
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", name, err)
	}
	return nil
}

// TrialSuffix is what the copy of a server on which mods are tried is called besides the server's
// own name, RehearsalSuffix what one is called on which a start is rehearsed, and LearningSuffix one
// from which a dialect is learned.
const (
	TrialSuffix     = ".trial"
	RehearsalSuffix = ".rehearsal"
	LearningSuffix  = ".learning"
)

// TrialDir is where a copy of a server is kept, by its suffix, while something is tried on it.
func (h Home) TrialDir(server, suffix string) string {
	return filepath.Join(h.serverDir(server), suffix[1:])
}

// LockTrial lets nobody else make such a copy of a server; it lasts until the file is closed. The
// error says that there is one.
func (h Home) LockTrial(server, suffix string) (*os.File, error) {
	if err := os.MkdirAll(h.serverDir(server), 0o700); err != nil {
		return nil, err
	}
	for end := time.Now().Add(patient); ; time.Sleep(tick) { // a process that is just being started holds all that is open for a moment
		lock, err := tryLock(filepath.Join(h.serverDir(server), suffix[1:]+".lock"))
		switch {
		case err == nil:
			return lock, nil
		case !errors.Is(err, syscall.EWOULDBLOCK) || time.Now().After(end):
			return nil, fmt.Errorf("a copy of %s is being tried already: %w", server, err)
		}
	}
}

// ForgetTrial removes what is left of the copies of a server that was never adopted.
func (h Home) ForgetTrial(server, suffix string) {
	_ = os.Remove(filepath.Join(h.serverDir(server), suffix[1:]+".lock"))
	_ = os.Remove(h.serverDir(server)) // unless there is more in it
}

// ForgetStarts removes all that is kept of the starts of a copy.
func (h Home) ForgetStarts(copyName string) error {
	if !slices.ContainsFunc([]string{TrialSuffix, RehearsalSuffix, LearningSuffix}, func(s string) bool { return strings.HasSuffix(copyName, s) }) {
		return fmt.Errorf("%s is no copy", copyName)
	}
	return os.RemoveAll(h.serverDir(copyName))
}

// Remove forgets a start: its log and its proof. A keeper whose server has ended is waited
// for: once nothing tells of the start any more, it would be taken for a server that runs.
func (d StartDir) Remove() error {
	if r, err := d.Running(); err == nil {
		for end := time.Now().Add(handover); alive(r.Keeper) && time.Now().Before(end); time.Sleep(beginTick) {
		}
	}
	return os.RemoveAll(string(d))
}

// Learned is what is known of a search for culprits that was not finished.
type Learned struct {
	Signature string         `json:"signature"` // of the line-up and the symptom
	Starts    []LearnedStart `json:"starts"`
}

// LearnedStart is one start of a search.
type LearnedStart struct {
	Set    string       `json:"set"` // the mods that were on, sorted, one on a line
	Failed bool         `json:"failed"`
	Proof  *proof.Proof `json:"proof"`
}

func (h Home) searchFile(server string) string {
	return filepath.Join(h.serverDir(server), "search.json")
}

// Learned reads what is known of an unfinished search; fs.ErrNotExist when there
// is none.
func (h Home) Learned(server string) (s Learned, err error) {
	return s, readJSON(h.searchFile(server), &s)
}

// PutLearned keeps what is known of a search.
func (h Home) PutLearned(server string, s Learned) error { return writeJSON(h.searchFile(server), s) }

// ForgetLearned forgets a search that is finished.
func (h Home) ForgetLearned(server string) error {
	err := os.Remove(h.searchFile(server))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
