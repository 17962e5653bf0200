package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/text"
)

func (e *env) learn() *cobra.Command {
	var opt app.LearnOptions
	var try, anew, asJSON bool
	cmd := &cobra.Command{
		Use:   "learn DIR [MOD...]",
		Short: "Find out how a server that is not known registers its mods; with --try, by starting copies of it, also what it says of them, and write the dialect",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			opt.Dir, opt.Mods = args[0], args[1:]
			if opt.Name == "" {
				full, err := filepath.Abs(opt.Dir)
				if err != nil {
					return err
				}
				opt.Name = filepath.Base(full)
			}
			if !try {
				return e.lookAround(opt)
			}
			if !anew {
				if err := e.app.FreeDialect(opt.Name); err != nil {
					return err
				}
			}
			if !asJSON {
				opt.OnPhase = func(s string) { fmt.Fprintf(e.out, "%s …\n", s) }
			}
			l, err := e.app.Learn(cmd.Context(), opt)
			if err == nil {
				err = l.Write()
			}
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(l)
			}
			e.printLearned(l)
			return nil
		},
	}
	cmd.Flags().BoolVar(&try, "try", false, "start copies of the server, with one thing changed in each, and write what they show as a dialect")
	cmd.Flags().BoolVar(&anew, "anew", false, "write over a dialect of this name that is there already")
	cmd.Flags().StringVar(&opt.Name, "as", "", "what the dialect is called; the name of the folder when left out")
	cmd.Flags().StringVar(&opt.Startup, "startup", "", "the file that registers the mods; found when left out")
	cmd.Flags().StringVar(&opt.Command, "start", "", "the words that start the server, such as '{dir}/server --port 9000'; found when left out")
	cmd.Flags().IntVar(&opt.Trials, "trials", 10, "how many random line-ups are foretold and started in the end")
	cmd.Flags().Uint64Var(&opt.Seed, "seed", 1, "which random ones")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// lookAround prints what looking alone tells.
func (e *env) lookAround(opt app.LearnOptions) error {
	ways, command, err := e.app.LookAround(opt)
	if len(ways) > 0 {
		fmt.Fprintf(e.out, "mods may be registered\n")
		for _, w := range ways {
			fmt.Fprintf(e.out, "  %s\n", w)
		}
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "the server is started by  %s\n", strings.Join(command, " "))
	fmt.Fprintf(e.out, "nothing was started; --try finds out by copies which of the ways it is, and what the server says\n")
	return nil
}

func (e *env) printLearned(l *app.Learned) {
	fmt.Fprintf(e.out, "\nmods are registered %s\n", l.Ways[0])
	for _, r := range l.Rules {
		if r.Line == "" {
			fmt.Fprintf(e.out, "  %-8s %s\n", r.Means, r.Why)
			continue
		}
		fmt.Fprintf(e.out, "  %-8s %q\n           %s\n", r.Means, r.Line, r.Why)
	}
	for _, f := range l.Fates {
		fmt.Fprintf(e.out, "  %s\n", f)
	}
	for _, u := range l.Unsaid {
		fmt.Fprintf(e.out, "not found out: %s\n", u)
	}
	for _, n := range l.Notes {
		fmt.Fprintf(e.out, "%s\n", n)
	}
	if t := l.Trial; t.Lineups > 0 {
		fmt.Fprintf(e.out, "tried on %d random line-ups: %d were as foretold, %d of %d mods\n", t.Lineups, t.Exact, t.Right, t.Shown)
		if t.Shown < t.Mods {
			fmt.Fprintf(e.out, "  %d more are not counted: a broken mod may have taken them along, or nothing tells of them\n", t.Mods-t.Shown)
		}
		for _, d := range t.Differed {
			fmt.Fprintf(e.out, "  %s\n", d)
		}
	}
	fmt.Fprintf(e.out, "%d starts, %s; written to %s\n", l.Starts+l.Trial.Lineups, l.Took.Round(time.Second), text.Clean(l.File))
	e.stillMissing(l.Name, l.Problems)
}
