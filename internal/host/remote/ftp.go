package remote

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"path"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"initium/internal/core/text"
)

// ftpLines is how many connections are opened to a host over FTP, where one does one thing at a time, if it allows as
// many.
const ftpLines = 8

// ftpHost is a host over FTP (RFC 959, 3659, 4217).
type ftpHost struct {
	open func(ctx context.Context) (*ftp.ServerConn, error)

	mu     sync.Mutex
	change sync.Cond // of what follows
	free   []*ftp.ServerConn
	lines  int // that are open, or being opened
	most   int // that the host allows, as far as is known

	once  sync.Once
	grain time.Duration
}

func dialFTP(ctx context.Context, a Address, l Login) (FS, string, error) {
	var pin string
	secure := &tls.Config{ServerName: a.Host, InsecureSkipVerify: true, ClientSessionCache: tls.NewLRUClientSessionCache(8), VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
		sum := sha256.Sum256(raw[0])
		if pin = "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:]); l.Pin != "" && pin != l.Pin {
			return other(a, l.Pin, pin)
		}
		return nil
	}}
	password := a.User
	if a.User != "anonymous" && l.Secrets != nil {
		var err error
		if password, err = l.Secrets.Password("the password of " + a.User + " at " + a.Host); err != nil {
			return nil, "", err
		}
	}
	h := &ftpHost{most: ftpLines}
	h.change.L = &h.mu
	h.open = func(ctx context.Context) (*ftp.ServerConn, error) {
		options := []ftp.DialOption{ftp.DialWithTimeout(l.Timeout), ftp.DialWithContext(ctx), ftp.DialWithForceListHidden(true)}
		switch a.Scheme {
		case FTPS:
			options = append(options, ftp.DialWithTLS(secure))
		case FTPES:
			options = append(options, ftp.DialWithExplicitTLS(secure))
		}
		conn, err := ftp.Dial(a.Place(), options...)
		if err != nil {
			if errors.Is(err, ErrOther) {
				return nil, other(a, l.Pin, pin)
			}
			return nil, fmt.Errorf("%w: %w", ErrLine, err)
		}
		if err := conn.Login(a.User, password); err != nil {
			conn.Quit()
			return nil, fmt.Errorf("%w: %s at %s (%s)", ErrSecret, a.User, a.Host, text.Clean(err.Error()))
		}
		return conn, nil
	}
	conn, err := h.open(ctx)
	if err != nil {
		return nil, pin, err
	}
	h.free, h.lines = append(h.free, conn), 1
	return h, pin, nil
}

// with does something over a connection of its own.
func (h *ftpHost) with(do func(c *ftp.ServerConn) error) error {
	conn, err := h.line()
	if err != nil {
		return err
	}
	err = ftpTold(do(conn))
	broken := errors.Is(err, ErrLine) || errors.Is(err, context.Canceled)
	if broken {
		conn.Quit() // what is on it now is not known
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if broken {
		h.lines--
	} else {
		h.free = append(h.free, conn)
	}
	h.change.Signal()
	return err
}

// line is a connection that nobody uses, opened if need be. A host that allows no more of them than there are is not
// asked again: the next one that becomes free is waited for.
func (h *ftpHost) line() (*ftp.ServerConn, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for {
		if n := len(h.free); n > 0 {
			conn := h.free[n-1]
			h.free = h.free[:n-1]
			return conn, nil
		}
		if h.lines < h.most {
			h.lines++
			h.mu.Unlock()
			conn, err := h.open(context.Background())
			h.mu.Lock()
			if err == nil {
				return conn, nil
			}
			if h.lines--; h.lines == 0 {
				h.change.Broadcast()
				return nil, err
			}
			h.most = h.lines
			continue
		}
		h.change.Wait()
	}
}

// ftpTold makes the errors of the line those of this package.
func ftpTold(err error) error {
	var said *textproto.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, fs.ErrNotExist):
		return err
	case errors.As(err, &said) && said.Code == ftp.StatusFileUnavailable:
		return fmt.Errorf("%w (%s)", fs.ErrNotExist, said.Msg)
	case errors.As(err, &said) && said.Code >= 500:
		return err
	}
	return fmt.Errorf("%w: %w", ErrLine, err)
}

