package host

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/sqlscript"
)

// RunSQLite runs statements on a copy of a SQLite database, in one transaction, and returns what the file holds
// then, and the tables that were there before. Nothing but that copy is touched. The error names the line of the
// statement that failed; then nothing of it counts.
func RunSQLite(ctx context.Context, db []byte, run []sqlscript.Statement) (now []byte, tables []string, err error) {
	dir, err := os.MkdirTemp("", "initium-database-") // for the operator alone
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "copy.db")
	if err := os.WriteFile(name, db, 0o600); err != nil {
		return nil, nil, err
	}
	if tables, err = runOn(ctx, name, run); err != nil {
		return nil, nil, err
	}
	now, err = os.ReadFile(name)
	return now, tables, err
}

// runOn runs statements on a file, and leaves nothing beside it.
func runOn(ctx context.Context, name string, run []sqlscript.Statement) (tables []string, err error) {
	place := url.URL{Path: name}
	conn, err := sql.Open("sqlite", "file:"+place.EscapedPath()+"?_pragma=trusted_schema(0)")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, conn.Close()) }()
	conn.SetMaxOpenConns(1)
	if tables, err = tablesOf(ctx, conn); err != nil {
		return nil, fmt.Errorf("it is no SQLite database that can be read: %w", err)
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	for _, s := range run {
		if _, err := tx.ExecContext(ctx, s.Text); err != nil {
			return nil, fmt.Errorf("line %d: %s; nothing was changed", s.Line, strings.TrimPrefix(err.Error(), "SQL logic error: "))
		}
	}
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	var sound string
	if err := conn.QueryRowContext(ctx, `PRAGMA quick_check`).Scan(&sound); err != nil || sound != "ok" {
		return nil, fmt.Errorf("the database would not be sound any more (%s), so nothing was changed", sound)
	}
	var mode string // a log of writes beside the file would be lost
	if err := conn.QueryRowContext(ctx, `PRAGMA journal_mode`).Scan(&mode); err != nil {
		return nil, err
	}
	if strings.EqualFold(mode, "wal") {
		if _, err := conn.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
			return nil, err
		}
	}
	return tables, nil
}

func tablesOf(ctx context.Context, conn *sql.DB) (tables []string, err error) {
	rows, err := conn.QueryContext(ctx, `SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		tables = append(tables, name)
	}
	return slices.Clip(tables), rows.Err()
}
