package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"initium/internal/core/expect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Step is where a start stands.
type Step struct {
	Number    int // of the start
	Elapsed   time.Duration
	Limit     time.Duration // for becoming ready
	Quiet     time.Duration // since the last line
	Ready     bool
	Settling  bool // ready, and watched a little longer
	Asking    bool // the server is asked on its console
	Stopping  bool // judged, and being stopped
	Status    proof.Status
	New       []proof.Line // since the last step
	Elsewhere string       // a file that grows while nothing is printed, "" for none
	SoFar     *proof.Proof // as it would be judged now; nil when nothing is new
	Judged    *proof.Proof // the proof, in the step after it was made
	Exit      *host.Exit   // how the server ended; nil while it runs
	There     *There       // of a start that is made elsewhere; else nil
}

// stepEvery is how often somebody who watches is told of the time, when nothing
// else is new.
const stepEvery = 200 * time.Millisecond

// following reads the log of one start from its first line on.
type following struct {
	a        *App
	server   *Server
	dir      host.StartDir
	number   int
	began    time.Time
	expected host.Expected
	reader   *proof.Reader
	follower *host.Follower
	fresh    []proof.Line
	heard    time.Time // when the last line came
	onStep   func(Step)
	unheard  string      // why the server could not be asked on its console
	later    []proof.Mod // that were looked at

	hearing string              // what was typed on its console and is answered now, "" for nothing
	replies map[string][]string // what it answered, for the operator's expectations
	before  *proof.Proof        // how it was judged before, when it is judged once more

	there     func() There // where it stands, of a start that is made elsewhere; nil where it is made here
	elsewhere []string     // files that look like its log, when nothing is printed
	looked    bool         // for these
	release   func()       // gives the right to judge it back; may be nil
	listening time.Time    // since when it is known to listen on the port that shows it to be ready
}

// follow begins to read the log of a start. onStep may be nil.
func (a *App) follow(s *Server, dir host.StartDir, number int, onStep func(Step)) (*following, error) {
	f := &following{a: a, server: s, dir: dir, number: number, began: time.Now(), heard: time.Now(), onStep: onStep}
	var err error
	if f.expected, err = dir.Expected(); err != nil {
		return nil, fmt.Errorf("read what start %d is judged by: %w", number, err)
	}
	if age, ok := dir.Age(); ok && age > time.Second {
		f.began = f.began.Add(-age)
	}
	now := survey.Take(s.input())
	f.reader = proof.NewReader(s.Dialect, s.Vars["dir"], withLater(f.expected.Mods, now), func(l proof.Line) {
		f.fresh = append(f.fresh, l)
		if f.hearing != "" {
			f.replies[f.hearing] = append(f.replies[f.hearing], text.Clean(l.Text))
		}
	})
	if len(f.expected.Own) > 0 {
		f.reader.Expect = expect.NewWatch(f.expected.Own)
	}
	f.reader.Secrets = now.Lineup.Secrets()
	f.reader.Facts, f.reader.MayDiffer = s.facts(now)
	f.reader.Notice, f.reader.Sole, f.reader.Unread, f.reader.Gone = true, true, f.expected.Unread, f.expected.Gone
	f.follower = dir.Follow()
	return f, nil
}

// withLater adds to the mods that a start is judged by those that have come since: they may load
// while the server runs.
func withLater(expected []proof.Expected, now *survey.Survey) []proof.Expected {
	known := make(map[string]bool, len(expected))
	for i := range expected {
		known[expected[i].Name] = true
	}
	list := slices.Clip(expected)
	for _, e := range Expect(now) {
		if !known[e.Name] {
			e.Registered, e.Always = false, false
			list = append(list, e)
		}
	}
	return list
}

