package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/plan"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// choiceFlags are the answers that an operator can give beforehand.
func choiceFlags(cmd *cobra.Command, c *lineup.Choices) {
	f := cmd.Flags()
	f.StringVar(&c.As, "as", "", "the name of the mod, when one comes")
	f.BoolVar(&c.Agree, "agree", false, "agree with the names that are proposed for those that are not allowed")
	f.StringSliceVar(&c.Only, "only", nil, "of several mods only these")
	f.StringVar(&c.Into, "into", "", "the folder that mods are put into: one of the family's, a bundle, or a category folder, which may be a new one")
	answerFlags(cmd, c)
	f.BoolVar(&c.Alone, "alone", false, "the server loads nothing else but what it needs: all other mods are switched off with it, and the one map that comes is chosen; undo brings all of them back")
	f.StringVar(&c.Base, "base", "", "a file that a table begins from which is not there yet, when entries come for it")
	f.BoolVar(&c.Quiet, "files-only", false, "put the files in place and register nothing")
	f.IntVar(&c.MostFiles, "most-files", 0, "how many files may come (250000 when left out)")
	f.Int64Var(&c.MostBytes, "most-bytes", 0, "how many bytes they may have (32 GiB when left out)")
	f.Int64Var(&c.MostRatio, "most-ratio", 0, "how many times its size an archive may unpack to (250 when left out)")
	f.BoolVar(&c.Cases, "cases", false, "let names differ by letter case or Unicode form only")
}

// answerFlags are those about files that are there already.
func answerFlags(cmd *cobra.Command, c *lineup.Choices) {
	f := cmd.Flags()
	f.StringSliceVar(&c.Take, "take", nil, "where there is a file already, take the new one: its path, or all")
	f.StringSliceVar(&c.Keep, "keep", nil, "or keep the old one")
	f.StringSliceVar(&c.Both, "both", nil, "or keep the old one and put the new one beside it")
}

