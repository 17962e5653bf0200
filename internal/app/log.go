package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"initium/internal/core/proof"
	"initium/internal/core/text"
	"initium/internal/host"
)

// ReadLog reads the kept log of a start by the server's dialect and hands its lines
// out in batches, with what is known of the mods that they speak of, until it is told
// that this is enough.
func (a *App) ReadLog(look *Look, number int, lines func([]proof.Line) (enough bool)) error {
	s := look.Server
	dir := a.Home.Start(s.Record.Name, number)
	var fresh []proof.Line
	mods := Expect(look.Survey)
	if e, err := dir.Expected(); err == nil {
		mods = e.Mods
	}
	r := proof.NewReader(s.Dialect, s.Vars["dir"], mods, func(l proof.Line) { fresh = append(fresh, l) })
	r.Secrets, r.Notice, r.Sole = look.Survey.Lineup.Secrets(), true, true
	if dir.LogDropped() {
		return usage("the log of start %d is not kept any more, for it was old and there were many; its proof is (initium ledger %s)", number, s.Record.Name)
	}
	log := host.OpenLog(dir.Log())
	defer log.Close()
	buf := make([]byte, 64<<10)
	for {
		n, err := log.Read(buf)
		r.Feed(buf[:n], 0)
		if err == io.EOF {
			r.Flush()
		}
		enough := lines(fresh)
		fresh = fresh[:0]
		if enough || err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// LogOptions say what of a log is wanted.
type LogOptions struct {
	Start   int    // its number, 0 for the newest
	Follow  bool   // what is yet to come too
	Mod     string // only lines about this mod; "" for all
	Trouble bool   // only lines that tell of trouble
}

// Log hands out the lines of a start's log, with the numbers that they keep.
func (a *App) Log(ctx context.Context, name string, opt LogOptions, line func(proof.Line)) error {
	wanted := func(list []proof.Line) bool {
		for _, l := range list {
			if l.Fits(opt.Mod, opt.Trouble) {
				line(l)
			}
		}
		return ctx.Err() != nil
	}
	if opt.Follow && opt.Start == 0 {
		return a.Follow(ctx, name, FollowOptions{OnStep: func(s Step) { wanted(s.New) }})
	}
	look, err := a.Look(name)
	if err != nil {
		return err
	}
	number := opt.Start
	if number == 0 {
		state, err := a.Home.State(name)
		if err != nil {
			return err
		}
		number = state.Number
	}
	_, begun := a.Home.Start(name, number).Running()
	if _, err := os.Stat(a.Home.Start(name, number).Log()); begun != nil && err != nil { // that of one that was handed in is all there is
		return usage("%s has no start %d; initium ledger %s lists them", name, number, name)
	}
	return a.ReadLog(look, number, wanted)
}

// Guard says how many crashes in a row a server is started again after, 0 for none;
// at once, when it runs.
func (a *App) Guard(name string, times int) error {
	record, err := a.Home.Record(name)
	if err != nil {
		return err
	}
	if record.Service != "" && times > 0 {
		return usage("%s is a service, and systemd starts it again after a crash; take it back first (initium service %s --off)", name, name)
	}
	record.Guard = times
	if err := a.Home.PutRecord(record); err != nil {
		return err
	}
	state, err := a.Home.State(name)
	if err != nil || !state.Up || state.Lost != nil {
		return err
	}
	return state.Start.Guard(times)
}

// Keep starts a server and owns it in this process until it has ended: what a
// service of the machine runs. The error says why it could not be started; ok is
// false when it crashed.
func (a *App) Keep(name string) (ok bool, err error) {
	look, err := a.ready(name)
	if err != nil {
		return false, err
	}
	dir, handed := a.Home.Handed(name)
	if !handed {
		if dir, _, err = a.prepare(look, ProveOptions{}); err != nil {
			return false, err
		}
	}
	if err := a.Close(); err != nil { // others work with it while the server runs
		return false, err
	}
	if err := host.Keep(dir); err != nil {
		return false, fmt.Errorf("start %s: %w", name, err)
	}
	exit, ended := dir.Exit()
	if !ended {
		return false, errors.New("how the server ended was not written down")
	}
	return exit.Status == 0 || exit.How == host.EndedStop, nil
}

// KnownTrouble is what the start that was proved last said of trouble: its lines, by
// proof.Alike; of those before the one with a number, or of all when that is 0. It is
// nil when there is none.
func (a *App) KnownTrouble(look *Look, before int) (map[string]bool, error) {
	proved, err := a.startBefore(look.Server.Record.Name, before, true)
	if err != nil || proved == nil {
		return nil, err
	}
	known := map[string]bool{}
	read := 0
	err = a.ReadLog(look, proved.Number, func(lines []proof.Line) bool {
		for i := range lines {
			if read += len(lines[i].Text); lines[i].Trouble() {
				known[proof.Alike(text.Clean(lines[i].Text))] = true
			}
		}
		return read > host.FirstPiece
	})
	return known, err
}

// Current is the number of the start that runs, 0 when none does.
func (a *App) Current(name string) int {
	state, err := a.Home.State(name)
	if err != nil || !state.Up {
		return 0
	}
	return state.Number
}
