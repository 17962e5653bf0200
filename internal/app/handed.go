package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"initium/internal/core/intake"
	"initium/internal/core/proof"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// maxHanded is the largest log that is kept as that of a start, in bytes, unpacked.
const maxHanded = 512 << 20

// ProveFrom judges the log of a start that was made elsewhere: a file, one below the folder of a server that stands at a
// host, or what in says for "-". It is kept as a start of the server, as if it had been made from here; that the log is
// of the line-up as it stands is taken from whoever hands it in, and said.
func (a *App) ProveFrom(ctx context.Context, name, log string, in io.Reader) (p *proof.Proof, err error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	if a.Home.IsRunning(name) {
		return nil, usage("%s runs here, and its log is read as it comes (initium log %s)", name, name)
	}
	if s.Record.Host != "" && log != "-" && !filepath.IsAbs(log) {
		if _, err := os.Stat(log); errors.Is(err, fs.ErrNotExist) {
			log = filepath.Join(s.Record.Dir, filepath.Clean("/"+log)) // as it was seen there last
		}
	}
	look, err := a.Look(name)
	if err != nil {
		return nil, err
	}
	stream, err := archive.OpenStream(log, in)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(log), err)
	}
	defer stream.Close()
	dir, number, err := a.Home.NewStart(name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, dir.Remove())
		}
	}()
	at, err := keepLog(ctx, dir, log, stream)
	if err != nil {
		return nil, err
	}
	e, err := a.expectation(look, ProveOptions{})
	if err != nil {
		return nil, err
	}
	inventory, err := a.inventory(look.Server, look.Survey)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(dir.PutInventory(inventory), dir.PutExpected(e)); err != nil {
		return nil, err
	}
	reading, err := a.Read(ctx, []string{dir.Log()}, ReadOptions{Server: name})
	if err != nil {
		return nil, err
	}
	p = reading.Proof
	p.Number, p.Log, p.Handed, p.Started = number, dir.Log(), true, &at
	if reading.Starts > 1 {
		p.Hint = fmt.Sprintf("%d starts are in the log, of which the last is judged", reading.Starts)
	}
	return p, a.putProof(nil, p, dir)
}

// keepLog keeps a log as that of a start, and tells how old it is.
func keepLog(ctx context.Context, dir host.StartDir, log string, stream io.Reader) (at time.Time, err error) {
	at = time.Now()
	if info, err := os.Stat(log); err == nil && log != "-" {
		at = info.ModTime()
	}
	out, err := os.OpenFile(dir.Log(), os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return at, err
	}
	n, err := io.Copy(out, io.LimitReader(stopping{ctx, stream}, maxHanded+1))
	if err = errors.Join(err, out.Close()); err == nil && n > maxHanded {
		err = usage("the log is larger than %s; hand in that of one start", intake.Bytes(maxHanded))
	}
	if err == nil && n == 0 {
		err = usage("there is nothing in %s", text.Clean(log))
	}
	return at, err
}