// facts are what the server is started with and should say of itself; and what of that it may
// say otherwise.
func (s *Server) facts(now *survey.Survey) (facts map[string]string, mayDiffer map[string]bool) {
	facts, mayDiffer = map[string]string{}, map[string]bool{}
	if port := s.Dialect.Given("port"); port != nil {
		facts["port"] = s.Vars["port"]
		mayDiffer["port"] = port.From == nil && !s.Dialect.Start.Names("port") // the server may have it from elsewhere
	}
	for i := range s.Dialect.Givens {
		if g := &s.Dialect.Givens[i]; g.Told != "" {
			facts[g.Told], mayDiffer[g.Told] = s.Vars[g.Name], g.MayDiffer
		}
	}
	for i := range s.Dialect.Values {
		v := &s.Dialect.Values[i]
		if v.Told == "" {
			continue
		}
		if set, ok := now.Lineup.Setting(v.Registration, v.Name); ok {
			facts[v.Told], mayDiffer[v.Told] = set.Value, v.MayDiffer
		}
	}
	return facts, mayDiffer
}

func (f *following) close() {
	f.follower.Close()
	if f.release != nil {
		f.release()
	}
}

// next reads what is new in the log; more tells that there is more of it.
func (f *following) next() (more bool, err error) {
	more, err = f.follower.Next(f.reader.Feed)
	if err != nil {
		return false, fmt.Errorf("follow the log: %w", err)
	}
	if len(f.fresh) > 0 {
		f.heard = time.Now()
	}
	if _, ready := f.reader.Ready(); !ready && !more && f.server.Dialect.Start.Listens != "" {
		if at, ok := f.dir.Listens(); ok && f.answers() {
			if !f.listening.IsZero() { // it may have been asked for a while
				at = max(at, time.Since(f.began))
			}
			f.reader.Listens(at)
		}
	}
	return more, nil
}

// rest reads all that is in the log by now.
func (f *following) rest(ctx context.Context) error {
	for more := true; more && ctx.Err() == nil; {
		var err error
		if more, err = f.next(); err != nil {
			return err
		}
		f.step(Step{})
	}
	return nil
}

// step tells the caller where the start stands.
func (f *following) step(s Step) {
	defer func() { f.fresh = f.fresh[:0] }()
	if f.onStep == nil {
		return
	}
	if f.there != nil {
		there := f.there()
		s.There = &there
	}
	s.Number, s.Elapsed, s.Limit, s.Quiet = f.number, time.Since(f.began), f.expected.Within, time.Since(f.heard)
	_, s.Ready = f.reader.Ready()
	s.Status, s.New = f.reader.Status(), slices.Clone(f.fresh)
	if len(f.elsewhere) > 0 && f.reader.Lines() == 0 {
		s.Elsewhere = text.Clean(strings.TrimPrefix(f.elsewhere[0], f.server.Record.Dir+"/"))
	}
	if len(s.New) > 0 && s.Judged == nil {
		s.SoFar = f.reader.Judge(proof.End{})
	}
	f.onStep(s)
}

// untilJudged follows a start until it can be judged.
func (f *following) untilJudged(ctx context.Context) (proof.End, error) {
	var readySeen time.Time
	for looked := time.Now(); ; {
		since := time.Since(looked)
		looked = looked.Add(since)
		if f.there != nil && f.there().Down != "" {
			f.began = f.began.Add(since) // what it does meanwhile is not seen, and may be in time
		}
		// Whether the server has ended is asked first: all that it said is in the
		// log by then.
		exit, ended := f.dir.Exit()
		more, err := f.next()
		if err != nil {
			return proof.End{}, err
		}
		readyAt, ready := f.reader.Ready()
		up := time.Since(f.began) - readyAt
		if ended {
			up = exit.Lasted - readyAt
		}
		if f.there != nil { // its log may say other times than those at which it came
			if ready && readySeen.IsZero() {
				readySeen = time.Now()
			}
			up = time.Since(readySeen)
		}
		if !f.looked && f.reader.Lines() == 0 && time.Since(f.began) > speechless {
			f.looked = true
			f.findLogs()
		}
		f.step(Step{Settling: ready})
		left := f.expected.Within - time.Since(f.began)
		if ready {
			left = f.expected.Settle - up
		}
		switch {
		case more && ctx.Err() == nil:
			continue
		case ended && exit.How == host.EndedNever:
			return proof.End{}, fmt.Errorf("start %d was not made: %s", f.number, text.Clean(exit.Error))
		case ended && ready && left <= 0: // it was up for long enough, though nobody looked
			return proof.End{}, nil
		case ended:
			f.reader.Flush()
			if exit.How == host.EndedStop || exit.How == host.EndedKill {
				return proof.End{Stopped: true}, nil
			}
			return proof.End{Exit: &exit.Status}, nil
		case ctx.Err() != nil:
			return proof.End{Stopped: true}, nil
		case ready && left <= 0:
			return proof.End{}, f.ask(ctx)
		case left <= 0:
			return proof.End{Limit: f.expected.Within}, nil
		}
		f.follower.Wait(ctx, min(left, stepEvery))
	}
}

