package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/host/remote"
)

// HostRecord is what is kept of a host: no secret, only where one may lie.
type HostRecord struct {
	Name         string    `toml:"name"`
	URL          string    `toml:"url"`
	Pin          string    `toml:"fingerprint"`             // of its key or certificate, as it was seen when it was added; "" where there is none
	Identity     string    `toml:"identity,omitempty"`      // a file with a private key
	PasswordFile string    `toml:"password_file,omitempty"` // a file of the operator's that only he can read
	Added        time.Time `toml:"added"`
	Program      string    `toml:"program,omitempty"` // where Initium is there, once it was prepared
	Notes        string    `toml:"notes,omitempty"`   // the operator's own, such as what its panel calls things
}

// ErrUnknownHost is returned for a host that was not added.
var ErrUnknownHost = errors.New("no such host")

func (h Home) hostFile(name string) string { return filepath.Join(h.Dir, "hosts", name+".toml") }

// Host reads what is kept of a host.
func (h Home) Host(name string) (r HostRecord, err error) {
	if err := CheckName(name); err != nil {
		return r, fmt.Errorf("%w: %w", ErrUnknownHost, err)
	}
	data, err := os.ReadFile(h.hostFile(name))
	if errors.Is(err, fs.ErrNotExist) {
		return r, fmt.Errorf("%w: %s; add it first (initium host add %s URL)", ErrUnknownHost, name, name)
	}
	if err == nil {
		err = toml.Unmarshal(data, &r)
	}
	if err != nil {
		return r, fmt.Errorf("read %s: %w", h.hostFile(name), err)
	}
	r.Name = name
	return r, nil
}

// PutHost keeps a host.
func (h Home) PutHost(r HostRecord) error {
	data, err := toml.Marshal(r)
	if err != nil {
		return err
	}
	return WritePrivate(h.hostFile(r.Name), data)
}

// DropHost forgets a host.
func (h Home) DropHost(name string) error {
	if _, err := h.Host(name); err != nil {
		return err
	}
	return os.Remove(h.hostFile(name))
}

// Hosts lists the names of all hosts.
func (h Home) Hosts() (names []string, err error) {
	entries, err := os.ReadDir(filepath.Join(h.Dir, "hosts"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok && CheckName(name) == nil {
			names = append(names, name)
		}
	}
	return names, err
}

// DialHost connects to a host as its record says. Nobody is asked for what a file of the operator's holds.
func DialHost(ctx context.Context, r HostRecord, ask remote.Secrets) (remote.FS, error) {
	a, err := remote.ParseAddress(r.URL)
	if err != nil {
		return nil, fmt.Errorf("the host %s: %w", r.Name, err)
	}
	if r.PasswordFile != "" {
		ask = fileSecret(r.PasswordFile)
	}
	f, _, err := remote.Dial(ctx, a, remote.Login{Identity: r.Identity, Pin: r.Pin, Secrets: ask})
	if err != nil {
		return nil, fmt.Errorf("the host %s: %w", r.Name, err)
	}
	return f, nil
}

// fileSecret is a file with a password in its first line.
type fileSecret string

// Password reads it. The error says that others can read it too.
func (s fileSecret) Password(string) (string, error) {
	info, err := os.Stat(string(s))
	if err != nil {
		return "", err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("others can read %s; let only yourself (chmod 600)", string(s))
	}
	data, err := os.ReadFile(string(s))
	if err != nil {
		return "", err
	}
	for i, c := range data {
		if c == '\n' || c == '\r' {
			return string(data[:i]), nil
		}
	}
	return string(data), nil
}

// MirrorOf is the mirror of a server that stands at a host. last tells the files that arrive after all others, mods the
// folders that change as a whole.
func (h Home) MirrorOf(r Record, last func(rel string) bool, mods func() []string) *remote.Mirror {
	return &remote.Mirror{Dir: r.Dir, Root: r.Path, Notes: h.serverDir(r.Name), Last: last, Mods: mods}
}

// MirrorDir is where the mirror of a server is that stands at a host.
func (h Home) MirrorDir(name string) string { return filepath.Join(h.serverDir(name), "there") }
