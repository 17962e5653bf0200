// Package remote is the way to files that stand on other machines: over SFTP, and over FTP with and without TLS. A host
// is believed nothing that can be checked: names that lead elsewhere are passed over, sizes are bounded, and whom one
// talks to is held against what was seen the first time.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"initium/internal/core/text"
)

// Kind is what an entry of a folder is.
type Kind uint8

// The kinds of entries; what is none of them is passed over.
const (
	File Kind = iota
	Folder
	Link
	Other
)

// Entry is one thing in a folder of a host.
type Entry struct {
	Name string
	Kind Kind
	Size int64     // in bytes
	Time time.Time // of its last change, as exactly as the host tells it
}

// Same tells whether two looks at a file show the same, as far as a host tells.
func (e Entry) Same(o Entry) bool {
	return e.Kind == o.Kind && e.Size == o.Size && e.Time.Equal(o.Time)
}

// FS is what can be done with the files of a host. Paths have slashes, and begin with one where they are whole. The
// error is fs.ErrNotExist for what is not there, and ErrLine for a line that broke.
type FS interface {
	List(dir string) ([]Entry, error)
	Stat(name string) (Entry, error) // of a link itself, where the host can tell
	Size(name string) (int64, error) // of a file, or the one that a link leads to
	Get(ctx context.Context, name string, from int64, to io.Writer) error
	Put(ctx context.Context, name string, what io.Reader, from int64) error // makes the file, or goes on behind from bytes
	Rename(from, to string) error                                           // over what is there where the host can do that
	Remove(name string) error
	RemoveFolder(name string) error // an empty one
	MakeFolder(name string) error
	Lines() int           // how many transfers may run side by side
	Asks() int            // how many may that take no time but that of the way: small files, and what is in a folder
	Grain() time.Duration // how exactly it tells times
	Close() error
}

// Errors of hosts.
var (
	ErrLine   = errors.New("the line to the host broke")
	ErrOther  = errors.New("the host is not the one that it was")
	ErrSecret = errors.New("the host does not let this user in")
)

// Scheme is how a host is talked to.
type Scheme string

// The schemes of hosts. ftps is TLS from the first byte (RFC 4217 calls that implicit), ftpes after the greeting.
const (
	SFTP  Scheme = "sftp"
	FTP   Scheme = "ftp"
	FTPS  Scheme = "ftps"
	FTPES Scheme = "ftpes"
)

var ports = map[Scheme]int{SFTP: 22, FTP: 21, FTPS: 990, FTPES: 21}

// Address is where a host is. There is no secret in it.
type Address struct {
	Scheme Scheme
	Host   string
	Port   int
	User   string
	Path   string // where paths begin that are not whole; "" for where one arrives
}

// ParseAddress reads a URL: scheme://user@host:port/path. A password in it is refused, as URLs are kept and shown.
func ParseAddress(s string) (a Address, err error) {
	u, err := url.Parse(s)
	if err != nil {
		return a, fmt.Errorf("%q is no URL of a host: write it as sftp://user@host:port/path", text.Clean(text.Mask(s, nil)))
	}
	a = Address{Scheme: Scheme(strings.ToLower(u.Scheme)), Host: u.Hostname(), Port: ports[Scheme(strings.ToLower(u.Scheme))], Path: strings.TrimSuffix(u.Path, "/")}
	if a.Scheme == "ssh" {
		a.Scheme, a.Port = SFTP, ports[SFTP]
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return Address{}, errors.New("a password in a URL would be kept and shown; leave it out, it is asked for (or read from --password-file)")
		}
		a.User = u.User.Username()
	}
	switch {
	case a.Port == 0:
		return Address{}, fmt.Errorf("hosts are reached by sftp, ssh, ftp, ftps (TLS from the first byte) or ftpes (TLS after the greeting), not by %q", text.Clean(u.Scheme))
	case a.Host == "":
		return Address{}, errors.New("the URL names no host")
	case a.User == "" && a.Scheme == SFTP:
		return Address{}, errors.New("the URL names no user: sftp://user@host")
	case text.Clean(u.Path+a.User+a.Host) != u.Path+a.User+a.Host:
		return Address{}, errors.New("there are signs in the URL that cannot be shown")
	}
	if a.User == "" {
		a.User = "anonymous"
	}
	if p := u.Port(); p != "" {
		if a.Port, err = strconv.Atoi(p); err != nil || a.Port < 1 || a.Port > 65535 {
			return Address{}, fmt.Errorf("the port %q is none", text.Clean(p))
		}
	}
	return a, nil
}

// Place is host and port, as they are dialled.
func (a Address) Place() string { return net.JoinHostPort(a.Host, strconv.Itoa(a.Port)) }

// String is the URL, which holds no secret.
func (a Address) String() string {
	u := url.URL{Scheme: string(a.Scheme), Host: a.Place(), Path: a.Path}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	return u.String()
}

// Whole is a path of the host, from where its paths begin.
func (a Address) Whole(name string) string {
	if path.IsAbs(name) || a.Path == "" {
		return path.Clean(name)
	}
	return path.Join(a.Path, name)
}

// Secrets hands out what a host asks for to let somebody in.
type Secrets interface {
	// Password asks for a password, or the passphrase of a key; what says of what.
	Password(what string) (string, error)
}

// Login is how somebody is let in at a host, and whom he expects there.
type Login struct {
	Identity string  // a file with a private key; "" for those of the agent, and the usual ones
	Pin      string  // the fingerprint of the host's key or certificate; "" takes any, and tells it
	Secrets  Secrets // nil where nobody can be asked
	Timeout  time.Duration
}

// Dial connects to a host. pin is the fingerprint of what it showed, "" where nothing was shown. The error is ErrOther,
// with what that means, where it is not the one of the login.
func Dial(ctx context.Context, a Address, l Login) (fs FS, pin string, err error) {
	if l.Timeout == 0 {
		l.Timeout = 15 * time.Second
	}
	if a.Scheme == SFTP {
		return dialSFTP(ctx, a, l)
	}
	return dialFTP(ctx, a, l)
}

// other is the error of a host that shows another fingerprint than it did.
func other(a Address, was, is string) error {
	return fmt.Errorf("%w: %s showed %s when it was added, and shows %s now. Either it was set up anew, or somebody stands between you and it. Ask whoever runs it; only then: initium host add … --anew", ErrOther, a.Host, was, is)
}

// goodName tells whether a name that a host lists can be one within its folder, on any machine.
func goodName(name string) bool {
	return name != "" && name != "." && name != ".." && len(name) < 256 && utf8.ValidString(name) && !strings.ContainsAny(name, "/\\\x00") && text.Clean(name) == name
}
