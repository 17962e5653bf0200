package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// sftpHost is a host over SFTP (draft-ietf-secsh-filexfer-02, as OpenSSH speaks it).
type sftpHost struct {
	client *sftp.Client
	line   *ssh.Client
	over   bool // it renames over what is there

	once sync.Once
	ends chan struct{}
}

func dialSFTP(ctx context.Context, a Address, l Login) (FS, string, error) {
	var pin string
	config := &ssh.ClientConfig{User: a.User, Timeout: l.Timeout, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if pin = ssh.FingerprintSHA256(key); l.Pin != "" && pin != l.Pin {
			return other(a, l.Pin, pin)
		}
		return nil
	}}
	var done func()
	config.Auth, done = ways(a, l)
	defer done()
	dialer := net.Dialer{Timeout: l.Timeout}
	conn, err := dialer.DialContext(ctx, "tcp", a.Place())
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrLine, err)
	}
	// Of whom nothing is heard while one says hello, nothing will be heard.
	if err := conn.SetDeadline(time.Now().Add(2 * l.Timeout)); err != nil {
		return nil, "", errors.Join(err, conn.Close())
	}
	c, channels, requests, err := ssh.NewClientConn(conn, a.Place(), config)
	if err != nil {
		conn.Close()
		switch {
		case errors.Is(err, ErrOther):
			return nil, pin, other(a, l.Pin, pin)
		case pin != "":
			return nil, pin, fmt.Errorf("%w: %s at %s (%w)", ErrSecret, a.User, a.Host, err)
		}
		return nil, pin, fmt.Errorf("%w: %w", ErrLine, err)
	}
	line := ssh.NewClient(c, channels, requests)
	client, err := sftp.NewClient(line, sftp.UseConcurrentWrites(true), sftp.UseConcurrentReads(true))
	if err == nil {
		err = conn.SetDeadline(time.Time{})
	}
	if err != nil {
		line.Close()
		return nil, pin, fmt.Errorf("%s does not offer SFTP: %w", a.Host, err)
	}
	_, over := client.HasExtension("posix-rename@openssh.com")
	h := &sftpHost{client: client, line: line, over: over, ends: make(chan struct{})}
	go h.stayAwake(l.Timeout)
	return h, pin, nil
}

// ways are the ways in that are tried: the key that was named, those of the agent, the usual files, a password.
func ways(a Address, l Login) (list []ssh.AuthMethod, done func()) {
	done = func() {}
	var signers []ssh.Signer
	if l.Identity != "" {
		signers = append(signers, signer(l.Identity, l.Secrets)...)
	} else {
		if home, err := os.UserHomeDir(); err == nil {
			for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
				signers = append(signers, signer(filepath.Join(home, ".ssh", name), nil)...)
			}
		}
		if conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK")); err == nil {
			done = func() { conn.Close() }
			list = append(list, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
		}
	}
	if len(signers) > 0 {
		list = append(list, ssh.PublicKeys(signers...))
	}
	if l.Secrets != nil {
		list = append(list, passwords(l.Secrets, "the password of "+a.User+" at "+a.Host)...)
	}
	return list, done
}

// signer is the private key in a file; none where it cannot be read, or has a passphrase that nobody can be asked for.
func signer(file string, ask Secrets) []ssh.Signer {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	key, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) && ask != nil {
		var phrase string
		if phrase, err = ask.Password("the passphrase of the key " + file); err == nil {
			key, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(phrase))
		}
	}
	if err != nil {
		return nil
	}
	return []ssh.Signer{key}
}

// passwords are the two ways in which hosts ask for one.
func passwords(ask Secrets, what string) []ssh.AuthMethod {
	return []ssh.AuthMethod{
		ssh.PasswordCallback(func() (string, error) { return ask.Password(what) }),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range questions {
				if echos[i] {
					return nil, errors.New("the host asks something that is no password")
				}
				var err error
				if answers[i], err = ask.Password(what); err != nil {
					return nil, err
				}
			}
			return answers, nil
		}),
	}
}

// told makes the errors of the line those of this package.
func told(err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission), errors.As(err, &status), errors.Is(err, context.Canceled), errors.Is(err, fs.ErrExist):
		return err
	}
	return fmt.Errorf("%w: %w", ErrLine, err)
}