// ask types what makes the server list its mods and say what it is, and reads the
// reply.
func (f *following) ask(ctx context.Context) error {
	if k := &f.server.Dialect.Console; f.there != nil {
		if k.List == "" && k.Status == "" {
			return nil
		}
		f.unheard = "its console is at " + f.there().Host
		return nil
	}
	k := &f.server.Dialect.Console
	for _, words := range []string{k.List, k.Status} {
		if words == "" {
			continue
		}
		f.reader.Ask(true)
		err := f.dir.Say(words)
		if err == nil {
			err = f.reply(ctx, time.Duration(k.Within))
		}
		if err == nil && !f.reader.Whole() {
			err = fmt.Errorf("its reply to %q did not come to an end within %s", words, time.Duration(k.Within))
		}
		f.reader.Ask(false)
		if err != nil && ctx.Err() == nil {
			f.unheard = text.Clean(err.Error())
		}
	}
	f.probeLoaded(ctx)
	return f.askExpected(ctx)
}

// How long a reply on the console is waited for: until it has been quiet for a
// while, and no longer than the dialect says.
const replyQuiet = 400 * time.Millisecond

// reply reads a reply on the console.
func (f *following) reply(ctx context.Context, limit time.Duration) error {
	before := f.reader.Lines()
	for asked := time.Now(); time.Since(asked) < limit && ctx.Err() == nil; f.follower.Wait(ctx, replyQuiet/4) {
		_, ended := f.dir.Exit()
		if _, err := f.next(); err != nil {
			return err
		}
		quiet := time.Since(f.heard)
		f.step(Step{Asking: true})
		if ended || f.reader.Answered() || f.reader.Lines() > before && quiet > replyQuiet {
			break
		}
	}
	return nil
}

// judge gives the proof of what was followed.
func (f *following) judge(end proof.End) *proof.Proof {
	var made, owed []proof.Made
	for _, absent := range f.expected.Absent {
		m := proof.Made{Mod: text.Clean(absent.Mod), Path: text.Clean(absent.Path)}
		if info, err := theirs.Stat(absent.Path); err == nil {
			f.reader.Appeared(absent.Mod, absent.Path, max(info.ModTime().Sub(f.began), 0))
			made = append(made, m)
		} else {
			owed = append(owed, m)
		}
	}
	if f.reader.Expect != nil {
		_, ready := f.reader.Ready()
		f.settle(ready && end.Exit == nil && !end.Stopped)
	}
	p := f.reader.Judge(end)
	f.reader.End(p.Lines)
	p.Made, p.Unheard, p.Speechless = made, f.unheard, f.reader.Lines() == 0
	if p.Verdict != proof.Proved {
		p.Hint = f.hint()
		f.reader.Explain(p)
	}
	for _, m := range owed { // not every mod makes something; of one that says nothing on a server that is up it is worth telling
		if judged := p.Find(m.Mod); judged != nil && judged.Outcome == proof.Silent && p.Ready && p.Exit == nil {
			p.Unmade = append(p.Unmade, m)
		}
	}
	began := f.began
	if running, err := f.dir.Running(); err == nil {
		began = running.Started
	}
	p.Server, p.Number, p.Log, p.Started = f.server.Record.Name, f.number, f.dir.Log(), &began
	for i, m := range f.expected.Mods {
		if judged := p.Find(m.Name); judged != nil && i < len(f.expected.Foretold) {
			judged.Foretold = f.expected.Foretold[i]
		}
	}
	return p
}

