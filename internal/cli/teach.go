package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/tui"
)

func (e *env) teach() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "teach",
		Short: "Make a dialect for a server that is not known, from its startup file and a log",
	}
	cmd.AddCommand(e.teachServer(), e.teachLog(), e.teachRules())
	return cmd
}

func (e *env) teachServer() *cobra.Command {
	var of app.TeachStart
	cmd := &cobra.Command{
		Use:   "server NAME DIR FILE [MOD]",
		Short: "Begin the dialect NAME: the server in DIR names MOD in its startup file FILE. Without MOD, on the screen",
		Args:  args(cobra.RangeArgs(3, 4)),
		RunE: func(cmd *cobra.Command, args []string) error {
			of.Name, of.Dir, of.Startup = args[0], args[1], args[2]
			if len(args) == 3 {
				return tui.TeachServer(cmd.Context(), e.app, of)
			}
			o, err := e.app.TeachServer(of, args[3])
			if err == nil {
				err = o.Write()
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "written to %s\n", o.File)
			fmt.Fprintf(e.out, "  mods stand as %q: %s\n", o.Shape, strings.Join(o.Mods, ", "))
			if o.Place != "" {
				fmt.Fprintf(e.out, "  they are in %s\n", o.Place)
			} else {
				fmt.Fprintln(e.out, "  where they are was not found: say it in the file, at [[place]]")
			}
			e.stillMissing(args[0], o.Problems)
			return nil
		},
	}
	cmd.Flags().BoolVar(&of.Anew, "anew", false, "write over a dialect of this name that is there already; what it says of the log is kept")
	cmd.Flags().StringVar(&of.Command, "start", "", "the words that start the server, such as '{dir}/server --port 9000'")
	return cmd
}

func (e *env) stillMissing(name string, problems []string) {
	if len(problems) == 0 {
		fmt.Fprintf(e.out, "the dialect is complete; initium adopt DIR --dialect %s\n", name)
	}
	for _, p := range problems {
		fmt.Fprintf(e.out, "still missing: %s\n", p)
	}
}

func (e *env) teachLog() *cobra.Command {
	var also, not []string
	var write, own bool
	var server string
	cmd := &cobra.Command{
		Use:   "log NAME LOG [LINE MEANING [MOD]]",
		Short: "Make a rule of the dialect NAME from a line of a log: LINE means that MOD is loading, loaded, failed, missing; or that the server is ready, stopped; or ignore. Without a line, on the screen",
		Args:  args(cobra.RangeArgs(2, 5)),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := e.app.Teach(args[0], args[1], server, e.in)
			if err != nil {
				return err
			}
			if own {
				file, err := l.Own()
				if err != nil {
					return err
				}
				fmt.Fprintf(e.out, "the log of every start is looked for in %s too\n", text.Clean(file))
				if len(args) == 2 {
					return nil
				}
			}
			if len(args) == 2 {
				return tui.Teach(cmd.Context(), e.app, l)
			}
			if len(args) == 3 {
				return fmt.Errorf("%w: say what line %s means", errArgs, args[2])
			}
			mod := ""
			if len(args) == 5 {
				mod = args[4]
			}
			lesson, err := lessonOf(l, dialect.Meaning(args[3]), append([]string{args[2] + "=" + mod}, also...), not)
			if err != nil {
				return err
			}
			return e.teachRule(l, lesson, write)
		},
	}
	cmd.Flags().StringArrayVar(&also, "also", nil, "another line that means it too, as LINE=MOD")
	cmd.Flags().StringArrayVar(&not, "not", nil, "a line that does not mean it")
	cmd.Flags().BoolVar(&write, "write", false, "write the rule into the dialect")
	cmd.Flags().StringVar(&server, "server", "", "whose mods are known")
	cmd.Flags().BoolVar(&own, "own", false, "the server writes this log into its folder and does not print it: follow it there at every start")
	return cmd
}

