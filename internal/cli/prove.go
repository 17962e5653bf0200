package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/core/text"
	"initium/internal/host"
)

func (e *env) prove() *cobra.Command {
	var opt app.ProveOptions
	var asJSON, keep, probe, first bool
	var await []string
	var from, log string
	cmd := &cobra.Command{
		Use:   "prove SERVER",
		Short: "Start a server, judge every mod by its log, and stop it; exit status 1 if it is not proved",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep {
				opt.Keep = app.KeepAlways
			}
			if !asJSON {
				opt.OnStep = e.progress()
			}
			if probe {
				if err := e.probedFirst(cmd.Context(), args[0]); err != nil {
					return err
				}
			}
			if first {
				return e.firstStart(cmd.Context(), args[0], await, opt, asJSON)
			}
			if log != "" {
				if err := e.app.SetLog(args[0], log); err != nil {
					return err
				}
			}
			p, err := e.proofOf(cmd.Context(), args[0], from, opt)
			if err != nil {
				return err
			}
			if asJSON {
				err = e.json(p)
			} else {
				e.printProof(p)
			}
			if err == nil && p.Verdict != proof.Proved {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&opt.Within, "timeout", 0, "how long the server may take to become ready; the dialect says when left out")
	cmd.Flags().DurationVar(&opt.Stay, "stay", 0, "how long it has to stay up once it is ready, for mods that fail late; the dialect says when left out")
	cmd.Flags().BoolVar(&probe, "probe", false, "have the server's own command look through its startup files first, and start it only if that finds nothing")
	cmd.Flags().StringVar(&from, "from", "", "judge this log instead of a start: of a server that is started elsewhere; - for the standard input")
	cmd.Flags().StringVar(&log, "log", "", "of a server that is started elsewhere: its log, below its folder there; remembered")
	cmd.Flags().BoolVar(&first, "first", false, "a first start: wait until mods have made what they make, stop the server, and start it once more where something has not come")
	cmd.Flags().StringSliceVar(&await, "await", nil, "with --first: a path below the server's folder that has to appear too")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&keep, "keep-running", false, "let the server go on afterwards; initium stop SERVER stops it")
	cmd.MarkFlagsMutuallyExclusive("from", "first", "keep-running")
	cmd.MarkFlagsMutuallyExclusive("from", "probe")
	return cmd
}

// proofOf proves a server by a start that is made here, by one that its operator makes at its host, or by a log.
func (e *env) proofOf(ctx context.Context, server, from string, opt app.ProveOptions) (*proof.Proof, error) {
	if from != "" {
		return e.app.ProveFrom(ctx, server, from, e.in)
	}
	if r, err := e.app.Home.Record(server); err == nil && r.Host != "" && opt.Keep != app.KeepAlways {
		return e.app.ProveThere(ctx, server, opt)
	}
	return e.app.Prove(ctx, server, opt)
}

// firstStart makes a first start and tells what came of it. What somebody has asked for by name has to come;
// of what mods may make the dialect knows only that they may.
func (e *env) firstStart(ctx context.Context, server string, await []string, opt app.ProveOptions, asJSON bool) error {
	f, err := e.app.FirstStart(ctx, server, await, opt)
	if err != nil {
		return err
	}
	if asJSON {
		if err := e.json(f); err != nil {
			return err
		}
	} else {
		e.printProof(f.Proof)
		e.printFirst(f)
	}
	if f.Proof.Verdict != proof.Proved || slices.ContainsFunc(f.Owed(), func(a app.Awaited) bool { return a.Mod == "" }) {
		return errNo
	}
	return nil
}

func (e *env) printFirst(f *app.First) {
	fmt.Fprintf(e.out, "\nfirst start, %s:\n", count(f.Starts, "start", "starts"))
	if len(f.Awaited) == 0 {
		fmt.Fprintln(e.out, "  nothing was awaited: all that the dialect knows of is there already")
	}
	for _, a := range f.Awaited {
		whose := ""
		if a.Mod != "" {
			whose = ", of " + a.Mod
		}
		if a.Start == 0 {
			fmt.Fprintf(e.out, "  did not come   %s%s\n", a.Path, whose)
		} else {
			fmt.Fprintf(e.out, "  came           %s%s, in start %d\n", a.Path, whose, a.Start)
		}
	}
}

