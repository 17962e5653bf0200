package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// ReadOptions say how logs are read.
type ReadOptions struct {
	Server  string // whose log it is, "" when it is none of the operator's
	Dialect string // by name; "" for the server's, or for the one that knows most of the lines
	In      io.Reader
	OnLine  func(proof.Line) // of a log that is followed; may be nil
	Follow  bool             // go on as the last log grows, until ctx ends
}

// Reading is what a log says.
type Reading struct {
	Dialect string         `json:"dialect"`
	Files   []string       `json:"files"`
	Lines   int            `json:"lines"`
	Bytes   int64          `json:"bytes"`  // unpacked
	Starts  int            `json:"starts"` // that are in it, as far as that can be told; the last of them is judged
	Proof   *proof.Proof   `json:"proof"`
	Weak    []WeakRule     `json:"weak,omitempty"` // rules that fit mods which are not registered
	Remarks []proof.Remark `json:"remarks"`        // lines that sound like trouble and that no rule knows
}

// WeakRule is a rule of a dialect by which mods are said to have loaded that are not registered.
// Its strings are safe to show.
type WeakRule struct {
	Rule   string   `json:"rule"` // its line
	Mods   []string `json:"mods"` // some of them
	Server string   `json:"server,omitempty"`
}

func (w WeakRule) String() string {
	where := ""
	if w.Server != "" {
		where = " at the last start of " + w.Server
	}
	return fmt.Sprintf("the rule %q fitted mods too%s that are not registered (%s): it may be about every file that is there, and so is weak as proof of loading; hold it to a part of the log (from, until) or to who says it (level, source)", w.Rule, where, strings.Join(w.Mods, ", "))
}

func weakIn(r *proof.Reader) (list []WeakRule) {
	for _, w := range r.Weak() {
		list = append(list, WeakRule{Rule: text.Clean(w.Rule.Line), Mods: w.Mods})
	}
	return list
}

// WeakRules looks at the last starts of all servers of a dialect for rules that are weak.
func (a *App) WeakRules(ctx context.Context, d *dialect.Dialect) (list []WeakRule, err error) {
	names, err := a.Home.Servers()
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		record, err := a.Home.Record(name)
		if err != nil || record.Dialect != d.Name {
			continue
		}
		s, err := a.Server(name)
		if err != nil {
			return nil, err
		}
		state, err := a.Home.State(name)
		if err != nil || state.Start == "" {
			continue
		}
		e, err := state.Start.Expected()
		if err != nil {
			continue // it never came to a start
		}
		r := proof.NewReader(d, s.Vars["dir"], e.Mods, nil)
		r.Secrets = survey.Take(s.input()).Lineup.Secrets()
		log := host.OpenLog(state.Start.Log())
		_, err = r.ReadFrom(io.LimitReader(stopping{ctx, log}, host.FirstPiece)) // which holds the start
		log.Close()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("read the log of %s: %w", name, err)
		}
		r.Flush()
		for _, w := range weakIn(r) {
			w.Server = name
			list = append(list, w)
		}
	}
	return list, nil
}

// errNoLog refuses to read nothing.
var errNoLog = errors.New("say which log is to be read; - is the standard input")

// Read judges logs that somebody sent, in the order in which they are named: what
// loaded, what failed and why. With a server its mods are known, and what is
// registered and not spoken of is told too.
func (a *App) Read(ctx context.Context, files []string, opt ReadOptions) (*Reading, error) {
	if len(files) == 0 {
		return nil, UsageError{errNoLog}
	}
	r := &Reading{Files: files}
	var d *dialect.Dialect
	var expected []proof.Expected
	var secrets, places []string
	dir := ""
	if opt.Server != "" {
		s, err := a.Server(opt.Server)
		if err != nil {
			return nil, err
		}
		look, err := a.look(s, survey.Take(s.input()))
		if err != nil {
			return nil, err
		}
		d, expected, secrets, dir, places = s.Dialect, Expect(look.Survey), look.Survey.Lineup.Secrets(), s.Record.Dir, unread(look.Survey, look.Findings)
	}
	switch {
	case opt.Dialect != "":
		entry, err := a.Dialect(opt.Dialect)
		if err != nil {
			return nil, err
		}
		d = entry.Dialect
	case d == nil:
		var err error
		if d, err = a.dialectOf(files[0], opt.In); err != nil {
			return nil, err
		}
	}
	r.Dialect = d.Name
	reader := proof.NewReader(d, dir, expected, opt.OnLine)
	reader.Unread, reader.Settle = places, time.Duration(d.Start.Settle)
	if slices.Contains(files, "-") {
		opt.In = await(ctx, opt.In)
	}
	reader.Secrets, reader.Notice, reader.Lonely, reader.Stamped = secrets, true, opt.Server == "", true
	files = oldestFirst(files)
	r.Files = files
	whole := files
	if opt.Follow {
		whole = files[:len(files)-1]
	}
	for _, name := range whole {
		if err := r.feed(ctx, reader, name, opt.In); err != nil {
			return nil, fmt.Errorf("read %s: %w", text.Clean(name), err)
		}
	}
	if opt.Follow {
		if err := r.follow(ctx, reader, files[len(files)-1]); err != nil {
			return nil, err
		}
	}
	reader.Flush()
	r.Weak = weakIn(reader)
	r.Proof, r.Remarks, r.Lines, r.Starts = reader.Judge(proof.End{}), reader.Remarks(), reader.Lines(), reader.Starts()
	if r.Lines > 0 && reader.Fitted() == 0 {
		r.Proof.Hint = fmt.Sprintf("no rule of the dialect %s fits any of its lines", d.Name)
	}
	reader.Explain(r.Proof)
	r.Proof.Server, r.Proof.Log = opt.Server, files[len(files)-1]
	return r, nil
}

