package disk

import (
	"os"
	"path/filepath"
	"syscall"
)

// Nest is where a part waits while it is written. All goes through the handle of a folder:
// whatever somebody puts in its place meanwhile, nothing is written anywhere else. Its
// folders are given away when all is in them.
type Nest struct {
	Name     string   // of the part, in its folder
	At       *os.Root // the folder that the part comes into
	Root     *os.Root // the part itself; at, for one that is a single file
	Uid, Gid int      // whose things in that folder are; -1 where nothing can be given away
	folders  map[string]bool
}

// OpenNest makes the place for a part that is a folder, or that of a single file.
func OpenNest(fresh string, folder bool) (*Nest, error) {
	at, err := os.OpenRoot(filepath.Dir(fresh))
	if err != nil {
		return nil, err
	}
	n := &Nest{Name: filepath.Base(fresh), At: at, Root: at, Uid: -1, Gid: -1, folders: map[string]bool{}}
	if n.Uid, n.Gid, err = ownersIn(at); err != nil || !folder {
		return n, err
	}
	if err = at.Mkdir(n.Name, 0o755); err == nil {
		n.Root, err = at.OpenRoot(n.Name)
	}
	return n, err
}

// ownersIn tells to whom new things in a folder are given: to whom it belongs, where that
// can be done.
func ownersIn(at *os.Root) (uid, gid int, err error) {
	if os.Getuid() != 0 {
		return -1, -1, nil
	}
	info, err := at.Stat(".")
	if err != nil {
		return -1, -1, err
	}
	sys, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1, -1, nil
	}
	return int(sys.Uid), int(sys.Gid), nil
}

// Folder makes a folder in the nest, and those above it.
func (n *Nest) Folder(rel string) error {
	if n.folders[rel] {
		return nil
	}
	if err := n.Root.MkdirAll(rel, 0o755); err != nil {
		return err
	}
	for ; rel != "." && !n.folders[rel]; rel = filepath.Dir(rel) {
		n.folders[rel] = true
	}
	return nil
}

// Give gives the folders of the nest to the owner of the one that it comes into.
func (n *Nest) Give() error {
	if n.Uid < 0 || n.Root == n.At {
		return nil
	}
	for rel := range n.folders {
		if err := n.Root.Lchown(rel, n.Uid, n.Gid); err != nil {
			return err
		}
	}
	return n.Root.Chown(".", n.Uid, n.Gid)
}

// Close lets go of the folders.
func (n *Nest) Close() {
	if n.Root != nil && n.Root != n.At {
		n.Root.Close()
	}
	n.At.Close()
}
