package archive_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/golden"
	"initium/internal/host/archive"
	"initium/internal/insist"
)

// keeper is a family that wants manifests, notes and packed mods kept.
//
//go:embed testdata/keeperDialect.toml
var keeperDialect string

// copied hands out every file of a source, those of archives within it too, and tells where
// one is other than the tree says.
func copied(t *testing.T, s *archive.Source, tree *intake.Tree) (said string) {
	t.Helper()
	sums := map[string]intake.Sum{}
	var note func(tree *intake.Tree, prefix string)
	note = func(tree *intake.Tree, prefix string) {
		for i := range tree.Entries {
			e := &tree.Entries[i]
			if e.Kind == intake.File {
				sums[prefix+e.Path] = e.Sum
			}
			if e.Inside != nil {
				note(e.Inside, prefix+e.Path+"/")
			}
		}
	}
	note(tree, "")
	// What is within an archive is asked for by its own path, and not that archive.
	wanted := func(name string) bool {
		for other := range sums {
			if strings.HasPrefix(other, name+"/") {
				return false
			}
			if strings.HasSuffix(name, "/") && strings.HasPrefix(other, name) {
				return true
			}
		}
		_, ok := sums[name]
		return ok
	}
	got := map[string]bool{}
	err := s.Copy(t.Context(), wanted, func(name string, r io.Reader) error {
		h := sha256.New()
		if _, err := io.Copy(h, r); err != nil {
			return err
		}
		if intake.Sum(h.Sum(nil)) != sums[name] {
			said += " other bytes in " + name
		}
		got[name] = true
		return nil
	})
	if err != nil {
		return err.Error()
	}
	for name := range sums {
		if !got[name] && wanted(name) {
			said += " without " + name
		}
	}
	return said
}

// TestDamagedArchivesInFull breaks archives of every form in random places: each reads as a
// whole, with every byte as its sum says, or is refused in words that were read through once.
func TestDamagedArchivesInFull(t *testing.T) {
	d, err := dialect.Parse("k.toml", []byte(keeperDialect))
	insist.OK(t, err)
	r := rand.New(rand.NewPCG(5, 55))
	dir := t.TempDir()
	entries := []entry{file("mod/mod.toml", "name = 'x'\n"), file("mod/run.sh", strings.Repeat("some words ", 200)), {name: "mod/empty/"}, file("p.pak", string(zipOf(file("mod.toml", "name = 'p'")))), file("in.zip", string(zipOf(file("a/mod.toml", "name = 'a'"), file("b", "B")))), file("README", "read me")}
	linked := append(slices.Clone(entries), entry{name: "mod/link", target: "run.sh", mode: fs.ModeSymlink | 0o777})
	forms := map[string][]byte{"zip": zipOf(linked...), "tar": tarOf(linked...), "tar.gz": gzipOf(tarOf(linked...)), "tar.xz": xzOf(tarOf(entries...)), "tar.zst": zstdOf(tarOf(linked...)), "rar": rarOf(linked...), "gz": gzipOf([]byte("alone")), "nothing.tar.gz": gzipOf(make([]byte, 1024)), "short.gz": gzipOf([]byte("x")), "words": []byte("just words")}
	var b strings.Builder
	for _, form := range slices.Sorted(maps.Keys(forms)) {
		for round := range 45 {
			data := bytes.Clone(forms[form])
			what := "whole"
			if round > 0 {
				switch at := r.IntN(len(data)); r.IntN(4) {
				case 0:
					data, what = data[:at], fmt.Sprintf("cut at %d", at)
				case 1:
					bit := byte(1) << r.IntN(8)
					data[at] ^= bit
					what = fmt.Sprintf("bit %d of byte %d", bit, at)
				case 2:
					n := min(len(data)-at, 1+r.IntN(9))
					data, what = slices.Delete(data, at, at+n), fmt.Sprintf("%d bytes out at %d", n, at)
				case 3:
					clear(data[at:min(len(data), at+4)])
					what = fmt.Sprintf("zeros at %d", at)
				}
			}
			full := filepath.Join(dir, "x."+form)
			insist.OK(t, os.WriteFile(full, data, 0o755))
			bounds := intake.DefaultBounds()
			if round%11 == 10 {
				bounds.Files, bounds.Bytes = 3+r.IntN(8), int64(20+r.IntN(6000))
				what += fmt.Sprintf(", at most %d files, %d bytes", bounds.Files, bounds.Bytes)
			}
			var last int64
			s, err := archive.Open(full, archive.Options{Bounds: bounds, Dialects: []*dialect.Dialect{d}, Progress: func(n int64) {
				insist.That(t, n >= last, "%s, %s: %d bytes after %d", form, what, n, last)
				last = n
			}})
			insist.OK(t, err)
			tree, err := s.Read(t.Context())
			fmt.Fprintf(&b, "%s, %s: %s, misnamed %q, %s\n", form, what, s.Form, s.Misnamed(), holding(tree, err))
			if err != nil {
				continue
			}
			insist.Same(t, fmt.Sprintf("%s, %s: copying", form, what), copied(t, s, tree), "")
			for i := range tree.Entries {
				if e := &tree.Entries[i]; e.Data != nil && e.Size > 0 && !strings.HasSuffix(e.Path, ".pak") && sha256.Sum256(e.Data) != e.Sum {
					t.Errorf("%s, %s: %s is kept with other bytes", form, what, e.Path)
				}
			}
		}
	}
	golden.Check(t, "damaged.txt", b.String())
}