// progress prints each mod as it is spoken for, and the time while none is.
func (e *env) progress() func(app.Step) {
	said, there := map[string]bool{}, ""
	lastSecond := 0
	return func(s app.Step) {
		if s.There != nil {
			if now := e.thereWords(s.There); now != there {
				there = now
				fmt.Fprintf(e.out, "%7.2f s  %s\n", s.Elapsed.Seconds(), now)
			}
			if !s.There.Begun {
				return
			}
		}
		if s.SoFar != nil {
			for _, m := range s.SoFar.Mods {
				if m.Outcome != proof.Silent && !said[m.Name] {
					said[m.Name] = true
					fmt.Fprintf(e.out, "%7.2f s  %-10s %s\n", s.Elapsed.Seconds(), m.Outcome, m.Name)
					lastSecond = int(s.Elapsed.Seconds())
				}
			}
		}
		if second := int(s.Elapsed.Seconds()); second >= lastSecond+10 && !s.Ready {
			lastSecond = second
			fmt.Fprintf(e.out, "%7.2f s  waiting, of %s at most; %s still owed\n", s.Elapsed.Seconds(), s.Limit.Round(time.Second), count(len(s.Status.Owed), "mod is", "mods are"))
			if s.Elsewhere != "" {
				fmt.Fprintf(e.out, "           nothing was printed yet, but %s grows\n", s.Elsewhere)
			}
		}
	}
}

// thereWords say where a start that is made elsewhere stands, and what to do.
func (e *env) thereWords(t *app.There) string {
	switch {
	case t.Down != "":
		return t.Down + "; it is tried again"
	case t.Begun:
		return "it is being started; its log is read as it comes"
	case t.Notes != "":
		return fmt.Sprintf("start it at %s now (your notes: %s); %s is watched until it does", t.Host, t.Notes, t.Log)
	}
	return fmt.Sprintf("start it at %s now; %s is watched until it does", t.Host, t.Log)
}

// probedFirst has the server's own command look through its startup files; what it finds is a no.
func (e *env) probedFirst(ctx context.Context, server string) error {
	faults, err := e.app.Probe(ctx, server)
	if err != nil {
		return err
	}
	for _, f := range faults {
		fmt.Fprintf(e.err, "%s is not started: %s\n", server, placed(f))
	}
	if len(faults) > 0 {
		return errNo
	}
	return nil
}

func (e *env) printProof(p *proof.Proof) {
	fmt.Fprintln(e.out)
	if p.Server != "" {
		fmt.Fprintf(e.out, "%s: ", p.Server)
	}
	fmt.Fprint(e.out, p.Verdict)
	if p.Ready && p.ReadyAfterMS > 0 {
		fmt.Fprintf(e.out, ", ready after %.2f s", float64(p.ReadyAfterMS)/1000)
	}
	fmt.Fprintln(e.out)
	if p.Reason != "" {
		fmt.Fprintf(e.out, "because %s\n", p.Reason)
	}
	if p.Hint != "" {
		fmt.Fprintln(e.out, p.Hint)
	}
	switch {
	case p.Base && p.Verdict == proof.Proved:
		fmt.Fprintf(e.out, "it was started without any mod: this is the base of all later starts (initium compare %s --base)\n", p.Server)
	case p.Base && !p.Stopped:
		fmt.Fprintln(e.out, "it was started without any mod: no mod is to blame")
	}
	if p.There != "" {
		fmt.Fprintf(e.out, "it was started at %s; its log was read over the line\n", p.There)
	}
	if p.Handed {
		fmt.Fprintln(e.out, "the log was handed in; that it is of this line-up is taken from you")
	}
	if len(p.LastLines) > 0 {
		fmt.Fprintln(e.out, "the last that it wrote:")
		for _, l := range p.LastLines {
			fmt.Fprintf(e.out, "  %d  %s\n", l.Line, l.Text)
		}
	}
	e.table(func(w io.Writer) {
		for _, m := range p.Mods {
			load := ""
			if m.LoadMS != nil {
				load = fmt.Sprintf("%.0f ms", *m.LoadMS)
			}
			fmt.Fprintf(w, "  %s\t%s\t%s\t%s\n", m.Outcome, m.Name, load, m.Reason)
		}
	})
	e.printWhy(p)
	e.printBesides(p)
	if p.Log != "" {
		fmt.Fprintf(e.out, "log: %s\n", p.Log)
	}
}

