package app

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"initium/demo"
	"initium/internal/host"
)

// DemoServer is the name of the server that the demo opens.
const DemoServer = "saltmarsh"

// Demo makes a scratch home below dir, with a copy of the made-up server in it,
// and returns an App for that home.
func (a *App) Demo(dir string) (*App, error) {
	d := &App{Home: host.Home{Dir: filepath.Join(dir, "home")}, Exe: a.Exe}
	server := filepath.Join(dir, "harrow-sound")
	if err := copyTree(demo.FS, "harrow-sound", server); err != nil {
		return nil, fmt.Errorf("set the demo up: %w", err)
	}
	if err := freePort(filepath.Join(server, "harbour.start")); err != nil {
		return nil, fmt.Errorf("set the demo up: %w", err)
	}
	_, err := d.Adopt(Adoption{Dir: server, Dialect: "harrow-sound", As: DemoServer})
	return d, err
}

// freePort moves the demo to another port while the one in its script is taken.
func freePort(script string) error {
	data, err := os.ReadFile(script)
	if err != nil {
		return err
	}
	const written = "27310"
	for port := 27310; port < 27400; port++ {
		if host.PortHeld(port) == "" {
			return os.WriteFile(script, []byte(strings.Replace(string(data), written, fmt.Sprint(port), 1)), 0o644)
		}
	}
	return fmt.Errorf("no port from %s to 27399 is free", written)
}

func copyTree(from fs.FS, root, to string) error {
	return fs.WalkDir(from, root, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, filepath.FromSlash(strings.TrimPrefix(name, root)))
		if e.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		data, err := fs.ReadFile(from, name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, data, 0o644)
	})
}