// A large archive within an archive waits in a file without a name, not in memory: where
// none can be made, that is said; nothing stays behind.
func TestLargeWithin(t *testing.T) {
	insist.Long(t)
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	big := make([]byte, 9<<20)
	rand.NewChaCha8([32]byte{1}).Read(big)
	full := filepath.Join(t.TempDir(), "x.tar")
	insist.OK(t, os.WriteFile(full, tarOf(file("deep/in.zip", string(zipOf(file("mod/big.bin", string(big)), file("mod/a", "A")))), file("deep/in.tar.gz", string(gzipOf(tarOf(file("b", string(big[:1<<20]))))))), 0o644))
	s, err := archive.Open(full, archive.Options{Bounds: intake.DefaultBounds()})
	insist.OK(t, err)
	tree, err := s.Read(t.Context())
	insist.OK(t, err)
	in := tree.Find("deep/in.zip")
	if in == nil || in.Inside == nil || in.Inside.Find("mod/big.bin") == nil || in.Inside.Find("mod/big.bin").Sum != sha256.Sum256(big) || tree.Find("deep/in.tar.gz").Inside == nil {
		t.Errorf("it holds %s", holding(tree, nil))
	}
	insist.Same(t, "copying", copied(t, s, tree), "")
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
	t.Setenv("TMPDIR", filepath.Join(dir, "none"))
	if tree, err := s.Read(t.Context()); err == nil || !strings.Contains(err.Error(), `look into "deep/in.zip"`) {
		t.Errorf("where no file can be made: %v, %v", tree, err)
	}
}