// printWhy tells what speaks against mods: the lines of those that failed or are silent, and
// what is said to the contrary.
func (e *env) printWhy(p *proof.Proof) {
	for _, m := range p.Mods {
		if (m.Outcome == proof.Failed || m.Outcome == proof.Silent) && len(m.Evidence) > 0 {
			ev := m.Evidence[len(m.Evidence)-1]
			fmt.Fprintf(e.out, "  %s, %s: %s\n", m.Name, ev.Where(), ev.Text)
		}
	}
	for _, m := range p.Mods {
		if m.Against != "" {
			fmt.Fprintf(e.out, "  %s: %s, but %s\n", m.Name, m.Outcome, m.Against)
		}
	}
}

// printBesides tells what a start showed that is about no outcome of a mod.
func (e *env) printBesides(p *proof.Proof) {
	if len(p.NotNames) > 0 {
		fmt.Fprintf(e.out, "where the log names mods it says what is none here: %s\n", strings.Join(p.NotNames, ", "))
	}
	if p.Again != "" {
		fmt.Fprintln(e.out, p.Again)
	}
	for _, m := range p.Expected {
		if said := "not as expected: " + m.String(); said != p.Reason {
			fmt.Fprintf(e.out, "expected: %s\n", m)
		}
	}
	for _, gone := range p.Gone {
		fmt.Fprintf(e.out, "gone since start %d was proved: %s (%s)\n", gone.Start, gone.Mod, gone.Why)
	}
	if len(p.Told) > 0 {
		fmt.Fprintf(e.out, "the server says of itself: %s\n", p.Itself())
	}
	for _, d := range p.Differs {
		if d != p.Reason {
			fmt.Fprintln(e.out, d)
		}
	}
	for i := range p.Later {
		if m := &p.Later[i]; len(m.Evidence) > 0 {
			ev := m.Evidence[len(m.Evidence)-1]
			fmt.Fprintf(e.out, "after the start: %s %s, log line %d: %s\n", m.Name, m.Outcome, ev.Line, ev.Text)
		}
	}
	if p.Unheard != "" {
		fmt.Fprintf(e.out, "the server could not be asked: %s\n", p.Unheard)
	}
	for _, m := range p.Made {
		fmt.Fprintf(e.out, "%s has made %s\n", m.Mod, m.Path)
	}
	for _, m := range p.Unmade {
		fmt.Fprintf(e.out, "%s has not made %s yet; start again\n", m.Mod, m.Path)
	}
}

func (e *env) stop() *cobra.Command {
	return &cobra.Command{
		Use:   "stop SERVER",
		Short: "Stop a running server: politely, then patiently, then by force",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			exit, err := e.app.Stop(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			how := "it stopped when asked"
			switch exit.How {
			case host.EndedKill:
				how = "it did not stop when asked and was ended by force"
			case host.EndedItself:
				how = "it had ended by itself"
			}
			fmt.Fprintf(e.out, "%s: %s, exit status %d\n", args[0], how, exit.Status)
			return nil
		},
	}
}

// keeper is the background process that owns a running server.
func (e *env) keeper() *cobra.Command {
	return &cobra.Command{
		Use:    "keeper STARTDIR",
		Hidden: true,
		Args:   args(cobra.ExactArgs(1)),
		RunE:   func(_ *cobra.Command, args []string) error { return host.Keep(host.StartDir(args[0])) },
	}
}

// note is what a keeper runs before it starts a server again.
func (e *env) note() *cobra.Command {
	return &cobra.Command{
		Use:    "note STARTDIR",
		Hidden: true,
		Args:   args(cobra.ExactArgs(1)),
		RunE:   func(_ *cobra.Command, args []string) error { return e.app.NoteRestart(host.StartDir(args[0])) },
	}
}

// keep owns a server in the foreground.
func (e *env) keep() *cobra.Command {
	return &cobra.Command{
		Use:   "keep SERVER",
		Short: "Start a server and own it until it ends, in the foreground: what a service of the machine runs; exit status 1 if it crashed",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			ok, err := e.app.Keep(args[0])
			if err == nil && !ok {
				err = errNo
			}
			return err
		},
	}
}