func (e *env) look() *cobra.Command {
	var server string
	var asJSON bool
	var c lineup.Choices
	cmd := &cobra.Command{
		Use:   "look SOURCE...",
		Short: "Look into archives, folders or files: which mods are in them and where they would go; writes nothing",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			var looked []*app.Inspection
			for _, source := range args {
				show, end := e.reading()
				in, err := e.app.Inspect(cmd.Context(), source, server, c, show)
				end()
				if err != nil {
					return err
				}
				looked = append(looked, in)
			}
			var shared []intake.Shared
			if server != "" && len(looked) > 1 {
				var err error
				if shared, err = e.app.Overlaps(server, looked); err != nil {
					return err
				}
			}
			if err := e.showLooked(looked, shared, asJSON); err != nil {
				return err
			}
			for _, in := range looked {
				if in.Found.Dialect == nil || in.Intake != nil && !in.Intake.Ready() {
					return errNo
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&server, "server", "", "as it would be on this server")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	choiceFlags(cmd, &c)
	return cmd
}

// showLooked prints what was found in one source or several, and the places that
// they share.
func (e *env) showLooked(looked []*app.Inspection, shared []intake.Shared, asJSON bool) error {
	if asJSON && len(looked) == 1 {
		return e.json(insideJSON(looked[0]))
	}
	if asJSON {
		return e.json(lookedJSON(looked, shared))
	}
	for i, in := range looked {
		if i > 0 {
			fmt.Fprintln(e.out)
		}
		e.printInside(in)
	}
	for _, s := range shared {
		who := strings.Join(s.Mods, ", ")
		if s.Clean {
			who += " and the server itself"
		}
		fmt.Fprintf(e.out, "shared: %s, by %s\n", text.Clean(s.Path), text.Clean(who))
	}
	return nil
}

func (e *env) take() *cobra.Command {
	var c lineup.Choices
	var where lineup.Where
	var stage, load bool
	cmd := &cobra.Command{
		Use:   "take SERVER SOURCE...",
		Short: "Take mods in from archives, folders or files: files in place, keys, registration; all or nothing",
		Args:  args(cobra.MinimumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			show, end := e.reading()
			changes, err := e.app.TakeAll(cmd.Context(), args[0], args[1:], c, where, show)
			end()
			if err != nil {
				return err
			}
			p, err := e.make(cmd.Context(), args[0], stage, changes...)
			if app.IsSoAlready(err) {
				for _, taken := range changes {
					fmt.Fprintf(e.out, "%s: there already, the same\n", text.Clean(cmp.Or(taken.Mod, filepath.Base(taken.Source))))
				}
				return nil
			}
			if err == nil {
				err = e.showPlan(args[0], p)
			}
			if err != nil {
				return err
			}
			for _, made := range p.Changes {
				for _, o := range made.Owed {
					fmt.Fprintf(e.out, "left to you: %s, %s\n", text.Clean(o.Path), text.Clean(o.About))
				}
			}
			if stage {
				return nil
			}
			return e.intoRunning(cmd.Context(), args[0], p, load)
		},
	}
	cmd.Flags().BoolVar(&load, "load", false, "load what came into the server that runs, at once and with proof, where its family can")
	whereFlags(cmd, &where)
	stageFlag(cmd, &stage)
	choiceFlags(cmd, &c)
	return cmd
}

// intoRunning loads mods that came into a server that runs, or says how that is done.
func (e *env) intoRunning(ctx context.Context, server string, p *plan.Plan, load bool) error {
	mods, can, err := e.app.NotLoaded(server, p)
	switch {
	case err != nil:
		return err
	case load && len(mods) == 0:
		fmt.Fprintf(e.out, "%s does not run, or nothing came that it could load\n", server)
	case load:
		for _, mod := range mods {
			err = errors.Join(err, e.switched(ctx, server, mod, app.SwitchLoad))
		}
		return err
	case len(mods) > 0 && can:
		fmt.Fprintf(e.out, "%s runs without it: initium load %s %s takes it in now, with proof\n", server, server, text.Clean(mods[0]))
	case len(mods) > 0:
		fmt.Fprintf(e.out, "%s runs without it, and loads it when it is started anew\n", server)
	}
	return nil
}

func (e *env) remove() *cobra.Command {
	var c lineup.Choices
	var stage, backup, show bool
	cmd := &cobra.Command{
		Use:   "remove SERVER MOD",
		Short: "Take a mod out: its files, keys and registrations; initium undo brings all of it back",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := e.app.Removal(cmd.Context(), args[0], args[1], c)
			if err != nil {
				return err
			}
			if show {
				e.printRemoval(args[0], r)
				return nil
			}
			if backup {
				if err := e.makeBackup(cmd.Context(), args[0], "before "+args[1]+" was taken out"); err != nil {
					return err
				}
			}
			change := lineup.Change{Op: lineup.OpRemove, Mod: args[1], Choices: &c}
			if err := e.change(cmd.Context(), args[0], stage, change); err != nil {
				return err
			}
			e.printLeft(args[0], r)
			return nil
		},
	}
	stageFlag(cmd, &stage)
	cmd.Flags().BoolVar(&show, "show", false, "only show what would go, what would stay and who depends on it")
	cmd.Flags().BoolVar(&backup, "backup", false, "back the world up first")
	cmd.Flags().BoolVar(&c.Agree, "agree", false, "although other mods cannot do without it")
	cmd.Flags().BoolVar(&c.Leavings, "leavings", false, "what the mod has made by itself goes too")
	return cmd
}

func (e *env) printRemoval(server string, r *intake.Removal) {
	for _, p := range r.Problems {
		fmt.Fprintln(e.out, p)
	}
	if len(r.Dependents) > 0 {
		fmt.Fprintf(e.out, "cannot do without it: %s\n", text.Clean(strings.Join(r.Dependents, ", ")))
	}
	s, err := e.app.Server(server)
	if err != nil {
		return
	}
	for i := range r.Parts {
		e.printPart(s.Record.Dir, &r.Parts[i])
	}
	for _, c := range r.Changes {
		fmt.Fprintln(e.out, c)
	}
	e.printLeft(server, r)
}

// printLeft tells what stays behind, and what goes out of files that stay.
func (e *env) printLeft(server string, r *intake.Removal) {
	for _, l := range r.Left {
		switch {
		case l.Goes && l.Line > 0:
			fmt.Fprintf(e.out, "goes: %s:%d, %s\n", text.Clean(l.Path), l.Line, l.About)
		case l.Goes:
		case l.Line > 0:
			fmt.Fprintf(e.out, "stays: %s:%d, %s\n", text.Clean(l.Path), l.Line, l.About)
		default:
			fmt.Fprintf(e.out, "stays: %s, %s\n", text.Clean(l.Path), l.About)
		}
	}
	if r.World != "" && len(r.Problems) == 0 {
		fmt.Fprintf(e.out, "the world: %s; initium backup %s keeps it as it is\n", r.World, server)
	}
}

// printPart tells in a few lines what becomes of a folder or file as a whole.
func (e *env) printPart(dir string, p *plan.Part) {
	fmt.Fprintf(e.out, "%s (%s): %s\n", text.Clean(short(dir, p.Path)), p.Title(), p)
	const most = 20
	for i, n := range p.Notes {
		if n.Rel == "" && n.Kind == plan.FileChanges && n.Why == "" {
			continue // of a file alone all is said
		}
		if i == most {
			fmt.Fprintf(e.out, "     … and %d more\n", len(p.Notes)-most)
			break
		}
		why := ""
		if n.Why != "" {
			why = "  (" + n.Why + ")"
		}
		fmt.Fprintf(e.out, "     %-11s %s%s\n", n.Kind, text.Clean(n.Rel), why)
	}
}

func (e *env) printInside(in *app.Inspection) {
	f := in.Found
	fmt.Fprintf(e.out, "%s: %s, %s, %s\n", text.Clean(path.Base(in.Source)), in.Form, count(f.Tree.Files, "file", "files"), intake.Bytes(f.Tree.Total))
	if in.Called != "" {
		is := string(in.Form)
		if in.Form == archive.FormFile {
			is = "no archive"
		}
		fmt.Fprintf(e.out, "it is called %s and is %s\n", in.Called, is)
	}
	if f.Dialect == nil {
		fmt.Fprintln(e.out, "no dialect finds a mod in it")
		return
	}
	fmt.Fprintf(e.out, "for %s", f.Dialect.Title)
	if len(in.Also) > 0 {
		fmt.Fprintf(e.out, " (it could also be for %s)", strings.Join(in.Also, ", "))
	}
	fmt.Fprintln(e.out)
	for i := range f.Mods {
		e.printFound(&f.Mods[i])
	}
	if in.Intake != nil {
		e.printIntake(in)
	}
	for _, group := range []struct {
		title string
		names []string
	}{{"to read", f.Notes}, {"left out", f.Surplus}} {
		if len(group.names) > 0 {
			fmt.Fprintf(e.out, "%s: %s\n", group.title, few(group.names))
		}
	}
	for _, t := range f.Troubles() {
		fmt.Fprintf(e.out, "cannot be looked into: %s\n", text.Clean(t))
	}
}

// few are the first of many names.
func few(names []string) string {
	const most = 6
	shown := text.Clean(strings.Join(names[:min(len(names), most)], ", "))
	if more := len(names) - most; more > 0 {
		shown += fmt.Sprintf(" and %d more", more)
	}
	return shown
}

func (e *env) printFound(m *intake.Mod) {
	release := m.Manifest.Release
	if release != "" {
		release = " " + release
	}
	fmt.Fprintf(e.out, "\n%s%s: %s, %s\n", text.Clean(m.Name), text.Clean(release), count(m.Files, "file", "files"), intake.Bytes(m.Bytes))
	line := func(label, value string) {
		if value != "" {
			fmt.Fprintf(e.out, "  %-9s %s\n", label, text.Clean(value))
		}
	}
	line("name", m.Why)
	line("came as", m.Mended)
	line("root", m.RootWords())
	if m.In != nil {
		line("part of", m.In.Name)
	}
	line("needs", needNames(m.Manifest.Needs))
	line("likes", needNames(m.Manifest.OptionalNeeds))
	line("side", m.Manifest.Side)
	if p := m.Manifest.Problem; p != nil {
		line("trouble", fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Message))
	}
}

