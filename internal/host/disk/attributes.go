package disk

import (
	"bytes"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Attributes are the extended attributes of a file or folder, its access control list among
// them, by their names.
type Attributes map[string][]byte

// accessList is the attribute that holds an access control list. A new file may inherit one
// from its folder that the file whose place it takes has not.
const accessList = "system.posix_acl_access"

// AttributesOf reads the extended attributes of an open file or folder; none where the file
// system has none.
func AttributesOf(f *os.File) (Attributes, error) {
	names, err := attributeNames(func(into []byte) (int, error) { return unix.Flistxattr(int(f.Fd()), into) })
	if err != nil || len(names) == 0 {
		return nil, err
	}
	all := Attributes{}
	for _, name := range names {
		value, err := wholeAttribute(func(into []byte) (int, error) { return unix.Fgetxattr(int(f.Fd()), name, into) })
		switch {
		case errors.Is(err, unix.ENODATA): // it went meanwhile, or is not shown to this user
		case err != nil:
			return nil, &os.PathError{Op: "read the attribute " + name + " of", Path: f.Name(), Err: err}
		default:
			all[name] = value
		}
	}
	return all, nil
}

// Give gives an open file or folder these attributes. What the file system has not is passed
// over, and so is what only root may give where this is not root.
func (a Attributes) Give(f *os.File) error {
	if _, has := a[accessList]; !has {
		unix.Fremovexattr(int(f.Fd()), accessList) // mostly there is none
	}
	for name, value := range a {
		err := unix.Fsetxattr(int(f.Fd()), name, value, 0)
		switch {
		case err == nil, errors.Is(err, unix.ENOTSUP), os.Getuid() != 0 && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)):
		default:
			return &os.PathError{Op: "give the attribute " + name + " to", Path: f.Name(), Err: err}
		}
	}
	return nil
}

func attributeNames(list func(into []byte) (int, error)) (names []string, err error) {
	all, err := wholeAttribute(list)
	if errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	for name := range bytes.SplitSeq(all, []byte{0}) {
		if len(name) > 0 {
			names = append(names, string(name))
		}
	}
	return names, err
}

// wholeAttribute reads what may grow between asking for its size and reading it.
func wholeAttribute(read func(into []byte) (int, error)) ([]byte, error) {
	for {
		size, err := read(nil)
		if err != nil || size == 0 {
			return nil, err
		}
		into := make([]byte, size)
		n, err := read(into)
		if !errors.Is(err, unix.ERANGE) {
			return into[:max(n, 0)], err
		}
	}
}
