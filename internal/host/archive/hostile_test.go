package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/core/intake"
	"initium/internal/golden"
	"initium/internal/host/archive"
	"initium/internal/insist"
)

func read(t *testing.T, name string, b intake.Bounds) (*intake.Tree, error) {
	t.Helper()
	s, err := archive.Open(name, archive.Options{Bounds: b})
	if err != nil {
		return nil, err
	}
	return s.Read(t.Context())
}

// badNames are names of entries that are refused in every form of archive.
var badNames = map[string]string{
	"climbing": "../out", "climbing from within": "a/../../out", "climbing to the end": "a/..", "climbing far": strings.Repeat("../", 40) + "etc/passwd",
	"climbing with backslashes": `..\..\out`, "climbing with both": `a\../..\out`,
	"absolute": "/etc/cron.d/x", "absolute with a backslash": `\windows\x`, "a share": `\\host\share\x`,
	"a drive": `C:\x`, "a drive without a slash": "c:x", "a device": "CON", "a device with a suffix": "mod/NUL.txt", "a device below": "mod/com1", "a printer": "LPT3.cfg",
	"a line feed": "a\nb", "a bell": "a\x07b", "an escape": "\x1b[31mred", "a delete": "a\x7fb", "a C1 control": "a\u009bb",
	"text turned round": "gnp\u202efdp.exe", "a line separator": "a\u2028b",
	"a part of 256 bytes": strings.Repeat("n", 256), "a path of 5,000 bytes": strings.Repeat("dir/", 1250) + "f", "70 folders deep": strings.Repeat("d/", 70) + "f",
}

