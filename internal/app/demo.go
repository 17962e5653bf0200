package app

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/demo"
	"initium/internal/host"
	"initium/internal/standin/landlord"
)

// demoServer is one of the servers of the demo.
type demoServer struct {
	Name   string   `toml:"name"`
	Folder string   `toml:"folder"`
	Script string   `toml:"script"` // where its port is written
	Port   int      `toml:"port"`
	Rented bool     `toml:"rented"` // it stands at the demo's landlord
	Wanted int      `toml:"wanted"` // the port that it gets, if that is free; 0 for the one that is written
	Gone   []string `toml:"gone"`   // files that it has not, though its family's others have
	Cut    string   `toml:"cut"`    // what its script has not
}

// Demo makes a scratch home below dir, with copies of the made-up servers in it,
// and returns an App for that home and the server to open.
func (a *App) Demo(dir string) (d *App, open string, err error) {
	d = &App{Home: host.Home{Dir: filepath.Join(dir, "home")}, Exe: a.Exe, Passing: true, Downloads: filepath.Join(dir, "downloads")}
	data, err := demo.FS.ReadFile("servers.toml")
	if err != nil {
		return nil, "", err
	}
	var list struct {
		Server []demoServer `toml:"server"`
	}
	if err := toml.Unmarshal(data, &list); err != nil {
		return nil, "", fmt.Errorf("read the list of the demo's servers: %w", err)
	}
	for _, s := range list.Server {
		if s.Rented {
			if err := d.rent(s, dir); err != nil { // a machine may let nobody listen; the rest of the demo does without
				d.tell(fmt.Sprintf("the demo's rented server is left out: %v", err))
			}
		} else {
			err = d.setUp(s, filepath.Join(dir, s.Folder), filepath.Join(dir, s.Folder))
		}
		if err != nil {
			d.Close()
			return nil, "", fmt.Errorf("set the demo's server %s up: %w", s.Name, err)
		}
	}
	if err := copyTree(demo.FS, "downloads", d.Downloads); err != nil {
		return nil, "", fmt.Errorf("set the demo's downloads up: %w", err)
	}
	return d, list.Server[0].Name, nil
}

