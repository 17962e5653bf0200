package host

import (
	"encoding/json"
	"errors"
	"fmt"

	"initium/internal/core/expect"
)

// Expectations lists what the operator expects of every start of a server.
func (l *Ledger) Expectations(server string) (list []expect.Expectation, err error) {
	rows, err := l.db.Query(`SELECT id, data FROM expectation WHERE server = ? ORDER BY id`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var e expect.Expectation
		var number int64
		var data []byte
		if err := rows.Scan(&number, &data); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(data, &e); err != nil {
			return nil, fmt.Errorf("expectation %d of %s: %w", number, server, err)
		}
		e.Number = number
		list = append(list, e)
	}
	return list, rows.Err()
}

// PutExpectation writes an expectation down. One that is there already gets the new reason.
func (l *Ledger) PutExpectation(server string, e expect.Expectation) error {
	if err := e.Check(); err != nil {
		return err
	}
	list, err := l.Expectations(server)
	if err != nil {
		return err
	}
	var number any // of a new one
	for _, other := range list {
		if other.Same(e) {
			number = other.Number
		}
	}
	e.Number = 0
	data, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = l.db.Exec(`INSERT OR REPLACE INTO expectation VALUES (?, ?, ?)`, number, server, data)
	return err
}

// ErrNoExpectation is returned for the number of an expectation that is not there.
var ErrNoExpectation = errors.New("there is no expectation")

// DropExpectation takes an expectation back.
func (l *Ledger) DropExpectation(server string, number int64) error {
	result, err := l.db.Exec(`DELETE FROM expectation WHERE id = ? AND server = ?`, number, server)
	if err != nil {
		return err
	}
	n, err := result.RowsAffected()
	if err == nil && n == 0 {
		err = fmt.Errorf("%w %d of %s", ErrNoExpectation, number, server)
	}
	return err
}