func (r *Reading) feed(ctx context.Context, reader *proof.Reader, name string, in io.Reader) error {
	stream, err := archive.OpenStream(name, in)
	if err != nil {
		return err
	}
	defer stream.Close()
	n, err := reader.ReadFrom(stopping{ctx, stream})
	r.Bytes += n
	return err
}

// follow reads a log that still grows.
func (r *Reading) follow(ctx context.Context, reader *proof.Reader, name string) error {
	if name == "-" {
		return usage("the standard input is read to its end anyway; leave --follow out")
	}
	return host.FollowFile(ctx, name, func(chunk []byte) {
		r.Bytes += int64(len(chunk))
		reader.Feed(chunk, 0)
	}, reader.Flush)
}

// oldestFirst puts logs that were turned into the order in which they were written, by
// the first day that each of them states; if one states none they stay as they are
// named.
func oldestFirst(files []string) []string {
	type dated struct {
		name string
		at   time.Time
	}
	list := make([]dated, len(files))
	for i, name := range files {
		at, ok := firstMoment(name)
		if !ok {
			return files
		}
		list[i] = dated{name, at}
	}
	slices.SortStableFunc(list, func(a, b dated) int { return a.at.Compare(b.at) })
	sorted := make([]string, len(list))
	for i := range list {
		sorted[i] = list[i].name
	}
	return sorted
}

// firstMoment is the first time in a log that states a day.
func firstMoment(name string) (at time.Time, ok bool) {
	if name == "-" {
		return at, false
	}
	stream, err := archive.OpenStream(name, nil)
	if err != nil {
		return at, false
	}
	defer stream.Close()
	head := make([]byte, 64<<10)
	n, _ := io.ReadFull(stream, head) // what there is will do
	for line := range bytes.Lines(head[:n]) {
		start, end, found := proof.Opening(line)
		if !found {
			continue
		}
		if at, _, ok = proof.Moment(string(line[start:end]), ""); ok && at.Year() > 0 {
			return at, true
		}
	}
	return at, false
}

// stopping is a reader that ends with an error when the operator has enough.
type stopping struct {
	ctx context.Context
	io.Reader
}

func (s stopping) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.Reader.Read(b)
}

// awaited is the standard input, from which perhaps nothing ever comes: whoever waits for it
// can be stopped. What comes after that is lost, with the program.
type awaited struct {
	ctx  context.Context
	come <-chan chunk
	rest []byte
	err  error
}

type chunk struct {
	data []byte
	err  error
}

func await(ctx context.Context, in io.Reader) *awaited {
	come := make(chan chunk)
	go func() {
		for {
			buf := make([]byte, 64<<10)
			n, err := in.Read(buf)
			select {
			case come <- chunk{buf[:n], err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return &awaited{ctx: ctx, come: come}
}

func (a *awaited) Read(b []byte) (int, error) {
	for len(a.rest) == 0 {
		if a.err != nil {
			return 0, a.err
		}
		select {
		case c := <-a.come:
			a.rest, a.err = c.data, c.err
		case <-a.ctx.Done():
			return 0, a.ctx.Err()
		}
	}
	n := copy(b, a.rest)
	a.rest = a.rest[n:]
	return n, nil
}

// dialectOf finds the dialect that knows most of the first lines of a log.
func (a *App) dialectOf(name string, in io.Reader) (*dialect.Dialect, error) {
	const ask = "say whose it is with --dialect or --server"
	if name == "-" {
		return nil, usage("the standard input is read once only, so %s", ask)
	}
	stream, err := archive.OpenStream(name, in)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(name), err)
	}
	defer stream.Close()
	head, err := io.ReadAll(io.LimitReader(stream, 4<<20))
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(name), err)
	}
	entries, err := a.Dialects()
	if err != nil {
		return nil, err
	}
	var best *dialect.Dialect
	most := 0
	for _, e := range entries {
		if e.Err != nil {
			continue
		}
		known := 0
		r := proof.NewReader(e.Dialect, "", nil, func(l proof.Line) {
			if l.Means != "" {
				known++
			}
		})
		r.Feed(head, 0)
		if known > most {
			best, most = e.Dialect, known
		}
	}
	if best == nil {
		var names []string
		for _, e := range entries {
			names = append(names, e.Name)
		}
		return nil, usage("no dialect knows a line of %s; %s (%s), or make one from it (initium teach)", text.Clean(name), ask, strings.Join(names, ", "))
	}
	return best, nil
}
