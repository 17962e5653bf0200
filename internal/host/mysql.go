package host

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"initium/internal/core/connection"
	"initium/internal/core/intake"
	"initium/internal/core/sqlscript"
	"initium/internal/core/text"
)

// Why a database cannot be used.
var (
	ErrDatabaseAway    = errors.New("the database server does not answer")
	ErrDatabaseRefused = errors.New("the database server does not let this user in")
	ErrDatabaseMissing = errors.New("there is no such database")
)

// Bounds of what is asked of a database.
const (
	databaseDial = 3 * time.Second
	databaseWait = 5 * time.Minute // for one answer
	maxTables    = 64 << 20        // bytes of the tables that are kept before a script touches them
)

// Database is one of MySQL or MariaDB, with one connection to it.
type Database struct {
	name string
	pool *sql.DB
	conn *sql.Conn
}

// OpenDatabase connects to a database. The error is ErrDatabaseAway, ErrDatabaseRefused or ErrDatabaseMissing, with
// what the server says; a password is never in it.
func OpenDatabase(ctx context.Context, c connection.Connection) (*Database, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = c.User, c.Password, c.Database
	config.Net, config.Addr = "tcp", net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
	if c.Socket != "" {
		config.Net, config.Addr = "unix", c.Socket
	} else if ip := net.ParseIP(c.Host); c.Host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		config.TLSConfig = "preferred"
	}
	config.Timeout, config.ReadTimeout, config.WriteTimeout = databaseDial, databaseWait, databaseWait
	config.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	d := &Database{name: c.Database, pool: sql.OpenDB(connector)}
	if d.conn, err = d.pool.Conn(ctx); err == nil {
		err = d.conn.PingContext(ctx)
	}
	if err != nil {
		return nil, errors.Join(whyNot(err, c), d.pool.Close())
	}
	return d, nil
}

// whyNot tells what kept somebody from a database.
func whyNot(err error, c connection.Connection) error {
	var said *mysql.MySQLError
	if !errors.As(err, &said) {
		return fmt.Errorf("%w (%s): %s", ErrDatabaseAway, c, text.Clean(err.Error()))
	}
	switch said.Number {
	case 1049:
		return fmt.Errorf("%w as %s (%s)", ErrDatabaseMissing, text.Clean(c.Database), c)
	case 1044, 1045, 1698, 1130, 3118:
		return fmt.Errorf("%w (%s): %s", ErrDatabaseRefused, c, text.Clean(said.Message))
	}
	return fmt.Errorf("%s: %s", c, text.Clean(said.Message))
}

// Close ends the connection.
func (d *Database) Close() error { return errors.Join(d.conn.Close(), d.pool.Close()) }

// quoteName writes a name as a statement has it.
func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// strict makes what is read and written independent of how the server is set up.
const strict = `SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone = '+00:00', foreign_key_checks = 0, unique_checks = 0`

// Snapshot reads what is in a database: how everything in it is made, and the rows of the tables that are wanted.
// The error says what is too large to be kept.
func (d *Database) Snapshot(ctx context.Context, wanted func(table string) bool) (*sqlscript.Snapshot, error) {
	if _, err := d.conn.ExecContext(ctx, strict); err != nil {
		return nil, err
	}
	tx, err := d.conn.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	s, r := &sqlscript.Snapshot{}, reading{ctx, tx}
	for _, list := range []struct {
		kind         sqlscript.Kind
		query, shows string
	}{
		{sqlscript.KindTable, `SELECT table_name, '' FROM information_schema.tables WHERE table_schema = database() AND table_type <> 'VIEW'`, "TABLE"},
		{sqlscript.KindView, `SELECT table_name, '' FROM information_schema.tables WHERE table_schema = database() AND table_type = 'VIEW'`, "VIEW"},
		{sqlscript.KindFunction, `SELECT routine_name, '' FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'FUNCTION'`, "FUNCTION"},
		{sqlscript.KindProcedure, `SELECT routine_name, '' FROM information_schema.routines WHERE routine_schema = database() AND routine_type = 'PROCEDURE'`, "PROCEDURE"},
		{sqlscript.KindTrigger, `SELECT trigger_name, event_object_table FROM information_schema.triggers WHERE trigger_schema = database()`, "TRIGGER"},
		{sqlscript.KindEvent, `SELECT event_name, '' FROM information_schema.events WHERE event_schema = database()`, "EVENT"},
	} {
		names, err := r.pairs(list.query)
		if err != nil {
			return nil, err
		}
		for _, n := range names {
			t := sqlscript.Thing{Kind: list.kind, Name: n[0], Of: n[1]}
			if t.Make, t.Mode, err = r.made(list.shows, t.Name); err != nil {
				return nil, err
			}
			s.Things = append(s.Things, t)
		}
	}
	left := int64(maxTables)
	for i := range s.Things {
		t := &s.Things[i]
		if t.Kind != sqlscript.KindTable || !wanted(t.Name) {
			continue
		}
		if err := r.rows(t, &left); err != nil {
			return nil, err
		}
	}
	s.Sort()
	return s, nil
}

// reading asks a database within one transaction.
type reading struct {
	ctx context.Context
	tx  *sql.Tx
}

