package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/connection"
	"initium/internal/core/sqlscript"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// errNoConnection is returned where nothing is said of how a database is reached.
var errNoConnection = errors.New("it is not said how the database is reached")

// connection is how a server reaches its database of MySQL or MariaDB, as its settings say it. Which of
// several values would count is known to the server alone: then it is not guessed.
func (s *Server) connection() (c connection.Connection, err error) {
	d := s.Dialect.Database
	now := survey.Take(s.input())
	all, err := s.setValues(now)
	if err != nil {
		return c, err
	}
	values := map[string]string{}
	for _, name := range []string{d.Setting, d.Host, d.Port, d.User, d.Password, d.Name} {
		list := all[name]
		if name == "" || len(list) == 0 {
			continue
		}
		if values[name] = list[0]; slices.ContainsFunc(list, func(v string) bool { return v != list[0] }) {
			return c, fmt.Errorf("%w: %s is set more than once, to different values", errNoConnection, name)
		}
	}
	if d.Setting != "" {
		value, ok := values[d.Setting]
		if !ok {
			return c, fmt.Errorf("%w: %s is set in no file of the server that is understood", errNoConnection, d.Setting)
		}
		if c, err = connection.Parse(value); err != nil {
			return c, fmt.Errorf("the setting %s: %w", d.Setting, err)
		}
		return c, nil
	}
	if _, ok := values[d.Name]; !ok {
		return c, fmt.Errorf("%w: %s is set in no file of the server that is understood", errNoConnection, d.Name)
	}
	return connection.Of(values[d.Host], values[d.Port], values[d.User], values[d.Password], values[d.Name])
}

// connection is how a server reaches its database: what the ledger asks when it changes that, or takes it back.
func (a *App) connection(server string) (c connection.Connection, err error) {
	record, err := a.Home.Record(server)
	if err != nil {
		return c, err
	}
	s, err := a.assembled(record, a.opened)
	if err != nil {
		return c, err
	}
	return s.connection()
}

// databasePlace is where the ledger has the database of a server; "" where that is not known.
func (s *Server) databasePlace() string {
	if sqlscript.Engine(s.Dialect.Database.Engine) == sqlscript.MySQL {
		c, err := s.connection()
		if err != nil {
			return ""
		}
		return c.Place()
	}
	file, _ := s.Vars.Expand(s.Dialect.Database.File)
	return file
}

// Database is the one that the server uses.
func (g *ground) Database() (name, place string, err error) {
	c, err := g.s.connection()
	return c.Database, c.Place(), err
}

// Tables are what is in that database.
func (g *ground) Tables(ctx context.Context, run []sqlscript.Statement, touched []string, sure bool) (*sqlscript.Snapshot, error) {
	c, err := g.s.connection()
	if err != nil {
		return nil, err
	}
	d, err := host.OpenDatabase(ctx, c)
	if err != nil {
		return nil, err
	}
	held, err := d.Tables(ctx, run, touched, sure)
	return held, errors.Join(err, d.Close())
}

// answered is what came of asking a database, and when.
type answered struct {
	at  time.Time
	err error
}

// asksAgain is how long an answer holds: whoever looks at the board asks all the time.
const asksAgain = 20 * time.Second

// databaseFacts tells whether the server's database can be used; nil where it has none, or a file.
func (a *App) databaseFacts(s *Server) *check.Database {
	if sqlscript.Engine(s.Dialect.Database.Engine) != sqlscript.MySQL {
		return nil
	}
	c, err := s.connection()
	if err != nil {
		return &check.Database{State: check.DatabaseUnset, Said: text.Clean(err.Error())}
	}
	a.mu.Lock()
	known, ok := a.databases[c]
	a.mu.Unlock()
	if !ok || time.Since(known.at) > asksAgain {
		known = answered{at: time.Now(), err: reaches(c)}
		a.mu.Lock()
		if a.databases == nil {
			a.databases = map[connection.Connection]answered{}
		}
		a.databases[c] = known
		a.mu.Unlock()
	}
	f := &check.Database{State: check.DatabaseReached, Place: c.Place()}
	switch {
	case known.err == nil:
		return f
	case errors.Is(known.err, host.ErrDatabaseMissing):
		f.State = check.DatabaseMissing
	case errors.Is(known.err, host.ErrDatabaseRefused):
		f.State = check.DatabaseRefused
	default:
		f.State = check.DatabaseAway
	}
	f.Said = text.Clean(known.err.Error())
	return f
}

// reaches asks a database whether it answers.
func reaches(c connection.Connection) error {
	d, err := host.OpenDatabase(context.Background(), c)
	if err != nil {
		return err
	}
	return d.Close()
}