func (e *env) teachRules() *cobra.Command {
	var drop int
	cmd := &cobra.Command{
		Use:   "rules NAME",
		Short: "List the rules of the dialect NAME, with their numbers; --drop takes one out",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("drop") {
				missing, err := e.app.DropLogRule(args[0], drop)
				if err != nil {
					return err
				}
				fmt.Fprintf(e.out, "rule %d is taken out\n", drop)
				e.stillMissing(args[0], missing)
				return nil
			}
			rules, err := e.app.LogRules(args[0])
			for i, r := range rules {
				fmt.Fprintf(e.out, "%3d  %-8s %q", i+1, text.Clean(string(r.Means)), text.Clean(r.Line))
				if r.Level != "" {
					fmt.Fprintf(e.out, "  level %q", text.Clean(r.Level))
				}
				if r.Source != "" {
					fmt.Fprintf(e.out, "  source %q", text.Clean(r.Source))
				}
				fmt.Fprintln(e.out)
			}
			return err
		},
	}
	cmd.Flags().IntVar(&drop, "drop", 0, "the number of the rule to be taken out")
	return cmd
}

func lineOf(l *app.Lessons, s string) (string, error) {
	n, err := strconv.Atoi(s)
	if err != nil {
		return "", fmt.Errorf("%w: %q is no number of a line", errArgs, s)
	}
	return l.Line(n)
}

// lessonOf is a lesson of lines that mean something, as LINE=MOD, and of lines that do not.
func lessonOf(l *app.Lessons, means dialect.Meaning, examples, not []string) (lesson teach.Lesson, err error) {
	lesson.Means = means
	for _, s := range examples {
		number, mod, _ := strings.Cut(s, "=")
		line, err := lineOf(l, number)
		if err != nil {
			return lesson, err
		}
		lesson.Examples = append(lesson.Examples, teach.Example{Line: line, Mod: mod})
	}
	for _, s := range not {
		line, err := lineOf(l, s)
		if err != nil {
			return lesson, err
		}
		lesson.Counter = append(lesson.Counter, line)
	}
	return lesson, nil
}

func (e *env) teachRule(l *app.Lessons, lesson teach.Lesson, write bool) error {
	t, err := l.Propose(lesson)
	if err != nil {
		return err
	}
	var file string
	var missing []string
	if write { // before anything is printed: whoever reads it may stop reading
		file, missing, err = l.Write(t, lesson)
	}
	fmt.Fprintf(e.out, "means %q  line %q", t.Rule.Means, t.Rule.Line)
	if t.Rule.Level != "" {
		fmt.Fprintf(e.out, "  level %q", t.Rule.Level)
	}
	if t.Rule.Source != "" {
		fmt.Fprintf(e.out, "  source %q", t.Rule.Source)
	}
	fmt.Fprintf(e.out, "\nlines that it fits: %d", len(t.Matches))
	if len(t.Mods) > 0 {
		fmt.Fprintf(e.out, "; they speak of %s", strings.Join(t.Mods, ", "))
	}
	fmt.Fprintln(e.out)
	printMatches(e.out, l, t.Matches)
	if len(t.Strange) > 0 {
		fmt.Fprintf(e.out, "as proof of loading it is weak: it fits %s too, which no file registers\n", strings.Join(t.Strange, ", "))
	}
	if len(t.Owed) > 0 {
		fmt.Fprintf(e.out, "no rule speaks of %s yet\n", strings.Join(t.Owed, ", "))
	}
	switch {
	case err != nil:
		return err
	case !write:
		fmt.Fprintln(e.out, "not written; --write does that")
	default:
		fmt.Fprintf(e.out, "written to %s\n", file)
		e.stillMissing(l.Dialect, missing)
	}
	return nil
}

func printMatches(out io.Writer, l *app.Lessons, matches []teach.Match) {
	const most = 8
	for i, m := range matches {
		if i == most {
			fmt.Fprintf(out, "  and %d more\n", len(matches)-most)
			break
		}
		fmt.Fprintf(out, "%7d  %s\n", m.Number, l.Shown(m.Number))
	}
}
