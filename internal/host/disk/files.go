// Package disk is the one way to the files of a server: everything that reads, lists,
// follows, copies, writes or renames one goes through here. It follows no link that leads to
// what its maker could not reach himself, waits for no pipe, writes through handles of
// folders and under names that nothing has yet, and keeps modes, owners and times.
package disk

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Files are what can be learned of the files of a server, wherever it is. Paths are absolute
// ones; errors are those of package fs.
type Files interface {
	Stat(full string) (fs.FileInfo, error)  // over links
	Lstat(full string) (fs.FileInfo, error) // of a link itself
	Open(full string) (fs.File, error)      // a regular file; there is none where something else is
	Walk(full string, visit fs.WalkDirFunc) error
	Glob(pattern string) ([]string, error)
	Real(full string) (string, error) // the path without links
	Tree() Tree                       // for surveys
}

// Local are the files of a server on this machine.
type Local struct{}

// Stat tells about a file, or what a link leads to.
func (Local) Stat(full string) (fs.FileInfo, error) { return os.Stat(full) }

// Lstat tells about a file or a link.
func (Local) Lstat(full string) (fs.FileInfo, error) { return os.Lstat(full) }

// Open opens a regular file.
func (Local) Open(full string) (fs.File, error) { return OpenPlain(full) }

// Walk visits what is at a path and below it, in the order of the names.
func (Local) Walk(full string, visit fs.WalkDirFunc) error { return filepath.WalkDir(full, visit) }

// Glob lists what fits a pattern of paths.
func (Local) Glob(pattern string) ([]string, error) { return filepath.Glob(pattern) }

// Real is the path of a file over no links.
func (Local) Real(full string) (string, error) { return filepath.EvalSymlinks(full) }

// Tree is this machine's file system.
func (Local) Tree() Tree { return NewTree() }