func (e *env) printIntake(in *app.Inspection) {
	fmt.Fprintf(e.out, "\non %s:\n", in.Server)
	for _, p := range in.Intake.Problems {
		fmt.Fprintf(e.out, "  cannot be taken in: %s\n", p)
	}
	for _, p := range in.Intake.Mods {
		what := "new"
		if p.There != nil {
			what = "instead of " + text.Clean(strings.TrimSpace(p.There.Name+" "+p.There.Release))
		}
		fmt.Fprintf(e.out, "  %s -> %s, %s\n", text.Clean(p.Name), text.Clean(p.Path), what)
	}
	for _, o := range in.Intake.Overlaps {
		state := "other bytes"
		if o.Same {
			state = "the same bytes, nothing to do"
		}
		fmt.Fprintf(e.out, "  overlap: %s, %s; %s\n", text.Clean(o.Path), o.Whose, state)
	}
	for _, k := range in.Intake.Keys {
		fmt.Fprintf(e.out, "  key: %s is there already\n", text.Clean(k))
	}
	for _, b := range in.Intake.Brings {
		fmt.Fprintf(e.out, "  entries: %s, for %s\n", text.Clean(b.Path), text.Clean(b.Into))
	}
	for _, s := range in.Intake.Steps {
		fmt.Fprintf(e.out, "  left to you: %s, %s\n", text.Clean(s.Path), s.About)
	}
	for _, l := range in.Intake.Left {
		fmt.Fprintf(e.out, "  stays: %s, %s\n", text.Clean(l.Path), l.About)
	}
	for _, name := range sortedNames(in.Lacking) {
		fmt.Fprintf(e.out, "  lacks: %s needs %s\n", text.Clean(name), text.Clean(strings.Join(in.Lacking[name], ", ")))
	}
	for _, p := range in.Intake.Mods {
		if aged := in.Aged[p.Name]; aged != "" {
			fmt.Fprintf(e.out, "  old: %s, %s\n", text.Clean(p.Name), aged)
		}
	}
	for _, q := range in.Intake.Questions {
		fmt.Fprintf(e.out, "  question: %s Say: %s\n", q.Text, text.Clean(strings.Join(flagsOf(&q), " or ")))
	}
	if in.Plan == nil {
		return
	}
	if s, err := e.app.Server(in.Server); err == nil {
		fmt.Fprintln(e.out, "\nplan:")
		e.printPlan(s.Record.Dir, in.Plan)
	}
	for _, f := range in.Comes {
		fmt.Fprintf(e.out, "check will say: %s: %s\n", f.Severity, f.Message)
	}
	for _, f := range in.Mended {
		fmt.Fprintf(e.out, "check will no longer say: %s\n", f.Message)
	}
}