func (e *env) service() *cobra.Command {
	var on, off, own, asJSON bool
	cmd := &cobra.Command{
		Use:   "service SERVER",
		Short: "Hand a server to systemd, which starts it with the machine and after a crash; take it back; or tell what becomes of it there",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if on && off || own && !on || asJSON && off {
				return fmt.Errorf("%w: say --on or --off or neither; --user goes with --on, --json not with --off", errArgs)
			}
			if off {
				err := e.app.TakeBack(cmd.Context(), args[0])
				if err == nil {
					fmt.Fprintf(e.out, "%s is started from here alone again\n", args[0])
				}
				return err
			}
			ask := e.app.Service
			if on {
				ask = func(ctx context.Context, name string) (*app.Service, error) { return e.app.HandOver(ctx, name, own) }
			}
			s, err := ask(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(s)
			}
			fmt.Fprintf(e.out, "%s: %s\n", args[0], s.Words())
			for _, line := range s.Said {
				fmt.Fprintln(e.out, "  "+line)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&on, "on", false, "hand it over: the unit is written, and every start is the service's from now on")
	cmd.Flags().BoolVar(&own, "user", false, "to your own systemd and not to the machine's, which is root's to do")
	cmd.Flags().BoolVar(&off, "off", false, "take it back: the unit goes")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (e *env) guard() *cobra.Command {
	var times int
	var off bool
	cmd := &cobra.Command{
		Use:   "guard SERVER",
		Short: "Start a server again after a crash, with growing pauses and a limit; at once, when it runs",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			if off {
				times = 0
			} else if times < 1 {
				return fmt.Errorf("%w: --times has to be 1 or more; --off ends it", errArgs)
			}
			if err := e.app.Guard(args[0], times); err != nil {
				return err
			}
			if times == 0 {
				fmt.Fprintf(e.out, "%s stays down after a crash\n", args[0])
			} else {
				fmt.Fprintf(e.out, "%s is started again after a crash once it was proved, at most %s in a row\n", args[0], count(times, "time", "times"))
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&times, "times", 5, "how many crashes in a row; ten minutes without one begin the counting anew")
	cmd.Flags().BoolVar(&off, "off", false, "let it stay down after a crash")
	return cmd
}

// switched carries something out with a mod of a running server, and tells what came of it.
func (e *env) switched(ctx context.Context, server, mod string, do app.Switch) error {
	m, err := e.app.SwitchMod(ctx, server, mod, do)
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "%s: %s", m.Name, m.Outcome)
	if m.Reason != "" {
		fmt.Fprintf(e.out, ", %s", m.Reason)
	}
	fmt.Fprintln(e.out)
	for _, ev := range m.Evidence {
		fmt.Fprintf(e.out, "  %s: %s\n", ev.Where(), ev.Text)
	}
	if m.Outcome != proof.Confirmed {
		return errNo
	}
	return nil
}

func (e *env) log() *cobra.Command {
	var opt app.LogOptions
	var own bool
	cmd := &cobra.Command{
		Use:   "log SERVER",
		Short: "Print the log of a start, each line with the number that it keeps",
		Args:  args(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case own && len(args) == 0:
				return e.app.Home.ReadLog(e.out)
			case own:
				return fmt.Errorf("%w: Initium's own log is not that of a server; leave %s out", errArgs, args[0])
			case len(args) == 0:
				return fmt.Errorf("%w: name a server, or ask for Initium's own log with --own", errArgs)
			}
			return e.app.Log(cmd.Context(), args[0], opt, func(l proof.Line) { fmt.Fprintf(e.out, "%7d  %s\n", l.Number, text.Clean(l.Text)) })
		},
	}
	cmd.Flags().IntVar(&opt.Start, "start", 0, "the number of the start; the newest when left out")
	cmd.Flags().BoolVar(&opt.Follow, "follow", false, "go on with what is yet to come, until the server ends")
	cmd.Flags().StringVar(&opt.Mod, "mod", "", "only lines about this mod")
	cmd.Flags().BoolVar(&own, "own", false, "Initium's own log: what it did by itself, what went wrong behind a screen, what took long")
	cmd.Flags().BoolVar(&opt.Trouble, "trouble", false, "only lines that tell of trouble, or sound like it")
	return cmd
}

// switchMod loads one mod of a running server anew, loads it, or takes it out.
func (e *env) switchMod(do app.Switch, short string) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   string(do) + " SERVER MOD",
		Short: short,
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !asJSON {
				return e.switched(cmd.Context(), args[0], args[1], do)
			}
			m, err := e.app.SwitchMod(cmd.Context(), args[0], args[1], do)
			if err == nil {
				err = e.json(m)
			}
			if err == nil && m.Outcome != proof.Confirmed {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