// A stream of xz says in its first block how much memory it wants, wherever that stands.
func TestMemoryOfXz(t *testing.T) {
	header := xzOf(nil)[:12]
	block := func(flags byte, fields ...byte) []byte {
		b := append([]byte{0, flags}, fields...)
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
		b[0] = byte(len(b) / 4)
		return append(append(slices.Clone(header), binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))...), make([]byte, 80)...)
	}
	for name, test := range map[string]struct {
		data   []byte
		refuse bool
	}{
		"small": {block(0, 0x21, 1, 10), false}, "the most": {block(0, 0x21, 1, 32), false}, "more": {block(0, 0x21, 1, 33), true}, "much more": {block(0, 0x21, 1, 40), true}, "none such": {block(0, 0x21, 1, 63), true}, "with other bits": {block(0, 0x21, 1, 0x80|10), false},
		"behind one size": {block(0x40, 0x85, 0x01, 0x21, 1, 40), true}, "behind both sizes": {block(0xc0, 0x85, 0x81, 0x01, 0x07, 0x21, 1, 40), true}, "behind the other size": {block(0x80, 0x07, 0x21, 1, 40), true}, "small behind both": {block(0xc0, 5, 7, 0x21, 1, 4), false},
		"another filter": {block(0, 0x03, 1, 40), false}, "of two bytes": {block(0, 0x21, 2, 40), false}, "a size without end": {block(0x40, bytes.Repeat([]byte{0xff}, 200)...)[:90], false}, "short": {block(0, 0x21, 1, 40)[:19], false}, "just long enough": {block(0, 0x21, 1, 40)[:20], true},
	} {
		full := filepath.Join(t.TempDir(), "x.tar.xz")
		insist.OK(t, os.WriteFile(full, test.data, 0o644))
		_, err := read(t, full, intake.DefaultBounds())
		if refused := err != nil && strings.Contains(err.Error(), "unpacking it would take more than 268.4 MB of memory"); refused != test.refuse || err == nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A tar archive of the oldest kind has no magic word; its checksum tells it.
func TestTarWithoutMagic(t *testing.T) {
	old := ustar(file("mod/a", "words"))
	rest := append(bytes.Clone(old[512:]), make([]byte, 1024)...)
	sealed := func(change func(b []byte)) []byte {
		b := bytes.Clone(old[:512])
		clear(b[257:265])
		change(b)
		copy(b[148:], "        ")
		sum := 0
		for _, c := range b {
			sum += int(c)
		}
		copy(b[148:], fmt.Sprintf("%06o\x00 ", sum))
		return b
	}
	for name, test := range map[string]struct {
		block []byte
		form  archive.Form
	}{
		"as it was":         {sealed(func([]byte) {}), archive.FormTar},
		"with bytes at end": {sealed(func(b []byte) { b[511] = 9 }), archive.FormTar},
		"around the sum":    {sealed(func(b []byte) { b[147], b[156] = ' ', '0' }), archive.FormTar},
		"another sum":       {func() []byte { b := sealed(func([]byte) {}); b[150]++; return b }(), archive.FormFile},
		"without a name":    {sealed(func(b []byte) { clear(b[:100]) }), archive.FormFile},
		"only zeros":        {make([]byte, 512), archive.FormFile},
		"half a block":      {sealed(func([]byte) {})[:300], archive.FormFile},
	} {
		full := filepath.Join(t.TempDir(), "x")
		data := append(bytes.Clone(test.block), rest...)
		if len(test.block) < 512 {
			data = test.block
		}
		insist.OK(t, os.WriteFile(full, data, 0o644))
		s, err := archive.Open(full, archive.Options{Bounds: intake.DefaultBounds()})
		if err != nil || s.Form != test.form {
			t.Errorf("%s: %v, %v", name, s.Form, err)
			continue
		}
		if tree, err := s.Read(t.Context()); test.form == archive.FormTar && (err != nil || tree.Find("mod/a") == nil) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Entries of a tar archive that are none of what is taken in, and those that are passed over.
func TestKindsInTar(t *testing.T) {
	for kind, want := range map[byte]string{tar.TypeChar: "device", tar.TypeFifo: "device", tar.TypeBlock: "device"} {
		full := filepath.Join(t.TempDir(), "x.tar")
		insist.OK(t, os.WriteFile(full, tarOf(entry{name: "a", kind: kind}), 0o644))
		insist.Fails(t, fmt.Sprintf("kind %c", kind), insist.Err(read(t, full, intake.DefaultBounds())), want)
	}
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	insist.OK(t, errors.Join(w.WriteHeader(&tar.Header{Typeflag: tar.TypeXGlobalHeader, PAXRecords: map[string]string{"comment": "x"}}), w.WriteHeader(&tar.Header{Name: "a", Size: 1, Mode: 0o755}), func() error { _, err := w.Write([]byte("A")); return err }(), w.Close()))
	full := filepath.Join(t.TempDir(), "x.tar")
	insist.OK(t, os.WriteFile(full, out.Bytes(), 0o644))
	if tree, err := read(t, full, intake.DefaultBounds()); err != nil || tree.Files != 1 || !tree.Find("a").Exec {
		t.Errorf("behind a header for all: %v, %v", tree, err)
	}
}

// What 7z packs is read: files, folders and links; what it has locked is said to be.
func TestSevenZip(t *testing.T) {
	program := firstProgram("7zz", "7z")
	if program == "" {
		insist.Need(t, os.Getenv("CI") != "true", "7zz is not installed")
		t.Skip("7zz is not installed")
	}
	dir := t.TempDir()
	for name, data := range map[string]string{"mod/mod.toml": "name = 'x'", "mod/run.sh": "#!/bin/sh\n", "mod/sub/b": strings.Repeat("b", 3000)} {
		full := filepath.Join(dir, name)
		insist.OK(t, errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, []byte(data), map[bool]fs.FileMode{true: 0o755, false: 0o644}[strings.HasSuffix(name, ".sh")])))
	}
	insist.OK(t, errors.Join(os.Mkdir(filepath.Join(dir, "mod/empty"), 0o755), os.Symlink("run.sh", filepath.Join(dir, "mod/link"))))
	for name, test := range map[string]struct {
		args []string
		want string
	}{
		"plain.7z":             {[]string{"-snl"}, "4 files\n    \"mod\" 1 0 bytes runs\n    \"mod/empty\" 1 0 bytes runs\n    \"mod/link\" 2 10 bytes to \"run.sh\" runs\n    \"mod/mod.toml\" 0 10 bytes\n    \"mod/run.sh\" 0 10 bytes runs\n    \"mod/sub\" 1 0 bytes runs\n    \"mod/sub/b\" 0 3000 bytes"},
		"locked.7z":            {[]string{"-psecret"}, "refused: "},
		"locked with names.7z": {[]string{"-psecret", "-mhe=on"}, "refused: the archive is encrypted"},
	} {
		full := filepath.Join(dir, name)
		if name == "plain.7z" { // however it is packed, the same is in it
			for _, how := range [][]string{{"-mx=0"}, {"-m0=LZMA"}, {"-m0=LZMA2", "-mx=9"}, {"-m0=PPMd"}, {"-m0=BZip2"}, {"-m0=Deflate"}, {"-mhc=off"}, {"-ms=off"}, {"-mf=BCJ"}, {"-m0=Copy", "-mhc=off", "-ms=off"}} {
				other := filepath.Join(dir, "other.7z")
				os.Remove(other)
				cmd := exec.Command(program, append(append([]string{"a", "-bso0", "-snl"}, how...), other, "mod")...)
				cmd.Dir = dir
				if out, err := cmd.CombinedOutput(); err != nil {
					t.Fatalf("%v: %v\n%s", cmd.Args, err, out)
				}
				tree, err := read(t, other, intake.DefaultBounds())
				if got := holding(tree, err); !strings.HasPrefix(got, test.want) {
					t.Errorf("packed by %v: %s", how, got)
				}
			}
		}
		cmd := exec.Command(program, append(append([]string{"a", "-bso0"}, test.args...), full, "mod")...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", cmd.Args, err, out)
		}
		tree, err := read(t, full, intake.DefaultBounds())
		if got := holding(tree, err); !strings.HasPrefix(got, test.want) || err != nil && !strings.Contains(got, "encrypted") {
			t.Errorf("%s: %s", name, got)
		}
		if b := intake.DefaultBounds(); test.args[0] == "-snl" {
			b.Files = 6
			insist.Fails(t, fmt.Sprintf("%s, of at most 6 entries", name), insist.Err(read(t, full, b)), "more than 6 entries")
			data, err := os.ReadFile(full)
			insist.OK(t, err)
			for _, n := range []int{10, 40, len(data) / 2, len(data) - 3} {
				insist.OK(t, os.WriteFile(full, data[:n], 0o644))
				if tree, err := read(t, full, intake.DefaultBounds()); err == nil {
					t.Errorf("%s cut at %d: %s", name, n, holding(tree, nil))
				}
			}
		}
	}
}

// A source is the same only as long as it is the same file, unchanged, in the same form.
func TestSameSource(t *testing.T) {
	dir := t.TempDir()
	put := func(name, data string) {
		insist.OK(t, errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, []byte(data), 0o644)))
	}
	open := func(name string) *archive.Source {
		s, err := archive.Open(name, archive.Options{Bounds: intake.DefaultBounds()})
		insist.OK(t, err)
		return s
	}
	file, folder := filepath.Join(dir, "x"), filepath.Join(dir, "folder")
	put(file, "PK\x03\x04")
	put(filepath.Join(folder, "a", "b"), "1")
	one, all := open(file), open(folder)
	insist.That(t, one.Same(open(file)) && all.Same(open(folder)) && !one.Same(all), "what is the same is not, or the other way round")
	put(file, "PK\x05\x06") // as many bytes, at once
	put(filepath.Join(folder, "a", "b"), "2")
	insist.That(t, !one.Same(open(file)) && !all.Same(open(folder)), "what was written again counts as the same")
	all = open(folder)
	put(filepath.Join(folder, "a", "c"), "")
	insist.That(t, !all.Same(open(folder)), "a folder with one file more counts as the same")
	again := open(file)
	put(file+"2", "PK\x05\x06")
	insist.OK(t, os.Rename(file+"2", file))
	insist.That(t, !again.Same(open(file)), "another file in its place counts as the same")
}