func ftpEntry(e *ftp.Entry) Entry {
	kind := map[ftp.EntryType]Kind{ftp.EntryTypeFile: File, ftp.EntryTypeFolder: Folder, ftp.EntryTypeLink: Link}[e.Type]
	entry := Entry{Name: e.Name, Kind: kind, Size: int64(min(e.Size, 1<<62)), Time: e.Time.UTC()}
	if kind == Folder {
		entry.Size = 0
	}
	return entry
}

func (h *ftpHost) List(dir string) (list []Entry, err error) {
	err = h.with(func(c *ftp.ServerConn) error {
		entries, err := c.List(dir)
		for _, e := range entries {
			if e.Name != "." && e.Name != ".." {
				list = append(list, ftpEntry(e))
			}
		}
		return err
	})
	return list, err
}

// Stat looks a file up in its folder: hosts differ in what they tell of one alone.
func (h *ftpHost) Stat(name string) (Entry, error) {
	if name == "/" {
		return Entry{Name: "/", Kind: Folder}, nil
	}
	list, err := h.List(path.Dir(name))
	if err != nil {
		return Entry{}, err
	}
	for _, e := range list {
		if e.Name == path.Base(name) {
			return e, nil
		}
	}
	return Entry{}, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
}

// Size asks for it alone (RFC 3659), and lists the whole folder only where the host does not tell.
func (h *ftpHost) Size(name string) (n int64, err error) {
	err = h.with(func(c *ftp.ServerConn) error {
		n, err = c.FileSize(name)
		return err
	})
	if err == nil || errors.Is(err, ErrLine) {
		return n, err
	}
	e, err := h.Stat(name)
	if err == nil && e.Kind != File {
		err = fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return e.Size, err
}

func (h *ftpHost) Get(ctx context.Context, name string, from int64, to io.Writer) error {
	return h.with(func(c *ftp.ServerConn) error {
		r, err := c.RetrFrom(name, uint64(from))
		if err != nil {
			return err
		}
		stop := context.AfterFunc(ctx, func() { r.Close() })
		_, err = io.Copy(to, r)
		stop()
		return errors.Join(ctx.Err(), err, r.Close())
	})
}

func (h *ftpHost) Put(ctx context.Context, name string, what io.Reader, from int64) error {
	return h.with(func(c *ftp.ServerConn) error {
		return errors.Join(c.StorFrom(name, &stoppable{ctx, what}, uint64(from)), ctx.Err())
	})
}

// stoppable is a reader that ends with an error when it is to stop.
type stoppable struct {
	ctx  context.Context
	from io.Reader
}

func (s *stoppable) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.from.Read(p)
}

func (h *ftpHost) Rename(from, to string) error {
	return h.with(func(c *ftp.ServerConn) error { return c.Rename(from, to) })
}

func (h *ftpHost) Remove(name string) error {
	return h.with(func(c *ftp.ServerConn) error { return c.Delete(name) })
}

func (h *ftpHost) RemoveFolder(name string) error {
	return h.with(func(c *ftp.ServerConn) error { return c.RemoveDir(name) })
}

func (h *ftpHost) MakeFolder(name string) error {
	return h.with(func(c *ftp.ServerConn) error { return c.MakeDir(name) })
}

func (h *ftpHost) Lines() int { return ftpLines }

// Asks are no more than that: each has a connection of its own.
func (h *ftpHost) Asks() int { return ftpLines }

// Grain is a second where the host has listings for machines (RFC 3659), and a minute in those for people.
func (h *ftpHost) Grain() time.Duration {
	h.once.Do(func() {
		h.grain = time.Minute
		_ = h.with(func(c *ftp.ServerConn) error { // of whom nothing is heard it is a minute
			if c.IsTimePreciseInList() {
				h.grain = time.Second
			}
			return nil
		})
	})
	return h.grain
}

func (h *ftpHost) Close() (err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, c := range h.free {
		err = errors.Join(err, c.Quit())
	}
	h.lines -= len(h.free)
	h.free = nil
	return err
}
