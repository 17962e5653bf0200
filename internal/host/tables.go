package host

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/connection"
	"initium/internal/core/plan"
	"initium/internal/core/sqlscript"
	"initium/internal/core/text"
	"initium/internal/host/disk"
)

// Connector tells how a server reaches its database now. The error says why that is not known.
type Connector func(server string) (connection.Connection, error)

// Connects gives the ledger what it needs to change databases: how they are reached is never kept in it.
func (l *Ledger) Connects(c Connector) { l.connector = c }

// connect opens the database of a server, as long as it is the one at a place.
func (l *Ledger) connect(ctx context.Context, server, place string) (*Database, error) {
	if l.connector == nil {
		return nil, fmt.Errorf("%s: it is not known how it is reached", place)
	}
	c, err := l.connector(server)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place, err)
	}
	if c.Place() != place {
		return nil, fmt.Errorf("%s: the server uses another database by now, %s", place, c.Place())
	}
	return OpenDatabase(ctx, c)
}

// tablesStep changes what is in a database: it runs a script on it, or makes its tables again as they were. A
// database has no renames: what it held is in the ledger before anything is done, and is put back when something
// fails, or first of all when the entry is completed that was cut off.
type tablesStep struct {
	fileRow
	ledger *Ledger
	server string
	id     int64
	late   bool
	did    bool
	kept   string // the file in which it is kept what was found halfway, "" for none
	failed error  // why the script of an entry that was cut off could not be brought to its end
}

// open connects, and reads what the ledger has of the database.
func (s *tablesStep) open(ctx context.Context) (d *Database, was, want *sqlscript.Snapshot, err error) {
	if was, err = sqlscript.DecodeSnapshot(s.old); err == nil {
		want, err = sqlscript.DecodeSnapshot(s.new)
	}
	if err == nil {
		d, err = s.ledger.connect(ctx, s.server, s.path)
	}
	return d, was, want, err
}

// look reads of a database what a snapshot of it holds, and all that is new since.
func look(ctx context.Context, d *Database, like *sqlscript.Snapshot) (*sqlscript.Snapshot, error) {
	return d.Snapshot(ctx, like.Reads)
}

// Tables reads what a script could change on a database: the rows of the tables that it touches; of all, where those
// are not told for sure, or functions and triggers of the database may do anything. The error names what of it could
// not be put back.
func (d *Database) Tables(ctx context.Context, run []sqlscript.Statement, touched []string, sure bool) (*sqlscript.Snapshot, error) {
	made, err := d.Snapshot(ctx, func(string) bool { return false })
	if err != nil {
		return nil, err
	}
	is := func(name string) bool {
		return slices.ContainsFunc(touched, func(t string) bool { return strings.EqualFold(t, name) })
	}
	sure = sure && !slices.ContainsFunc(made.Things, func(t sqlscript.Thing) bool {
		return t.Kind == sqlscript.KindFunction || t.Kind == sqlscript.KindTrigger && is(t.Of)
	})
	wanted := func(name string) bool { return !sure || is(name) }
	named := func(name string) bool {
		return slices.ContainsFunc(run, func(s sqlscript.Statement) bool {
			return strings.Contains(strings.ToLower(s.Text), strings.ToLower(name))
		})
	}
	own, any, err := d.self(ctx)
	if err != nil {
		return nil, err
	}
	for i := range made.Things {
		t := &made.Things[i]
		by, at, has := t.Definer()
		if goes := t.Kind == sqlscript.KindTrigger && wanted(t.Of) || t.Kind != sqlscript.KindTrigger && named(t.Name); any || !has || !goes || by+"@"+at == own {
			continue
		}
		return nil, fmt.Errorf("the %s %s was made by %s, and %s could not put it back as it was; run the script by hand after a backup, or let him (GRANT SET USER)", t.Kind, text.Clean(t.Name), text.Clean(by+"@"+at), text.Clean(own))
	}
	return d.Snapshot(ctx, wanted)
}

// self is the user that the connection is for, and whether he may make things in the name of others.
func (d *Database) self(ctx context.Context) (user string, any bool, err error) {
	if err := d.conn.QueryRowContext(ctx, `SELECT current_user()`).Scan(&user); err != nil {
		return "", false, err
	}
	rows, err := d.conn.QueryContext(ctx, `SHOW GRANTS`)
	if err != nil {
		return "", false, err
	}
	defer rows.Close()
	for rows.Next() {
		var grant string
		if err := rows.Scan(&grant); err != nil {
			return "", false, err
		}
		if rights, _, all := strings.Cut(grant, " ON *.* TO "); all {
			any = any || slices.ContainsFunc([]string{"ALL PRIVILEGES", "SUPER", "SET USER", "SET_USER_ID", "SET_ANY_DEFINER"}, func(r string) bool { return strings.Contains(rights, r) })
		}
	}
	return user, any, rows.Err()
}

func (s *tablesStep) ready() error {
	d, _, _, err := s.open(context.Background())
	if err != nil {
		return err
	}
	return d.Close()
}

func (s *tablesStep) begun() (bool, error) {
	ctx := context.Background()
	d, was, want, err := s.open(ctx)
	if err != nil {
		return false, err
	}
	defer d.Close()
	like := want
	if want.Script != nil {
		like = was
	}
	now, err := look(ctx, d, like)
	if err != nil {
		return false, err
	}
	return !s.isOld(was, want, now), nil
}

// isOld tells whether a database is as the plan has found it. Before a script all that is there was written down,
// so that what is new there counts.
func (s *tablesStep) isOld(was, want, now *sqlscript.Snapshot) bool {
	if want.Script == nil {
		now = now.Like(want)
	}
	return was.Same(now)
}

