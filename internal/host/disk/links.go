package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// errForeignLink refuses what a server's owner could have made to get at what is not his.
var errForeignLink = errors.New("a link of another user's leads there, to what is not his; put the file itself there, or make the link as root")

// maxLinks is how many links a path may go over, as in the kernel.
const maxLinks = 40

// Follow is the place that a path leads to, over links. A link that neither root nor the
// operator has made is followed no further than its maker could go himself: to what is his,
// or, for reading only, to what everybody may read. Whoever owns a server's folder must not
// have anything read or written by way of Initium that is closed to him.
func Follow(name string, write bool) (string, error) {
	fail := func(err error) (string, error) { return "", &fs.PathError{Op: "open", Path: name, Err: err} }
	suspects := map[uint32]bool{} // makers of links so far who are not to be trusted
	links, at := 0, "/"
	rest := strings.Split(filepath.Clean(name), "/")
	for len(rest) > 0 {
		step := rest[0]
		rest = rest[1:]
		switch step {
		case "", ".":
			continue
		case "..":
			at = filepath.Dir(at)
			continue
		}
		next := filepath.Join(at, step)
		info, err := os.Lstat(next)
		if err != nil {
			return "", err
		}
		owner := info.Sys().(*syscall.Stat_t).Uid
		if info.Mode()&fs.ModeSymlink == 0 {
			if closed(info, suspects, len(rest) == 0, write) {
				return fail(errForeignLink)
			}
			at = next
			continue
		}
		if links++; links > maxLinks {
			return fail(syscall.ELOOP)
		}
		if owner != 0 && int(owner) != os.Getuid() {
			suspects[owner] = true
		}
		target, err := os.Readlink(next)
		if err != nil {
			return "", err
		}
		if filepath.IsAbs(target) {
			at = "/"
		}
		rest = append(strings.Split(target, "/"), rest...)
	}
	return at, nil
}

// closed tells whether somebody on whose link a path has gone could not go on himself.
func closed(info fs.FileInfo, suspects map[uint32]bool, last, write bool) bool {
	owner := info.Sys().(*syscall.Stat_t).Uid
	for who := range suspects {
		if owner != who && !(open(info, last) && !(last && write)) {
			return true
		}
	}
	return false
}

// open tells whether everybody may go through a folder, or read what stands at the end.
func open(info fs.FileInfo, last bool) bool {
	if last {
		return info.Mode()&0o004 != 0
	}
	return info.Mode()&0o001 != 0
}
