package intake

import (
	"archive/zip"
	"bytes"
	"io"
	"io/fs"
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/text"
)

// Essence makes of a packed mod a small archive with nothing in it but the
// manifests that dialects read, so that a large mod can be judged without being
// held in memory. It returns nil when there is no zip archive.
func Essence(packed io.ReaderAt, size int64, dialects []*dialect.Dialect) []byte {
	from, err := zip.NewReader(packed, size)
	if err != nil {
		return nil
	}
	var out bytes.Buffer
	to := zip.NewWriter(&out)
	var done []string
	for _, d := range dialects {
		for _, m := range d.Manifests {
			if slices.Contains(done, m.File) {
				continue
			}
			done = append(done, m.File)
			f, err := from.Open(m.File)
			if err != nil {
				continue
			}
			data, err := io.ReadAll(io.LimitReader(f, mod.MaxManifest+1))
			f.Close()
			if err != nil || len(data) > mod.MaxManifest {
				continue
			}
			if w, err := to.Create(m.File); err == nil {
				w.Write(data) // into memory
			}
		}
	}
	if to.Close() != nil {
		return nil
	}
	return out.Bytes()
}

// readPacked reads the manifest in a packed mod.
func readPacked(d *dialect.Dialect, packed []byte) mod.Manifest {
	archive, err := zip.NewReader(bytes.NewReader(packed), int64(len(packed)))
	if err != nil {
		return mod.Manifest{Problem: &mod.Problem{Fault: text.Fault{Line: 1, Column: 1, Message: "it is no zip archive that can be read"}}}
	}
	return mod.Read(d.Manifests, func(file string) ([]byte, error) {
		f, err := archive.Open(file)
		if err != nil || file == dialect.OwnFile {
			return nil, fs.ErrNotExist
		}
		defer f.Close()
		return io.ReadAll(io.LimitReader(f, mod.MaxManifest))
	}).Fit(d.BuildCalled)
}