// TestHostile tries every archive of a corpus. Each is refused, or harmless, with
// one clear sentence; none leaves anything anywhere.
func TestHostile(t *testing.T) {
	insist.Long(t)
	type sample struct {
		data []byte
		word string // in the error; "" for what is harmless
	}
	corpus := map[string]sample{}
	add := func(name, word string, data []byte) {
		if _, ok := corpus[name]; ok {
			t.Fatalf("the corpus has two of %s", name)
		}
		corpus[name] = sample{data, word}
	}
	for what, name := range badNames {
		add("zip, "+what, "", zipOf(file("mod/mod.toml", "x"), file(name, "x")))
		add("tar, "+what, "", tarOf(file("mod/mod.toml", "x"), file(name, "x")))
		add("rar, "+what, "", rarOf(file("mod/mod.toml", "x"), file(name, "x")))
	}
	for name := range corpus {
		corpus[name] = sample{corpus[name].data, "refused"}
	}
	link := func(name, target string) entry {
		return entry{name: name, target: target, mode: fs.ModeSymlink | 0o777}
	}
	for what, entries := range map[string][]entry{
		"leads out":       {link("mod/a", "../../etc/passwd")},
		"leads away":      {link("mod/a", "/etc/passwd")},
		"not there":       {link("mod/a", "b")},
		"in a circle":     {link("mod/a", "b"), link("mod/b", "a")},
		"to the folder":   {file("mod/d/x", "1"), link("mod/a", "d")},
		"twice":           {link("mod/a", "mod.toml"), file("mod/a", "through the link")},
		"is a file":       {file("mod/d", "1"), link("mod/l", "d"), file("mod/l/x", "through the link")},
		"letter case":     {file("mod/A", "1"), file("mod/a", "2")},
		"Unicode form":    {file("mod/caf\u00e9", "1"), file("mod/cafe\u0301", "2")},
		"is in it twice":  {file("mod/x", "1"), file("mod/x", "2")},
		"folder of anoth": {file("mod/x", "1"), file("mod/x/y", "2")},
	} {
		word := what
		switch what {
		case "leads away":
			word = "leads out"
		case "folder of anoth":
			word = "is a file"
		}
		add("zip link or double: "+what, word, zipOf(entries...))
		add("tar link or double: "+what, word, tarOf(entries...))
		add("rar link or double: "+what, word, rarOf(entries...))
	}
	for what, kind := range map[string]byte{"pipe": tar.TypeFifo, "character device": tar.TypeChar, "block device": tar.TypeBlock} {
		add("tar with a "+what, "device", tarOf(entry{name: "mod/x", kind: kind}))
	}
	add("tar hard link out", "leads out", tarOf(entry{name: "mod/x", kind: tar.TypeLink, target: "../../etc/shadow"}))
	add("tar hard link to nothing", "not there", tarOf(entry{name: "mod/x", kind: tar.TypeLink, target: "mod/y"}))
	for what, mode := range map[string]fs.FileMode{"pipe": fs.ModeNamedPipe, "device": fs.ModeDevice, "socket": fs.ModeSocket} {
		add("zip with a "+what, "device", zipOf(entry{name: "mod/x", data: "x", mode: mode | 0o644}))
	}
	good := []entry{file("mod/mod.toml", strings.Repeat("release\n", 999)), file("mod/b", strings.Repeat("0123456789", 2000))}
	for form, data := range map[string][]byte{"zip": zipOf(good...), "tar": tarOf(good...), "tar.gz": gzipOf(tarOf(good...)), "tar.xz": xzOf(tarOf(good...)), "tar.zst": zstdOf(tarOf(good...)), "rar": rarOf(good...)} {
		for _, part := range []int{3, 2} {
			add(fmt.Sprintf("%s cut to 1/%d", form, part), "refused", data[:len(data)/part])
		}
		add(form+" without its last bytes", "", data[:len(data)-3]) // some forms end in padding
		for _, at := range []int{5, 3, 2} {
			flipped := bytes.Clone(data)
			flipped[len(data)/at] ^= 0x55
			add(fmt.Sprintf("%s with a byte changed at 1/%d", form, at), "", flipped) // plain tar has no sum over its bytes
		}
		corrupt := bytes.Clone(data)
		for i := len(corrupt) / 4; i < len(corrupt)/4*3; i++ {
			corrupt[i] = byte(i * 7)
		}
		word := "refused"
		if form == "tar" {
			word = ""
		}
		add(form+" with its middle overwritten", word, corrupt)
	}
	// Bombs. The bounds of this test are narrow, see below.
	zeros := strings.Repeat("\x00", 70<<20)
	add("zip bomb", "times its size", zipOf(file("mod/zeros", zeros)))
	add("tar.gz bomb", "times its size", gzipOf(tarOf(file("mod/zeros", zeros))))
	add("tar.zst bomb", "times its size", zstdOf(tarOf(file("mod/zeros", zeros))))
	add("zip bomb within a zip", "times its size", zipOf(file("inner.zip", string(zipOf(file("mod/zeros", zeros))))))
	var many []entry
	for i := range 3000 {
		many = append(many, file(fmt.Sprintf("mod/%d", i), ""))
	}
	add("zip with 3,000 entries", "entries", zipOf(many...))
	add("tar with 3,000 entries", "entries", tarOf(many...))
	add("zip with 3,000 entries within a zip", "entries", zipOf(file("inner.zip", string(zipOf(many...)))))
	add("zip that says it has 60,000 entries", "entries", ending(60000, 0, 0))
	add("zip with a directory of 4 GB", "directory", ending(10, 4_000_000_000, 0))
	add("zip with a directory behind its end", "refused", ending(1, 46, 4_000_000))
	wide := append([]byte("PK\x06\x06"), make([]byte, 52)...)
	binary.LittleEndian.PutUint64(wide[32:], 1<<40)
	locator := append([]byte("PK\x06\x07"), make([]byte, 16)...)
	first := append([]byte("PK\x03\x04"), make([]byte, 26)...)
	binary.LittleEndian.PutUint64(locator[8:], uint64(len(first)))
	add("zip with a million million entries", "entries", bytes.Join([][]byte{first, wide, locator, ending(0xffff, 0xffffffff, 0xffffffff)}, nil))
	binary.LittleEndian.PutUint64(locator[8:], 1<<60)
	add("zip whose end is far away", "refused", bytes.Join([][]byte{first, wide, locator, ending(0xffff, 0xffffffff, 0xffffffff)}, nil))
	add("zip with more bytes than it says", "refused", zipSaying(t, func(h *zip.FileHeader) { h.UncompressedSize64 = 3 }, "longer than that"))
	add("zip with fewer bytes than it says", "refused", zipSaying(t, func(h *zip.FileHeader) { h.UncompressedSize64 = 1 << 20 }, "short"))
	add("zip with a terabyte that is not there", "more than 1.1 GB", zipSaying(t, func(h *zip.FileHeader) { h.UncompressedSize64 = 1 << 40 }, "short"))
	add("zip with a wrong sum", "refused", zipSaying(t, func(h *zip.FileHeader) { h.CRC32++ }, "bytes"))
	add("zip in a method that nobody knows", "refused", zipSaying(t, func(h *zip.FileHeader) { h.Method = 77 }, "bytes"))
	add("encrypted zip", "encrypted", zipSaying(t, func(h *zip.FileHeader) { h.Flags |= 1 }, "bytes"))
	add("zip with a link of 5,000 bytes", "too long", zipOf(entry{name: "l", target: strings.Repeat("x", 5000), mode: fs.ModeSymlink | 0o777}))
	add("zip with a name in another encoding", "", zipOf(file("mod/gr\x94\xe1e.txt", "x"), file("mod/mod.toml", "x")))
	add("tar with a name in another encoding", "UTF-8", tarOf(file("mod/gr\x94\xe1e.txt", "x")))
	add("zip within a damaged zip", "", zipOf(file("mod/mod.toml", "x"), file("inner.zip", "PK\x03\x04 and nothing more")))
	huge := bytes.Clone(xzOf([]byte(strings.Repeat("x", 5000))))
	add("tar.xz that is no tar", "", huge)
	for bits, word := range map[byte]string{40: "memory", 37: "memory", 20: ""} { // sizes of the dictionary; the greatest is 4 GiB
		add(fmt.Sprintf("tar.xz that wants a dictionary of size %d", bits), word, xzWanting(tarOf(good...), bits))
	}
	runs := entry{name: "mod/run", data: "#!", mode: 0o755}
	nested := zipOf(file("deep/about.toml", "a = 1"), file("deep/inner.tar", string(tarOf(file("far/x", "1")))), link("deep/l", "about.toml"))
	whole := []entry{runs, file("mod/about.toml", "name = 'x'"), file("mod/large.toml", strings.Repeat("x", 3<<20)), {name: "mod/none/"}, link("mod/l", "none/../about.toml"), file("mod/inner.zip", string(nested)), file("mod/notes.txt", "1"), file("inner.tar.gz", string(gzipOf(tarOf(runs, good[1]))))}
	add("zip of all kinds", "", zipOf(whole...))
	add("tar of all kinds", "", tarOf(append(whole, entry{name: "mod/hard", kind: tar.TypeLink, target: "mod/about.toml"})...))
	add("rar of all kinds", "", rarOf(whole...))
	add("zip within zips", "", zipOf(file("a.zip", string(zipOf(file("b.zip", string(zipOf(file("c.zip", string(zipOf(file("d.zip", string(nested)))))))))))))
	add("zip whose inner ones are refused", "", zipOf(file("mod/a", "1"), file("a.zip", string(zipOf(file("../x", "1")))), file("b.tar", string(tarOf(link("x", "../../y")))), file("c.zip", string(zipSaying(t, func(h *zip.FileHeader) { h.Flags |= 1 }, "bytes")))))
	add("zip with bytes where it says there are none", "refused", zipSaying(t, func(h *zip.FileHeader) { h.UncompressedSize64 = 0 }, "some"))
	add("zip with a link of 4,096 bytes", "not there", zipOf(entry{name: "l", target: strings.Repeat("x", 4096), mode: fs.ModeSymlink | 0o777}))
	add("zip with a folder as Windows writes it", "", zipOf(entry{name: `mod\sub\`}, file(`mod\sub\x`, "1")))
	short := bytes.Join([][]byte{first, wide, locator, ending(0xffff, 0xffffffff, 0xffffffff)}, nil)
	binary.LittleEndian.PutUint64(short[len(first)+len(wide)+8:], uint64(len(short)-10))
	add("zip whose end is cut off by its end", "points out", short)
	add("tar with a folder of its own", "", tarOf(entry{name: "./"}, file("./mod/x", "1")))
	add("rar with a hard link", "", rarOf(file("mod/a", "1"), entry{name: "mod/b", target: "mod/a", kind: 4}))
	add("rar with a link of Windows", "", rarOf(file("mod/a", "1"), entry{name: "mod/b", target: `a`, kind: 2}))
	add("rar that does not say how large", "", rarOf(entry{name: "mod/mod.toml", data: strings.Repeat("x", 3<<20), kind: unsized}, entry{name: "mod/small.toml", data: "x", kind: unsized}))
	sizes := append(bytes.Clone(xzOf(nil)[:12]), 8, 0x40)
	sizes = append(append(sizes, bytes.Repeat([]byte{0x80}, 59)...), 1, 0x21, 1)
	add("xz whose sizes have no end", "refused", sizes)
	many31, many40 := "\xf0\x00\x00\x00\x80", "\xf8\x00\x00\x00\x00\x00\x01"[:6]
	lzmaOf := func(memory string) string { return "\x01\x23\x03\x01\x01\x05\x5d" + memory } // one coder, with its properties
	for what, s := range map[string][2]string{
		"2^31 files":             {"\x01\x05" + many31 + "\x00", "entries"},
		"2^31 folders":           {"\x01\x04\x07\x0b" + many31 + "\x00\x00", "refused"},
		"2^40 packed streams":    {"\x01\x04\x06\x00" + many40 + "\x00", "refused"},
		"2^31 files in a folder": {"\x01\x04\x07\x0b\x01\x00" + lzmaOf("\x00\x00\x01\x00") + "\x0c\x05\x00\x08\x0d" + many31 + "\x00\x00\x00", "entries"},
		"2^31 coders":            {"\x01\x04\x07\x0b\x01\x00" + many31 + "\x00", "refused"},
		"4 GB of memory":         {"\x01\x04\x07\x0b\x01\x00" + lzmaOf("\xff\xff\xff\xff") + "\x0c\x05\x00\x00\x00", "memory"},
		"4 GB of memory, LZMA2":  {"\x01\x04\x07\x0b\x01\x00\x01\x21\x21\x01\x28\x0c\x05\x00\x00\x00", "memory"},
		"a directory in nothing": {"\x17\x06\x00\x01\x09\x05\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x05\x00\x00", "refused"},
		"a directory of 4 GB":    {"\x17\x06\x00\x01\x09\x00\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\xf0\xff\xff\xff\xff\x00\x00", "directory"},
		"a directory by BZip2":   {"\x17\x06\x00\x01\x09\x00\x00\x07\x0b\x01\x00\x01\x03\x04\x02\x02\x0c\x05\x00\x00", "not looked into"},
		"a directory of its own": {"\x02", "refused"},
		"half a directory":       {"\x01\x04\x07", "refused"},
		"properties without end": {"\x01\x02\x01\xff\xff\xff\xff\xff\xff\xff\xff\xff", "refused"},
	} {
		add("7z with "+what, s[1], sevenOf(nil, []byte(s[0])))
		add("7z with "+what+", within a zip", "", zipOf(file("mod/mod.toml", "x"), file("inner.7z", string(sevenOf(nil, []byte(s[0]))))))
	}
	deeper := "\x01\x05" + many31 + "\x00"
	add("7z with 2^31 files, in a directory that is packed", "entries", sevenOf([]byte(deeper), []byte("\x17\x06\x00\x01\x09\x08\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x08\x00\x00")))
	add("7z of nothing", "", sevenOf(nil, nil))
	sparse := tarOf(file("mod/mod.toml", "x"))
	add("tar with rubbish behind it", "", append(sparse, bytes.Repeat([]byte("rubbish"), 500)...))
	add("nothing at all", "", nil)
	add("half a signature", "", []byte("PK"))
	add("only a signature, zip", "refused", []byte("PK\x03\x04"))
	add("only a signature, 7z", "refused", []byte("7z\xbc\xaf\x27\x1c"))
	add("only a signature, rar", "refused", []byte("Rar!\x1a\x07\x01\x00"))
	add("only a signature, gzip", "refused", []byte("\x1f\x8b"))
	add("only a signature, xz", "refused", []byte("\xfd7zXZ\x00"))
	add("only a signature, zstd", "refused", []byte("\x28\xb5\x2f\xfd"))
	insist.Need(t, len(corpus) >= 100, "the corpus has %d archives only", len(corpus))
	outer := t.TempDir()
	dir := filepath.Join(outer, "a", "b")
	insist.OK(t, os.MkdirAll(dir, 0o755))
	tight := intake.Bounds{Files: 2000, Bytes: 1 << 30, Ratio: 50}
	refused := 0
	var all strings.Builder
	for _, name := range slices.Sorted(maps.Keys(corpus)) {
		s, full := corpus[name], filepath.Join(dir, "sample.bin")
		insist.OK(t, os.WriteFile(full, s.data, 0o644))
		tree, err := read(t, full, tight)
		fmt.Fprintf(&all, "%q: %s\n", name, holding(tree, err))
		switch {
		case s.word != "" && err == nil:
			t.Errorf("%s: it was taken for good: %v", name, tree.Entries)
			continue
		case err == nil:
			for _, e := range tree.Entries {
				if got, err := intake.EntryPath(e.Path); err != nil || got != e.Path {
					t.Errorf("%s: it has the path %q", name, e.Path)
				}
			}
			continue
		case s.word != "" && s.word != "refused" && !strings.Contains(err.Error(), s.word):
			t.Errorf("%s: %v; want a word of %q", name, err, s.word)
		}
		refused++
		if message := err.Error(); strings.ContainsAny(message, "\x00\n\x1b\u202e\u2028") || len(message) > 600 {
			t.Errorf("%s: the message is hostile or too long: %q", name, message)
		}
	}
	t.Logf("%d archives, %d of them refused", len(corpus), refused)
	golden.Check(t, "hostile.txt", all.String())
	insist.OK(t, filepath.WalkDir(outer, func(name string, e fs.DirEntry, err error) error {
		if !e.IsDir() && filepath.Base(name) != "sample.bin" {
			t.Errorf("%s was left behind", name)
		}
		return err
	}))
}

// What is refused leaves nothing running behind it.
func TestNothingRunsOn(t *testing.T) {
	before := runtime.NumGoroutine()
	var entries []entry
	for i := range 50 {
		entries = append(entries, file(fmt.Sprint("mod/", i), strings.Repeat("x", 9999)))
	}
	name := filepath.Join(t.TempDir(), "x")
	for _, data := range [][]byte{zipOf(append(entries, file("../x", "1"))...), zstdOf(tarOf(append(entries, file("../x", "1"))...))} {
		insist.OK(t, os.WriteFile(name, data, 0o600))
		for range 20 {
			if tree, err := read(t, name, intake.DefaultBounds()); err == nil {
				t.Fatalf("taken for good: %v", tree.Entries)
			}
		}
	}
	for end := time.Now().Add(10 * time.Second); runtime.NumGoroutine() > before; time.Sleep(10 * time.Millisecond) {
		insist.Need(t, !time.Now().After(end), "%d goroutines run on, %d before", runtime.NumGoroutine(), before)
	}
}

// holding writes down what was read from an archive, or why it was not.
func holding(tree *intake.Tree, err error) string {
	if err != nil {
		return "refused: " + err.Error()
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%d files", tree.Files)
	for _, e := range tree.Entries {
		fmt.Fprintf(&b, "\n    %q %v %d bytes", e.Path, e.Kind, e.Size)
		if e.Target != "" {
			fmt.Fprintf(&b, " to %q", e.Target)
		}
		if e.Exec {
			b.WriteString(" runs")
		}
		if len(e.Data) > 0 {
			fmt.Fprintf(&b, " kept %d", len(e.Data))
		}
		if e.Trouble != "" {
			fmt.Fprintf(&b, " trouble: %s", e.Trouble)
		}
		if e.Inside != nil {
			fmt.Fprintf(&b, " with %s", strings.ReplaceAll(holding(e.Inside, nil), "\n", "\n    "))
		}
	}
	return b.String()
}

// xzWanting packs data and has the header of the first block ask for a dictionary of another
// size (the .xz file format, 3.1 and 5.3.1).
func xzWanting(data []byte, bits byte) []byte {
	packed := xzOf(data)
	block := packed[12:]
	length := (int(block[0]) + 1) * 4
	for at := 2; at+2 < length; at++ {
		if block[at] == 0x21 && block[at+1] == 1 {
			block[at+2] = bits
			break
		}
	}
	binary.LittleEndian.PutUint32(block[length-4:], crc32.ChecksumIEEE(block[:length-4]))
	return packed
}

// TestHostileFolders has what only a folder can have.
func TestHostileFolders(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	insist.OK(t, os.WriteFile(outside, []byte("secret"), 0o600))
	for name, make := range map[string]func(dir string) error{
		"device": func(dir string) error { return syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644) },
		"leads out": func(dir string) error {
			to, err := filepath.Rel(dir, outside)
			return errors.Join(err, os.Symlink(to, filepath.Join(dir, "link")))
		},
		"leads":      func(dir string) error { return os.Symlink(outside, filepath.Join(dir, "link")) },
		"circle":     func(dir string) error { return os.Symlink("self", filepath.Join(dir, "self")) },
		"backslash":  func(dir string) error { return os.WriteFile(filepath.Join(dir, `a\b`), nil, 0o644) },
		"control":    func(dir string) error { return os.WriteFile(filepath.Join(dir, "a\x1b[2J"), nil, 0o644) },
		"UTF-8":      func(dir string) error { return os.WriteFile(filepath.Join(dir, "a\xff"), nil, 0o644) },
		"to the fol": func(dir string) error { return os.Symlink(".", filepath.Join(dir, "loop")) },
	} {
		dir := t.TempDir()
		insist.OK(t, make(dir))
		if _, err := read(t, dir, intake.DefaultBounds()); err == nil || !strings.Contains(err.Error(), name) && name != "to the fol" {
			t.Errorf("a folder with a %s: %v", name, err)
		}
	}
	if _, err := archive.Open(filepath.Join(t.TempDir(), "none"), archive.Options{}); err == nil {
		t.Error("what is not there is opened")
	}
}

// TestForms reads the same files from every form of source, whatever it is called,
// and hands them out again.
func TestForms(t *testing.T) {
	dir := t.TempDir()
	entries := []entry{file("mod/mod.toml", "name = 'x'"), file("mod/sub/b.bin", strings.Repeat("0123456789", 100_000)), {name: "mod/empty/"}}
	forms := map[archive.Form][]byte{
		archive.FormZip: zipOf(entries...), archive.FormTar: tarOf(entries...), archive.FormGzip: gzipOf(tarOf(entries...)),
		archive.FormXz: xzOf(tarOf(entries...)), archive.FormZstd: zstdOf(tarOf(entries...)), archive.FormRar: rarOf(entries...),
	}
	for form, data := range forms {
		insist.OK(t, os.WriteFile(filepath.Join(dir, "it-is-"+string(form)), data, 0o644))
	}
	plain := filepath.Join(dir, "it-is-folder")
	for _, e := range entries {
		full := filepath.Join(plain, e.name)
		if strings.HasSuffix(e.name, "/") {
			os.MkdirAll(full, 0o755)
			continue
		}
		os.MkdirAll(filepath.Dir(full), 0o755)
		insist.OK(t, os.WriteFile(full, []byte(e.data), 0o644))
	}
	if program := firstProgram("7zz", "7z"); program != "" {
		for form, suffix := range map[archive.Form]string{archive.Form7z: "7z", archive.FormBzip2: "tar.bz2"} {
			packed := filepath.Join(dir, "packed."+suffix)
			cmd := exec.Command(program, "a", "-bso0", packed, "mod")
			if form == archive.FormBzip2 {
				insist.OK(t, os.WriteFile(filepath.Join(plain, "x.tar"), forms[archive.FormTar], 0o644))
				cmd = exec.Command(program, "a", "-bso0", "-tbzip2", packed, "x.tar")
			}
			cmd.Dir = plain
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v: %v\n%s", cmd.Args, err, out)
			}
			os.Remove(filepath.Join(plain, "x.tar"))
			insist.OK(t, os.Rename(packed, filepath.Join(dir, "it-is-"+string(form))))
		}
	} else if os.Getenv("CI") == "true" {
		t.Error("7zz is not installed, so 7z and bzip2 cannot be tried")
	}
	names := within(dir, "it-is-*")
	for _, name := range names {
		want := strings.TrimPrefix(filepath.Base(name), "it-is-")
		s, err := archive.Open(name, archive.Options{Bounds: intake.DefaultBounds()})
		insist.OK(t, err)
		insist.That(t, string(s.Form) == want, "%s is held for %s", want, s.Form)
		tree, err := s.Read(t.Context())
		if err != nil {
			t.Errorf("%s: %v", want, err)
			continue
		}
		if b := tree.Find("mod/sub/b.bin"); tree.Files != 2 || b == nil || b.Size != 1_000_000 || tree.Find("mod/empty") == nil {
			t.Errorf("%s holds %+v", want, tree.Entries)
		}
		got := map[string]string{}
		err = s.Copy(t.Context(), func(n string) bool { return n == "mod/mod.toml" }, func(n string, r io.Reader) error {
			data, err := io.ReadAll(r)
			got[n] = string(data)
			return err
		})
		insist.That(t, err == nil && len(got) == 1 && got["mod/mod.toml"] == "name = 'x'", "%s hands out %v, %v", want, got, err)
	}
	insist.That(t, len(names) >= len(forms)+1, "only %d forms were tried", len(names))
}

func firstProgram(names ...string) string {
	for _, n := range names {
		if p, err := exec.LookPath(n); err == nil {
			return p
		}
	}
	return ""
}

// TestChangedWhileRead has a source that is written to while it is looked into,
// and one that is another when it is copied.
func TestChangedWhileRead(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x.zip")
	put := func(data []byte) {
		insist.OK(t, os.WriteFile(name, data, 0o644))
	}
	put(zipOf(file("mod/a", strings.Repeat("x", 3<<20))))
	var s *archive.Source
	s, err := archive.Open(name, archive.Options{Bounds: intake.DefaultBounds(), Progress: func(int64) { put(zipOf(file("mod/a", "other"))) }})
	insist.OK(t, err)
	insist.Fails(t, "changed while it was read", insist.Err(s.Read(t.Context())), "changed")
	insist.Fails(t, "changed before it was copied", s.Copy(t.Context(), func(string) bool { return true }, func(string, io.Reader) error { return nil }), "changed")
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	put(zipOf(file("mod/a", "x")))
	if s, err = archive.Open(name, archive.Options{Bounds: intake.DefaultBounds()}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Read(stopped); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}

func TestMisnamed(t *testing.T) {
	name := filepath.Join(t.TempDir(), "mod.zip")
	insist.OK(t, os.WriteFile(name, gzipOf(tarOf(file("mod/a", "x"))), 0o644))
	s, err := archive.Open(name, archive.Options{Bounds: intake.DefaultBounds()})
	insist.That(t, err == nil && s.Form == archive.FormGzip && s.Misnamed() == ".zip", "a tar.gz called .zip: %+v, %v", s, err)
	dir := filepath.Join(t.TempDir(), "mods.zip")
	insist.OK(t, os.Mkdir(dir, 0o700))
	if s, err := archive.Open(dir, archive.Options{Bounds: intake.DefaultBounds()}); err != nil || s.Misnamed() != "" {
		t.Errorf("a folder called .zip: %+v, %v", s, err)
	}
}

func FuzzArchives(f *testing.F) {
	entries := []entry{file("mod/mod.toml", "x = 1"), file("mod/b", "bytes"), {name: "mod/l", target: "b", mode: fs.ModeSymlink | 0o777}}
	for _, data := range [][]byte{zipOf(entries...), tarOf(entries...), gzipOf(tarOf(entries...)), rarOf(entries...), zstdOf(tarOf(entries...)), xzOf(tarOf(entries...)), []byte("7z\xbc\xaf\x27\x1c\x00\x04"),
		sevenOf([]byte("\x01\x05\x01\x11\x05\x00a\x00\x00\x00\x00\x00"), []byte("\x17\x06\x00\x01\x09\x0c\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x0c\x00\x00")), sevenOf(nil, []byte("\x01\x04\x07\x0b\x01\x00\x01\x23\x03\x01\x01\x05\x5d\x00\x00\x01\x00\x0c\x05\x00\x08\x0d\x02\x00\x00\x00"))} {
		f.Add(data)
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		name := filepath.Join(dir, fmt.Sprint(os.Getpid()))
		insist.OK(t, os.WriteFile(name, data, 0o644))
		tree, err := read(t, name, intake.Bounds{Files: 1000, Bytes: 1 << 24, Ratio: 1000})
		if err != nil {
			return
		}
		for _, e := range tree.Entries {
			if got, err := intake.EntryPath(e.Path); err != nil || got != e.Path || got == "" {
				t.Errorf("it has the path %q", e.Path)
			}
		}
	})
}

// within lists what fits a pattern in a folder, whatever the folder is called.
func within(dir, pattern string) (list []string) {
	names, _ := fs.Glob(os.DirFS(dir), pattern) // a pattern of a test's is right
	for _, name := range names {
		list = append(list, filepath.Join(dir, name))
	}
	return list
}
