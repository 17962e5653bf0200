package host

import (
	"database/sql"
	"maps"
	"slices"

	"initium/internal/core/plan"
)

// givenSchema keeps which values of a server the operator has changed since he adopted
// it; "" stands for none of his.
const givenSchema = `
CREATE TABLE IF NOT EXISTS entry_given (
	entry INTEGER NOT NULL,
	name  TEXT NOT NULL,
	was   TEXT NOT NULL,
	now   TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS entry_given_entry ON entry_given (entry);`

// Given are the values that the operator has given for a server: those of its adoption,
// as the entries since have changed them.
func (l *Ledger) Given(server string, adopted map[string]string) (map[string]string, error) {
	values := maps.Clone(adopted)
	if values == nil {
		values = map[string]string{}
	}
	err := l.each(func(rows *sql.Rows) error {
		var name, now string
		if err := rows.Scan(&name, &now); err != nil {
			return err
		}
		if now == "" {
			delete(values, name)
		} else {
			values[name] = now
		}
		return nil
	}, `SELECT name, now FROM entry_given JOIN entry ON entry.id = entry_given.entry WHERE entry.server = ? AND entry.state = 'done' ORDER BY entry_given.rowid`, server)
	return values, err
}

// beginGiven notes the values that an entry changes.
func beginGiven(tx *sql.Tx, id int64, p *plan.Plan) error {
	for _, g := range p.Given {
		if _, err := tx.Exec(`INSERT INTO entry_given VALUES (?, ?, ?, ?)`, id, g.Name, g.Was, g.Now); err != nil {
			return err
		}
	}
	return nil
}

// givenOf adds to a plan the values that an entry has changed.
func (l *Ledger) givenOf(p *plan.Plan, e Entry) error {
	return l.each(func(rows *sql.Rows) error {
		var g plan.Given
		err := rows.Scan(&g.Name, &g.Was, &g.Now)
		p.Given = append(p.Given, g)
		return err
	}, `SELECT name, was, now FROM entry_given WHERE entry = ? ORDER BY rowid`, e.id)
}

// givenBack adds to a plan what takes back the values that entries have changed; entries
// come the oldest first.
func (l *Ledger) givenBack(p *plan.Plan, entries []Entry) error {
	first, last := map[string]string{}, map[string]string{}
	for _, e := range entries {
		err := l.each(func(rows *sql.Rows) error {
			var name, was, now string
			if err := rows.Scan(&name, &was, &now); err != nil {
				return err
			}
			if _, ok := first[name]; !ok {
				first[name] = was
			}
			last[name] = now
			return nil
		}, `SELECT name, was, now FROM entry_given WHERE entry = ? ORDER BY rowid`, e.id)
		if err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(first)) {
		if first[name] != last[name] {
			p.Given = append(p.Given, plan.Given{Name: name, Was: last[name], Now: first[name]})
		}
	}
	return nil
}