func (r reading) pairs(query string) (list [][2]string, err error) {
	rows, err := r.tx.QueryContext(r.ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p [2]string
		if err := rows.Scan(&p[0], &p[1]); err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, rows.Err()
}

// made is the statement that makes a thing, and the mode of SQL that it was made in.
func (r reading) made(what, name string) (statement, mode string, err error) {
	rows, err := r.tx.QueryContext(r.ctx, "SHOW CREATE "+what+" "+quoteName(name))
	if err != nil {
		return "", "", err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return "", "", err
	}
	values := make([]sql.NullString, len(columns))
	into := make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return "", "", err
		}
	}
	for i, column := range columns {
		switch {
		case strings.HasPrefix(column, "Create ") || column == "SQL Original Statement":
			statement = values[i].String
		case column == "sql_mode":
			mode = values[i].String
		}
	}
	if statement == "" && rows.Err() == nil {
		return "", "", fmt.Errorf("the database does not tell this user how the %s %s is made, so that it could not be put back", strings.ToLower(what), text.Clean(name))
	}
	return statement, mode, rows.Err()
}

// rows reads the rows of a table, and takes their size off what is left.
func (r reading) rows(t *sqlscript.Thing, left *int64) error {
	columns, err := r.tx.QueryContext(r.ctx, `SELECT column_name, data_type FROM information_schema.columns
		WHERE table_schema = database() AND table_name = ? AND coalesce(generation_expression, '') = '' ORDER BY ordinal_position`, t.Name)
	if err != nil {
		return err
	}
	defer columns.Close()
	var read []string
	for columns.Next() {
		var name, kind string
		if err := columns.Scan(&name, &kind); err != nil {
			return err
		}
		t.Columns = append(t.Columns, name)
		expression := quoteName(name)
		if kind == "float" { // of which fewer digits are shown than it has
			expression += " + 0e0"
		}
		read = append(read, expression)
	}
	if err := errors.Join(columns.Err(), columns.Close()); err != nil || len(read) == 0 {
		return err
	}
	rows, err := r.tx.QueryContext(r.ctx, "SELECT "+strings.Join(read, ", ")+" FROM "+quoteName(t.Name))
	if err != nil {
		return err
	}
	defer rows.Close()
	into := make([]any, len(read))
	for rows.Next() {
		row := make([][]byte, len(read))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for _, value := range row {
			*left -= int64(len(value)) + 8
		}
		if *left < 0 {
			return fmt.Errorf("the tables hold more than %s, which is too much to be kept and put back; make a backup of the database with its own program, and run the script by hand", intake.Bytes(maxTables))
		}
		t.Rows = append(t.Rows, row)
	}
	return rows.Err()
}

// Run runs statements in one transaction, as far as the database can: what makes or changes tables ends one. The
// error names the line of the statement that failed.
func (d *Database) Run(ctx context.Context, run []sqlscript.Statement) error {
	begin := []sqlscript.Statement{{Text: `SET SESSION sql_mode = @@GLOBAL.sql_mode, time_zone = @@GLOBAL.time_zone, foreign_key_checks = 1, unique_checks = 1`}, {Text: "START TRANSACTION"}}
	for _, s := range slices.Concat(begin, run, []sqlscript.Statement{{Text: "COMMIT"}}) {
		if _, err := d.conn.ExecContext(ctx, s.Text); err != nil {
			var said *mysql.MySQLError
			if errors.As(err, &said) {
				err = errors.New(text.Clean(said.Message))
			}
			_, _ = d.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // the reason is what counts
			return fmt.Errorf("line %d: %w", s.Line, err)
		}
	}
	return nil
}

// Write makes the things that a snapshot names as it says, whatever they are now. A table of which it has not the rows
// is not touched, nor is anything else then: it would come back empty.
func (d *Database) Write(ctx context.Context, want *sqlscript.Snapshot) error {
	for i := range want.Things {
		if t := &want.Things[i]; t.Kind == sqlscript.KindTable && t.Make != "" && t.Columns == nil {
			return fmt.Errorf("the table %s has been changed by somebody else, and its rows were not kept, as nothing was to be done to it; bring that in order by hand", text.Clean(t.Name))
		}
	}
	if _, err := d.conn.ExecContext(ctx, strict); err != nil {
		return err
	}
	for _, t := range slices.Backward(want.Things) {
		what := strings.ToUpper(string(t.Kind))
		if _, err := d.conn.ExecContext(ctx, "DROP "+what+" IF EXISTS "+quoteName(t.Name)); err != nil {
			return err
		}
	}
	for i := range want.Things {
		t := &want.Things[i]
		if t.Make == "" {
			continue
		}
		if err := d.make(ctx, t); err != nil {
			return fmt.Errorf("the %s %s: %w", t.Kind, text.Clean(t.Name), err)
		}
	}
	return nil
}

// make makes a thing, with its rows.
func (d *Database) make(ctx context.Context, t *sqlscript.Thing) (err error) {
	if t.Mode != "" {
		if _, err := d.conn.ExecContext(ctx, "SET SESSION sql_mode = ?", t.Mode); err != nil {
			return err
		}
		defer func() {
			_, again := d.conn.ExecContext(ctx, strict)
			err = errors.Join(err, again)
		}()
	}
	if _, err := d.conn.ExecContext(ctx, t.Make); err != nil || len(t.Rows) == 0 {
		return err
	}
	tx, err := d.conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = quoteName(c)
	}
	insert, err := tx.PrepareContext(ctx, "INSERT INTO "+quoteName(t.Name)+" ("+strings.Join(names, ", ")+") VALUES (?"+strings.Repeat(", ?", len(names)-1)+")")
	if err != nil {
		return err
	}
	defer insert.Close()
	values := make([]any, len(names))
	for _, row := range t.Rows {
		for i, v := range row {
			if values[i] = any(nil); v != nil {
				values[i] = string(v)
			}
		}
		if _, err := insert.ExecContext(ctx, values...); err != nil {
			return err
		}
	}
	return tx.Commit()
}
