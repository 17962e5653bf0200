package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"initium/internal/core/proof"
	"initium/internal/core/report"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Compare tells what differs between two starts of a server: by their numbers, 0
// for the newest, and for the one that was proved last before that.
func (a *App) Compare(ctx context.Context, name string, then, now int) (*proof.Comparison, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	later, err := a.startOf(name, now, func() (*proof.Proof, error) { return a.startBefore(name, 0, false) })
	if err != nil {
		return nil, err
	}
	earlier, err := a.startOf(name, then, func() (*proof.Proof, error) {
		p, err := a.startBefore(name, later.Number, true)
		if p == nil && err == nil {
			p, err = a.startBefore(name, later.Number, false)
		}
		return p, err
	})
	if err != nil {
		return nil, err
	}
	return a.compareStarts(ctx, s, earlier, later)
}

// CompareBase tells what differs between the newest start and the newest before it that was made without any mod and
// proved.
func (a *App) CompareBase(ctx context.Context, name string) (*proof.Comparison, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	later, err := a.startOf(name, 0, func() (*proof.Proof, error) { return a.startBefore(name, 0, false) })
	if err != nil {
		return nil, err
	}
	base, err := a.baseStart(name, later.Number)
	if err != nil {
		return nil, err
	}
	if base == nil {
		return nil, usage("%s was never started without any mod and proved before that; there is no base to compare with", name)
	}
	return a.compareStarts(ctx, s, base, later)
}

// startOf is the proof of a start by its number, or the one that is meant by 0.
func (a *App) startOf(name string, number int, usual func() (*proof.Proof, error)) (*proof.Proof, error) {
	if number == 0 {
		p, err := usual()
		if err == nil && p == nil {
			err = usage("%s has no such start to compare with; initium ledger %s lists them", name, name)
		}
		return p, err
	}
	p, err := a.Home.Start(name, number).Proof()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage("%s has no start %d; initium ledger %s lists them", name, number, name)
	}
	return p, err
}

func (a *App) compareStarts(ctx context.Context, s *Server, earlier, later *proof.Proof) (*proof.Comparison, error) {
	now := survey.Take(s.input())
	var known [2]proof.Known
	dropped := false
	for i, p := range []*proof.Proof{earlier, later} {
		r := proof.NewReader(s.Dialect, s.Record.Dir, Expect(now), nil)
		r.Secrets, r.Notice = now.Lineup.Secrets(), true
		log := host.OpenLog(p.Log)
		_, err := r.ReadFrom(io.LimitReader(stopping{ctx, log}, host.FirstPiece)) // which holds the start
		log.Close()
		if dropped = dropped || errors.Is(err, fs.ErrNotExist); err != nil && !dropped {
			return nil, fmt.Errorf("read the log of start %d: %w", p.Number, err)
		}
		r.Flush()
		known[i].Remarks = r.Remarks()
		known[i].Inventory, err = a.Home.Start(s.Record.Name, p.Number).Inventory()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	if dropped { // nothing can be told to be new beside a log that is not kept
		known[0].Remarks, known[1].Remarks = nil, nil
	}
	return proof.Compare(earlier, later, known[0], known[1]), nil
}

// Report is what can be told to others of a start: the newest, when number is 0.
func (a *App) Report(ctx context.Context, name string, number int) (*report.Report, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	p, err := a.startOf(name, number, func() (*proof.Proof, error) { return a.startBefore(name, 0, false) })
	if err != nil {
		return nil, err
	}
	r := &report.Report{Server: name, Family: s.Dialect.Title, Port: s.Vars["port"], Proof: p}
	if now := survey.Take(s.input()); ChangedSince(now, p) {
		r.Changed = since(now, p)
	}
	before, err := a.startBefore(name, p.Number, true)
	if err != nil || before == nil {
		return r, err
	}
	if r.Since, err = a.compareStarts(ctx, s, before, p); err != nil {
		return nil, err
	}
	entries, err := a.Ledger(name)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Number > 0 && before.Started != nil && p.Started != nil && e.At.After(*before.Started) && e.At.Before(*p.Started) {
			r.Changes = append(r.Changes, report.Change{At: e.At, Why: text.Clean(e.Why)})
		}
	}
	return r, nil
}

// ReportAll is what can be told to others of the last starts of several servers. One that was never started is told as
// that.
func (a *App) ReportAll(ctx context.Context, names []string) (*report.All, error) {
	all := &report.All{At: time.Now()}
	for _, name := range names {
		if last, _, err := a.LastStart(name); err != nil {
			return nil, err
		} else if last == nil {
			if _, err := a.Home.Record(name); err != nil {
				return nil, err
			}
			all.Without = append(all.Without, report.Without{Server: name, Why: "never started"})
			continue
		}
		r, err := a.Report(ctx, name, 0)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all.Reports = append(all.Reports, r)
	}
	return all, nil
}

// WriteReport writes a page for others, whole or not at all.
func WriteReport(file string, data []byte) error { return host.WriteExport(file, data) }