// needNames writes needs with the versions that will do.
func needNames(needs []mod.Need) string {
	words := make([]string, len(needs))
	for i, n := range needs {
		words[i] = strings.TrimSpace(n.Name + " " + n.Range)
	}
	return strings.Join(words, ", ")
}

func sortedNames[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// reading shows how much of a source has been read, once that takes a while.
func (e *env) reading() (show func(int64), end func()) {
	say, end := e.meter()
	return func(n int64) { say(func() string { return "looking into it: " + intake.Bytes(n) }) }, end
}

// copying shows how far the copying of files has come.
func (e *env) copying() (show func(host.Progress), end func()) {
	say, end := e.meter()
	began := time.Now()
	return func(p host.Progress) {
		say(func() string {
			s := fmt.Sprintf("copying: %s, %s", count(p.Files, "file", "files"), intake.Bytes(p.Bytes))
			if p.AllBytes > 0 && p.Bytes > 0 {
				left := time.Duration(float64(time.Since(began)) * float64(p.AllBytes-p.Bytes) / float64(p.Bytes))
				s += fmt.Sprintf(" of %s, about %s more", intake.Bytes(p.AllBytes), left.Round(time.Second))
			}
			return s
		})
	}, end
}

// meter writes one line over itself, on a terminal only, and not for what is done
// within a moment.
func (e *env) meter() (say func(line func() string), end func()) {
	f, ok := e.err.(*os.File)
	if !ok || !term.IsTerminal(f.Fd()) {
		return func(func() string) {}, func() {}
	}
	const patience, tick = 2 * time.Second, 200 * time.Millisecond
	began := time.Now()
	var last time.Time
	return func(line func() string) {
			if now := time.Now(); now.Sub(began) > patience && now.Sub(last) > tick {
				last = now
				fmt.Fprintf(f, "\r\x1b[K%s (Ctrl+C stops it)", line())
			}
		}, func() {
			if !last.IsZero() {
				fmt.Fprint(f, "\r\x1b[K")
			}
		}
}

// flagsOf are the flags that answer a question.
func flagsOf(q *intake.Question) (flags []string) {
	for _, answer := range q.Answers {
		switch answer {
		case intake.AnswerAgree:
			flags = append(flags, "--agree")
		case intake.AnswerName:
			flags = append(flags, "--as NAME")
		default:
			flags = append(flags, "--"+string(answer)+" "+q.Rel)
		}
	}
	return flags
}