// judgePatience is how long the judgement of another is waited for once the server has
// ended.
const judgePatience = 5 * time.Second

// FollowOptions say how a server is watched.
type FollowOptions struct {
	Look   *Look      // the server as it was when it was started, where that is known
	OnStep func(Step) // called from the caller's goroutine whenever something is new
}

// Follow watches the newest start of a server from its first line, however many
// others do, until the server has ended for good or ctx ends; that stops nothing.
// A start that nobody has judged yet is judged as soon as it can be. When the
// keeper starts the server again, that start is followed next.
func (a *App) Follow(ctx context.Context, name string, opt FollowOptions) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	state, err := a.Home.State(name)
	if err != nil {
		return err
	}
	if state.Start == "" {
		return usage("%s was never started here; initium prove %s starts it", name, name)
	}
	for dir, number := state.Start, state.Number; ; {
		next, err := a.followOne(ctx, s, dir, number, opt)
		opt.Look = nil
		if err != nil || next == 0 || ctx.Err() != nil {
			return err
		}
		dir, number = a.Home.Start(name, next), next
	}
}

// followOne watches one start; next is the number of the one that comes after it.
func (a *App) followOne(ctx context.Context, s *Server, dir host.StartDir, number int, opt FollowOptions) (next int, err error) {
	f, err := a.follow(s, dir, number, opt.OnStep)
	if err != nil {
		return 0, err
	}
	defer f.close()
	if p, err := dir.Proof(); err == nil && !p.Speechless {
		f.reader.End(p.Lines)
	}
	if err := f.rest(ctx); err != nil {
		return 0, err
	}
	if left, err := a.judgement(ctx, f, opt.Look); err != nil || left {
		return 0, err
	}
	for {
		exit, ended := dir.Exit()
		if err := f.rest(ctx); err != nil {
			return 0, err
		}
		if p, err := f.keepLater(); err != nil {
			return 0, err
		} else if p != nil {
			f.step(Step{Judged: p})
		}
		if ended {
			if err := a.judgeAtEnd(ctx, f, exit); err != nil {
				return 0, err
			}
			f.step(Step{Exit: &exit})
			if exit.Again == nil || exit.Next > 0 {
				return exit.Next, nil
			}
		}
		if ctx.Err() != nil {
			return 0, nil
		}
		f.follower.Wait(ctx, stepEvery)
	}
}

// keepLater keeps what has come of mods since the start was judged with its proof, which it
// returns where that is new; what was loaded anew on purpose is told as that.
func (f *following) keepLater() (*proof.Proof, error) {
	later := f.reader.Later()
	if len(later) == 0 || slices.EqualFunc(later, f.later, sameLater) {
		return nil, nil
	}
	f.later = later
	p, err := f.dir.Proof()
	if err != nil {
		return nil, nil // not judged, so it is all of the start
	}
	purpose := map[int]bool{}
	for _, r := range p.Reloads {
		for _, e := range r.Mod.Evidence {
			purpose[e.Line] = true
		}
	}
	later = slices.DeleteFunc(later, func(m proof.Mod) bool {
		return !slices.ContainsFunc(m.Evidence, func(e proof.Evidence) bool { return !purpose[e.Line] })
	})
	if slices.EqualFunc(later, p.Later, sameLater) {
		return nil, nil
	}
	p.Later = later
	return p, f.dir.PutProof(p)
}

// sameLater tells whether nothing more was said of a mod.
func sameLater(a, b proof.Mod) bool {
	return a.Name == b.Name && a.Outcome == b.Outcome && a.Reason == b.Reason && len(a.Evidence) == len(b.Evidence)
}

