package host

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"github.com/google/renameio/v2"

	"initium/internal/core/plan"
)

// ErrStale is returned by Apply when a file is not as the plan found it.
var ErrStale = errors.New("the file has changed since the plan was made")

// Kept is the record of an applied plan, with the old bytes beside it.
type Kept struct {
	At    time.Time  `json:"at"`
	Why   string     `json:"why"`
	Files []KeptFile `json:"files"`
}

// KeptFile is one file that a plan changed.
type KeptFile struct {
	Path    string `json:"path"`
	New     bool   `json:"new"`
	OldHash string `json:"old_hash,omitempty"`
	NewHash string `json:"new_hash"`
	Old     string `json:"old,omitempty"` // the file with the old bytes, beside the record
}

// Apply carries out a plan. The old bytes are kept first; then each file is
// written beside its place and moved into it, with its owner and mode, through
// links to where they lead. When a file cannot be written, those before it are
// put back, and the error says so.
func (h Home) Apply(server, why string, p *plan.Plan) error {
	for _, f := range p.Files {
		now, err := os.ReadFile(f.Path)
		switch {
		case f.New && errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return fmt.Errorf("change %s: %w", f.Path, err)
		case f.New || !bytes.Equal(now, f.Old):
			return fmt.Errorf("change %s: %w; look at the plan again", f.Path, ErrStale)
		}
	}
	if err := h.keepOld(server, why, p); err != nil {
		return fmt.Errorf("keep the old files: %w; nothing was changed", err)
	}
	for i, f := range p.Files {
		if err := replaceFile(f.Path, f.Want); err != nil {
			err = fmt.Errorf("change %s: %w", f.Path, err)
			for _, done := range p.Files[:i] {
				err = errors.Join(err, putBack(done))
			}
			return err
		}
	}
	return nil
}

func putBack(f plan.File) error {
	if f.New {
		return os.Remove(f.Path)
	}
	return replaceFile(f.Path, f.Old)
}

func (h Home) keepOld(server, why string, p *plan.Plan) error {
	base := filepath.Join(h.serverDir(server), "kept")
	dir := filepath.Join(base, time.Now().UTC().Format("20060102T150405.000000000"))
	kept := Kept{At: time.Now(), Why: why}
	for i, f := range p.Files {
		k := KeptFile{Path: f.Path, New: f.New, NewHash: plan.Hash(f.Want)}
		if !f.New {
			k.Old, k.OldHash = strconv.Itoa(i)+".old", plan.Hash(f.Old)
			if err := writeNew(filepath.Join(dir, k.Old), f.Old); err != nil {
				return err
			}
		}
		kept.Files = append(kept.Files, k)
	}
	return writeJSON(filepath.Join(dir, "record.json"), kept)
}

// replaceFile gives a file new bytes in one step, keeping mode and owner. A
// symbolic link stays, and what it leads to is changed.
func replaceFile(name string, data []byte) error {
	mode := fs.FileMode(0o644)
	var owner *syscall.Stat_t
	if target, err := filepath.EvalSymlinks(name); err == nil {
		name = target
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o200 == 0 {
			return fmt.Errorf("%s is read-only: %w", name, fs.ErrPermission)
		}
		mode = info.Mode().Perm()
		owner, _ = info.Sys().(*syscall.Stat_t)
	}
	pending, err := renameio.NewPendingFile(name, renameio.WithPermissions(mode), renameio.IgnoreUmask())
	if err != nil {
		return err
	}
	defer pending.Cleanup()
	if _, err := pending.Write(data); err != nil {
		return err
	}
	if owner != nil && (int(owner.Uid) != os.Getuid() || int(owner.Gid) != os.Getgid()) {
		if err := pending.Chown(int(owner.Uid), int(owner.Gid)); err != nil {
			return fmt.Errorf("keep the owner: %w", err)
		}
	}
	return pending.CloseAtomicallyReplace()
}
