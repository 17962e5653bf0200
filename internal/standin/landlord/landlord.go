// Package landlord is a made-up landlord of rented servers, for the demo: their files are reached over SFTP, and they are
// started and stopped on a page. It lives in one process, on this machine's loopback, and ends with it. It shares no code
// with Initium's core.
package landlord

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Landlord has servers to let.
type Landlord struct {
	URL         string // of the files
	Page        string // on which servers are started and stopped
	Fingerprint string // of the key that it shows
	Identity    string // a file with the key of its only tenant

	dir   string
	root  *os.Root
	files net.Listener
	page  net.Listener
	web   *http.Server
	ends  sync.WaitGroup
	down  atomic.Bool
	mu    sync.Mutex
	lines map[net.Conn]bool
	lets  map[string]*let
}

// tenant is the only user.
const tenant = "tenant"

// Open begins to let what is in a folder; keys is one for the key of the tenant. Each folder in it is a server, which is
// started by the script that Let names.
func Open(dir, keys string) (l *Landlord, err error) {
	l = &Landlord{dir: dir, lines: map[net.Conn]bool{}, lets: map[string]*let{}}
	defer func() {
		if err != nil {
			err = errors.Join(fmt.Errorf("open the landlord of the demo: %w", err), l.Close())
		}
	}()
	if l.root, err = os.OpenRoot(dir); err != nil {
		return l, err
	}
	config, err := l.keys(keys)
	if err != nil {
		return l, err
	}
	if l.files, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return l, err
	}
	l.URL = "sftp://" + tenant + "@" + l.files.Addr().String()
	l.ends.Go(func() { l.serve(config) })
	return l, l.openPage()
}

// keys makes the key of the house and that of the tenant, whom alone it lets in.
func (l *Landlord) keys(dir string) (*ssh.ServerConfig, error) {
	_, own, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	house, err := ssh.NewSignerFromKey(own)
	if err != nil {
		return nil, err
	}
	l.Fingerprint = ssh.FingerprintSHA256(house.PublicKey())
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	theirs, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}
	l.Identity = filepath.Join(dir, "tenant.key")
	if err := os.WriteFile(l.Identity, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	known := string(theirs.PublicKey().Marshal())
	config := &ssh.ServerConfig{PublicKeyCallback: func(who ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if who.User() == tenant && string(key.Marshal()) == known {
			return nil, nil
		}
		return nil, errors.New("not the tenant")
	}}
	config.AddHostKey(house)
	return config, nil
}

// serve lets the tenant in, until the landlord closes.
func (l *Landlord) serve(config *ssh.ServerConfig) {
	for {
		conn, err := l.files.Accept()
		if err != nil {
			return
		}
		if !l.holds(conn) {
			conn.Close()
			return
		}
		l.ends.Go(func() {
			defer l.leaves(conn)
			l.line(conn, config)
		})
	}
}

func (l *Landlord) holds(conn net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.down.Load() {
		return false
	}
	l.lines[conn] = true
	return true
}

func (l *Landlord) leaves(conn net.Conn) {
	conn.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.lines, conn)
}

// line serves one connection; whoever cannot show the key is sent away.
func (l *Landlord) line(conn net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	l.ends.Go(func() { ssh.DiscardRequests(requests) })
	for asked := range channels {
		if asked.ChannelType() != "session" {
			asked.Reject(ssh.UnknownChannelType, "files are all that there is")
			continue
		}
		channel, wants, err := asked.Accept()
		if err != nil {
			return
		}
		l.ends.Go(func() {
			for want := range wants {
				fits := want.Type == "subsystem" && len(want.Payload) > 4 && string(want.Payload[4:]) == "sftp"
				want.Reply(fits, nil)
				if fits {
					f := files{l.root}
					sftp.NewRequestServer(channel, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f}).Serve()
					channel.Close()
				}
			}
		})
	}
}

// Close stops all servers, and lets nobody in any more.
func (l *Landlord) Close() error {
	l.down.Store(true)
	var err error
	if l.files != nil {
		err = l.files.Close()
	}
	if l.web != nil {
		err = errors.Join(err, l.web.Close())
	}
	l.mu.Lock()
	for conn := range l.lines {
		conn.Close()
	}
	lets := l.lets
	l.mu.Unlock()
	for _, s := range lets {
		s.stop()
	}
	l.ends.Wait()
	if l.root != nil {
		err = errors.Join(err, l.root.Close())
	}
	return err
}