func (s *tablesStep) do() error {
	ctx := context.Background()
	d, was, want, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer d.Close()
	if want.Script != nil {
		return s.run(ctx, d, was, want.Script)
	}
	now, err := look(ctx, d, want)
	if err != nil {
		return err
	}
	switch now = now.Like(want); {
	case now.Same(want):
		return nil
	case !was.Same(now) && !s.late:
		return s.stale()
	case !was.Same(now):
		if err := s.keep(now); err != nil {
			return err
		}
	}
	s.did = true
	return s.write(ctx, d, want)
}

// run runs a script, and writes down what has come of it.
func (s *tablesStep) run(ctx context.Context, d *Database, was *sqlscript.Snapshot, script []sqlscript.Statement) error {
	now, err := look(ctx, d, was)
	if err != nil {
		return err
	}
	if !was.Same(now) {
		if !s.late {
			return s.stale()
		}
		changed, half := sqlscript.Changed(was, now)
		if err := s.keep(half); err != nil {
			return err
		}
		if err := s.write(ctx, d, changed); err != nil {
			return err
		}
	}
	failed := d.Run(ctx, script)
	if now, err = look(ctx, d, was); err != nil {
		return errors.Join(failed, err)
	}
	before, after := sqlscript.Changed(was, now)
	if failed != nil {
		return s.back(ctx, d, before, after, failed)
	}
	s.did = true
	return s.note(before, after)
}

// note writes down what has come of a script.
func (s *tablesStep) note(before, after *sqlscript.Snapshot) error {
	s.old, s.new = before.Encode(), after.Encode()
	_, err := s.ledger.db.Exec(`UPDATE file SET old = ?, new = ? WHERE entry = ? AND path = ?`, s.old, s.new, s.id, s.path)
	return err
}

// back brings back what a script has changed that failed. Of an entry that was cut off nothing else could come, so that
// it counts as one that changes nothing here.
func (s *tablesStep) back(ctx context.Context, d *Database, before, after *sqlscript.Snapshot, failed error) error {
	if err := s.write(ctx, d, before); err != nil {
		s.did, s.old, s.new = true, before.Encode(), after.Encode() // undo tries once more, and says that it is not back
		return errors.Join(failed, err)
	}
	if !s.late {
		return failed
	}
	s.failed = failed
	return s.note(&sqlscript.Snapshot{}, &sqlscript.Snapshot{})
}

// write makes things as they are wanted, and looks that they are.
func (s *tablesStep) write(ctx context.Context, d *Database, want *sqlscript.Snapshot) error {
	if err := d.Write(ctx, want); err != nil {
		return fmt.Errorf("%s: %w; what it held is in the ledger", s.path, err)
	}
	now, err := look(ctx, d, want)
	if err == nil && !now.Like(want).Same(want) {
		err = fmt.Errorf("%s: the database does not keep what was in it to the letter; what it held is in the ledger", s.path)
	}
	return err
}

// keep writes down what is about to be written over, and is not in the ledger.
func (s *tablesStep) keep(now *sqlscript.Snapshot) error {
	s.kept = filepath.Join(s.ledger.home.serverDir(s.server), fmt.Sprintf("database-%d-%d.json", s.id, time.Now().UnixNano()))
	if err := os.WriteFile(s.kept, now.Encode(), 0o600); err != nil {
		return err
	}
	return disk.SyncDir(filepath.Dir(s.kept))
}

func (s *tablesStep) stale() error {
	return fmt.Errorf("change %s: %w; look at the plan again", s.path, ErrStale)
}

func (s *tablesStep) undo() error {
	if !s.did {
		return nil
	}
	ctx := context.Background()
	d, was, _, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer d.Close()
	return s.write(ctx, d, was)
}

func (s *tablesStep) drop() error { return nil }

// databaseBack is the plan that takes back what entries did to a database, the newest first, where nobody has
// changed those tables since.
func (l *Ledger) databaseBack(server, place string, rows []fileRow) (plan.File, error) {
	file := plan.File{Path: place}
	all := &sqlscript.Snapshot{}
	type change struct{ was, is *sqlscript.Snapshot }
	var list []change
	for _, r := range rows {
		was, err := sqlscript.DecodeSnapshot(r.old)
		if err != nil {
			return file, err
		}
		is, err := sqlscript.DecodeSnapshot(r.new)
		if err != nil {
			return file, err
		}
		list = append(list, change{was, is})
		for _, t := range was.Things {
			if all.Lacks(t) {
				all.Things = append(all.Things, sqlscript.Thing{Kind: t.Kind, Name: t.Name})
			}
		}
	}
	ctx := context.Background()
	d, err := l.connect(ctx, server, place)
	if err != nil {
		return file, err
	}
	defer d.Close()
	now, err := look(ctx, d, all)
	if err != nil {
		return file, err
	}
	now = now.Like(all)
	want := now
	for _, c := range list {
		if want, err = sqlscript.MergeSnapshots(c.is, c.was, want); err != nil {
			return file, fmt.Errorf("go back in %s: %w", place, err)
		}
	}
	file.Old, file.Want, file.About = now.Encode(), want.Encode(), sqlscript.Describe(now, want)
	return file, nil
}

// describe says what an entry has done to a database.
func describe(r *fileRow) []string {
	was, err := sqlscript.DecodeSnapshot(r.old)
	if err != nil {
		return []string{err.Error()}
	}
	is, err := sqlscript.DecodeSnapshot(r.new)
	if err != nil {
		return []string{err.Error()}
	}
	if said := sqlscript.Describe(was, is); said != nil {
		return said
	}
	return []string{"nothing in it has changed"}
}