func entryOf(info fs.FileInfo) Entry {
	e := Entry{Name: info.Name(), Size: info.Size(), Time: info.ModTime().UTC(), Kind: Other}
	switch mode := info.Mode(); {
	case mode.IsRegular():
		e.Kind = File
	case mode.IsDir():
		e.Kind, e.Size = Folder, 0
	case mode&fs.ModeSymlink != 0:
		e.Kind = Link
	}
	return e
}

func (h *sftpHost) List(dir string) ([]Entry, error) {
	infos, err := h.client.ReadDir(dir)
	if err != nil {
		return nil, told(err)
	}
	list := make([]Entry, len(infos))
	for i, info := range infos {
		list[i] = entryOf(info)
	}
	return list, nil
}

func (h *sftpHost) Stat(name string) (Entry, error) {
	info, err := h.client.Lstat(name)
	if err != nil {
		return Entry{}, told(err)
	}
	return entryOf(info), nil
}

// Size is that of what a link leads to, too.
func (h *sftpHost) Size(name string) (int64, error) {
	info, err := h.client.Stat(name)
	if err != nil {
		return 0, told(err)
	}
	if !info.Mode().IsRegular() {
		return 0, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return info.Size(), nil
}

func (h *sftpHost) Get(ctx context.Context, name string, from int64, to io.Writer) error {
	f, err := h.client.Open(name)
	if err != nil {
		return told(err)
	}
	defer f.Close()
	defer context.AfterFunc(ctx, func() { f.Close() })()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return told(err)
	}
	_, err = f.WriteTo(to)
	return errors.Join(ctx.Err(), told(err))
}

func (h *sftpHost) Put(ctx context.Context, name string, what io.Reader, from int64) error {
	how := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		how |= os.O_TRUNC
	}
	f, err := h.client.OpenFile(name, how)
	if err != nil {
		return told(err)
	}
	defer context.AfterFunc(ctx, func() { f.Close() })()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return errors.Join(told(err), f.Close())
	}
	_, err = f.ReadFrom(what)
	closed := f.Close()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.Join(told(err), told(closed))
}

func (h *sftpHost) Rename(from, to string) error {
	if h.over {
		return told(h.client.PosixRename(from, to))
	}
	return told(h.client.Rename(from, to))
}

// Link gives a file another name (hardlink@openssh.com).
func (h *sftpHost) Link(file, name string) error { return told(h.client.Link(file, name)) }

// Like gives what is at name the rights of what is at other, not its owner.
func (h *sftpHost) Like(name, other string) error {
	info, err := h.client.Lstat(other)
	if err == nil && info.Mode()&fs.ModeSymlink == 0 {
		err = h.client.Chmod(name, info.Mode())
	}
	return told(err)
}

func (h *sftpHost) Remove(name string) error       { return told(h.client.Remove(name)) }
func (h *sftpHost) RemoveFolder(name string) error { return told(h.client.RemoveDirectory(name)) }
func (h *sftpHost) MakeFolder(name string) error   { return told(h.client.Mkdir(name)) }
func (h *sftpHost) Lines() int                     { return 16 }

// Asks share one connection. Servers let far more files be open at once.
func (h *sftpHost) Asks() int { return 128 }

// Grain is a second, in the version of the protocol that is spoken.
func (h *sftpHost) Grain() time.Duration { return time.Second }

// Close ends the line first: a host that does not answer keeps nobody waiting.
func (h *sftpHost) Close() error {
	h.once.Do(func() { close(h.ends) })
	return errors.Join(h.line.Close(), h.client.Close())
}

// stayAwake asks the host now and then whether it is still there, and ends a line on which nothing is heard.
func (h *sftpHost) stayAwake(patience time.Duration) {
	for {
		select {
		case <-h.ends:
			return
		case <-time.After(patience):
		}
		heard := make(chan error, 1)
		go func() {
			_, _, err := h.line.SendRequest("keepalive@openssh.com", true, nil)
			heard <- err
		}()
		select {
		case <-h.ends:
			return
		case err := <-heard:
			if err != nil {
				return
			}
		case <-time.After(patience):
			h.line.Close()
			return
		}
	}
}