// judgeAtEnd judges a start once more that was stopped, and tells what comes of it.
func (a *App) judgeAtEnd(ctx context.Context, f *following, exit host.Exit) error {
	p, err := f.dir.Proof()
	if err != nil || exit.How != host.EndedStop && exit.How != host.EndedKill {
		return nil // it was never judged, or all that it said was in the log by then
	}
	again, err := a.judgeAgain(ctx, f, p, exit.Lasted-time.Duration(f.server.Dialect.Stop.Patience))
	if again != p {
		err = errors.Join(err, a.putProof(nil, again, f.dir))
		f.step(Step{Judged: again})
	}
	return err
}

// judgeAgain judges a start once more whose server has been stopped since: there are servers
// that write their log only then. The proof is the one before where nothing is known that was
// not; another is the caller's to keep. What the server said before asked, when it may have been told to
// stop, is of the start only as far as it was known when that was judged.
func (a *App) judgeAgain(ctx context.Context, old *following, before *proof.Proof, asked time.Duration) (*proof.Proof, error) {
	owed := unspoken(before)
	if before.Verdict == proof.Proved || before.Exit != nil || owed == 0 && before.Ready {
		return before, nil
	}
	f, err := a.follow(old.server, old.dir, old.number, nil) // from the first line on
	if err != nil {
		return before, err
	}
	defer f.close()
	f.unheard, f.before = old.unheard, before
	if !before.Speechless {
		f.reader.End(before.Lines)
		f.reader.Reopen(asked)
	}
	if err := f.rest(ctx); err != nil {
		return before, err
	}
	f.reader.Flush()
	switch _, ready := f.reader.Ready(); {
	case !ready && before.Ready:
		return before, nil
	case ready && !before.Ready && !before.Speechless: // it may have become so while it was being stopped
		return before, nil
	}
	end := proof.End{}
	if _, ready := f.reader.Ready(); !ready {
		end.Limit = f.expected.Within
	}
	p := f.judge(end)
	left := unspoken(p)
	if left >= owed && p.Ready == before.Ready {
		return before, nil
	}
	mods := "one mod"
	if n := owed - left; n != 1 {
		mods = fmt.Sprintf("%d mods", n)
	}
	p.Again = "judged once more after the stop: only since then the log says what came of " + mods
	if p.Ready && !before.Ready {
		p.Again += ", and that the server was ready"
		p.ReadyAfterMS = 0 // when it was is not known
	}
	p.Reloads, p.Later, p.Lines = before.Reloads, before.Later, before.Lines
	return p, nil
}

// unspoken counts the registered mods that a proof knows nothing of.
func unspoken(p *proof.Proof) (n int) {
	for i := range p.Mods {
		if m := &p.Mods[i]; m.Registered && m.Outcome == proof.Silent {
			n++
		}
	}
	return n
}

// judgement waits for the judgement of a start and tells it, and judges the start itself
// where nobody else does. left is true when ctx ended before: whoever looks next will
// judge it.
func (a *App) judgement(ctx context.Context, f *following, look *Look) (left bool, err error) {
	for patience := judgePatience; ; {
		if p, err := f.dir.Proof(); err == nil {
			if !p.Speechless {
				f.reader.End(p.Lines)
			}
			f.step(Step{Judged: p})
			return false, nil
		}
		release, mine := f.dir.Judge()
		if mine {
			left, err := a.judgeNow(ctx, f, look)
			release()
			if err != nil || left {
				return left, err
			}
			continue
		}
		if _, ended := f.dir.Exit(); ended {
			patience -= stepEvery
		}
		if ctx.Err() != nil || patience < 0 {
			return false, nil
		}
		f.follower.Wait(ctx, stepEvery)
		if err := f.rest(ctx); err != nil {
			return false, err
		}
	}
}