// DemoEmpty makes a scratch home below dir without a server, and a folder of downloads from which a fair can be begun:
// two engines, of which the older is too old, and the rides. It returns an App for that home.
func (a *App) DemoEmpty(dir string) (d *App, err error) {
	d = &App{Home: host.Home{Dir: filepath.Join(dir, "home")}, Exe: a.Exe, Passing: true, Downloads: filepath.Join(dir, "downloads")}
	stock := filepath.Join(dir, "stock")
	defer os.RemoveAll(stock)
	err = errors.Join(os.MkdirAll(d.Downloads, 0o755), copyTree(demo.FS, "cogwheel-fair/rides", filepath.Join(stock, "rides")), os.Remove(filepath.Join(stock, "rides", "candy_stall.ride")))
	if err == nil {
		err = pack(os.DirFS(stock), "rides", filepath.Join(d.Downloads, "rides.zip"))
	}
	for _, version := range []string{"2", "4"} {
		engine := filepath.Join(stock, version, "engine-"+version)
		if err == nil {
			err = errors.Join(os.MkdirAll(engine, 0o755), os.WriteFile(filepath.Join(engine, "VERSION"), []byte(version+"\n"), 0o644),
				os.WriteFile(filepath.Join(engine, "cogs"), []byte("12\n"), 0o644))
		}
		if err == nil {
			err = pack(os.DirFS(stock), version, filepath.Join(d.Downloads, "engine-"+version+".zip"))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("set the demo up: %w", err)
	}
	return d, nil
}

// theirNotes are what the operator of the demo has noted of the landlord.
const theirNotes = "Start and Stop are on %s"

// rent has a server stand at the demo's landlord.
func (a *App) rent(s demoServer, dir string) error {
	rooms, keys := filepath.Join(dir, "rented"), filepath.Join(dir, "keys")
	if err := errors.Join(os.MkdirAll(rooms, 0o755), os.MkdirAll(keys, 0o700)); err != nil {
		return err
	}
	var err error
	if a.landlord, err = landlord.Open(rooms, keys); err != nil {
		return err
	}
	a.landlord.Let(s.Name, s.Script, "MOOR="+a.Exe)
	r := host.HostRecord{Name: "landlord", URL: a.landlord.URL, Pin: a.landlord.Fingerprint, Identity: a.landlord.Identity, Notes: fmt.Sprintf(theirNotes, a.landlord.Page)}
	if _, err := a.AddHost(context.Background(), r, false, nil); err != nil {
		return err
	}
	if err := a.setUp(s, filepath.Join(rooms, s.Name), r.Name+":"+s.Name); err != nil {
		return err
	}
	return a.SetLog(s.Name, "logs/latest.log")
}

// layOut puts the files of a server where it stands.
func layOut(s demoServer, dir string) error {
	if err := copyTree(demo.FS, s.Folder, dir); err != nil {
		return err
	}
	for _, gone := range s.Gone {
		if err := os.RemoveAll(filepath.Join(dir, gone)); err != nil {
			return err
		}
	}
	if s.Cut == "" {
		return nil
	}
	script := filepath.Join(dir, s.Script)
	data, err := os.ReadFile(script)
	if err != nil {
		return err
	}
	return os.WriteFile(script, bytes.Replace(data, []byte(s.Cut), nil, 1), 0o644)
}

// setUp gives a server a port of its own and adopts it.
func (a *App) setUp(s demoServer, dir, as string) error {
	if err := layOut(s, dir); err != nil {
		return err
	}
	port, err := freePort(cmp.Or(s.Wanted, s.Port))
	if err != nil {
		return err
	}
	for _, name := range []string{s.Script, s.Folder + ".service"} {
		file := filepath.Join(dir, name)
		data, err := os.ReadFile(file)
		if err != nil {
			continue // not every server has both
		}
		changed := bytes.ReplaceAll(data, []byte(strconv.Itoa(s.Port)), []byte(strconv.Itoa(port)))
		for written, here := range map[string]string{"/usr/local/bin/initium": a.Exe, "/srv/" + s.Folder: dir} { // as it would stand on the operator's machine
			changed = bytes.ReplaceAll(changed, []byte(written), []byte(here))
		}
		if err := os.WriteFile(file, changed, 0o644); err != nil {
			return err
		}
	}
	_, err = a.Adopt(context.Background(), Adoption{Dir: as, As: s.Name, Set: map[string]string{"port": strconv.Itoa(port)}})
	return err
}

// StopAll stops every server that runs, as at the end of the demo.
func (a *App) StopAll(stop func(name string)) {
	names, err := a.Home.Servers()
	if err != nil {
		return
	}
	for _, name := range names {
		if a.Home.IsRunning(name) {
			stop(name)
		}
	}
}

// freePort is the first port from the wanted one on that nothing here uses.
func freePort(wanted int) (int, error) {
	for port := wanted; port < wanted+90; port++ {
		if host.PortHeld(port) == "" {
			return port, nil
		}
	}
	return 0, fmt.Errorf("no port from %d to %d is free", wanted, wanted+89)
}

func copyTree(from fs.FS, root, to string) error {
	return fs.WalkDir(from, root, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, filepath.FromSlash(strings.TrimPrefix(name, root)))
		switch {
		case e.IsDir() && demo.Packed(name):
			if err := pack(from, name, target); err != nil {
				return err
			}
			return fs.SkipDir
		case e.IsDir():
			return os.MkdirAll(target, 0o755)
		}
		data, err := fs.ReadFile(from, name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, data, 0o644)
	})
}

// pack makes a packed mod of a folder.
func pack(from fs.FS, folder, target string) error {
	sub, err := fs.Sub(from, folder)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	if err := z.AddFS(sub); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(target, out.Bytes(), 0o644)
}