// judgeNow follows a start to where it can be judged and keeps its proof, unless somebody
// else was quicker.
func (a *App) judgeNow(ctx context.Context, f *following, look *Look) (left bool, err error) {
	if _, err := f.dir.Proof(); err == nil {
		return false, nil
	}
	end, err := f.untilJudged(ctx)
	if err != nil || ctx.Err() != nil {
		return err == nil, err
	}
	return false, a.judgeLate(look, f, end)
}

// judgeLate keeps the proof of a start that was not judged by whoever made it.
func (a *App) judgeLate(look *Look, f *following, end proof.End) error {
	p := f.judge(end)
	if err := a.putProof(look, p, f.dir); err != nil {
		return err
	}
	if end.Exit == nil && p.Verdict == proof.Proved && f.server.Record.Guard > 0 {
		if _, ended := f.dir.Exit(); !ended {
			return f.dir.Guard(f.server.Record.Guard)
		}
	}
	return nil
}

// A start that nobody judges is judged by whoever looks later; if it is still not
// due then, that takes no longer than a moment.
const (
	lateAfter = 10 * time.Second
	lateLimit = 1500 * time.Millisecond

	lateStarts = 20 // the newest of a server that are looked at
)

// CatchUp judges the starts of a server that nobody has looked at: those that its
// keeper made after a crash, or that were made by others. It returns how many it judged.
func (a *App) CatchUp(ctx context.Context, name string) (judged int, err error) {
	numbers, err := a.Home.Starts(name)
	if err != nil {
		return 0, err
	}
	for _, n := range numbers[max(len(numbers)-lateStarts, 0):] {
		dir := a.Home.Start(name, n)
		if dir.Judged() {
			if n == numbers[len(numbers)-1] {
				if err := a.catchLater(ctx, name, dir, n); err != nil {
					return judged, err
				}
			}
			continue
		}
		if exit, ended := dir.Exit(); exit.How == host.EndedNever {
			continue
		} else if age, known := dir.Age(); !ended && (!known || age < lateAfter) {
			continue
		}
		if _, err := dir.Expected(); err != nil {
			continue
		}
		release, mine := dir.Judge()
		if !mine {
			return judged, nil
		}
		limited, cancel := context.WithTimeout(ctx, lateLimit)
		err = a.catchUp(limited, name, dir, n)
		cancel()
		release()
		if err != nil {
			return judged, err
		}
		if dir.Judged() {
			judged++
		}
	}
	return judged, nil
}

// maxLaterLog is the largest log, in bytes, that is read only to find what has come of mods since
// the start was judged; who watches a server hears it however long the log is.
const maxLaterLog = 8 << 20

// catchLater keeps what has come of mods of a judged start while nobody watched.
func (a *App) catchLater(ctx context.Context, name string, dir host.StartDir, number int) error {
	p, err := dir.Proof()
	if err != nil || p.Speechless {
		return nil
	}
	info, err := os.Stat(p.Log)
	if err != nil || info.Size() == p.Heard || info.Size() > maxLaterLog {
		return nil
	}
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	f, err := a.follow(s, dir, number, nil)
	if err != nil {
		return err
	}
	defer f.close()
	f.reader.End(p.Lines)
	if err := f.rest(ctx); err != nil {
		return err
	}
	if _, err := f.keepLater(); err != nil {
		return err
	}
	if p, err = dir.Proof(); err == nil {
		p.Heard = info.Size()
		err = dir.PutProof(p)
	}
	return err
}

// CatchUpAll judges what was left of all servers; initium ledger says why that cannot be
// done. It returns how many starts it judged.
func (a *App) CatchUpAll(ctx context.Context) (judged int) {
	names, _ := a.Home.Servers() // who looks at them is told
	for _, name := range names {
		n, _ := a.CatchUp(ctx, name)
		judged += n
	}
	return judged
}

func (a *App) catchUp(ctx context.Context, name string, dir host.StartDir, number int) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	f, err := a.follow(s, dir, number, nil)
	if err != nil {
		return err
	}
	defer f.close()
	end, err := f.untilJudged(ctx)
	if err != nil || ctx.Err() != nil {
		return err
	}
	return a.judgeLate(nil, f, end)
}
