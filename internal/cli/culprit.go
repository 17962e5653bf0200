package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

func (e *env) culprit() *cobra.Command {
	var opt app.CulpritOptions
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "culprit SERVER",
		Short: "Find the mods that break a server, by starting a copy of it with parts of the line-up",
		Long: `A copy of the server, with a port and a world of its own, is started again and
again with parts of its mods, needs always together, until the smallest set is
found that still fails: one mod, or several that break it together. What is
looked for is how the first start fails, or a log line that fits --symptom.
Stopped with Ctrl+C, the search goes on where it was when it is begun again.
Exit status 1: no mod is to blame.`,
		Args: args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !asJSON {
				opt.OnTry = e.tried
			}
			found, err := e.app.FindCulprits(cmd.Context(), args[0], opt)
			if err != nil {
				return err
			}
			if asJSON {
				if err := e.json(found); err != nil {
					return err
				}
			} else {
				e.printCulprits(found)
			}
			if len(found.Culprits) == 0 {
				return errNo
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&opt.Symptom, "symptom", "", "a pattern that a log line fits when it fails")
	f.IntVar(&opt.Repeat, "repeat", 0, "how often a part is started before it counts as sound; found out when left out")
	f.IntVar(&opt.Most, "first", 0, "how often the whole is started to see it fail at all (5 when left out)")
	f.DurationVar(&opt.Within, "timeout", 0, "how long a start may take; the dialect says when left out")
	f.DurationVar(&opt.Stay, "stay", 0, "how long the server has to stay up once it is ready, for faults that show late")
	f.BoolVar(&opt.Anew, "anew", false, "forget what a search that was stopped has learned")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// tried tells of each start of a search.
func (e *env) tried(t app.Tried) {
	if !t.Done {
		run := ""
		if t.Runs > 1 {
			run = fmt.Sprintf(", start %d of up to %d", t.Run, t.Runs)
		}
		fmt.Fprintf(e.out, "%3d of %d mods on, to see %s%s (%s to come at most)\n", len(t.On), t.Of, text.Clean(t.Why), run, count(t.AtMost, "start", "starts"))
		return
	}
	how := "sound"
	if t.Failed {
		how = "fails"
	}
	if t.Known {
		fmt.Fprintf(e.out, "%3d of %d mods on: %s, as an earlier start has shown\n", len(t.On), t.Of, how)
		return
	}
	fmt.Fprintf(e.out, "    %s after %s: %s\n", how, t.Took.Round(10*time.Millisecond), text.Clean(t.Said))
}

func (e *env) printCulprits(f *app.Culprits) {
	fmt.Fprintln(e.out)
	if f.Problem != "" {
		fmt.Fprintln(e.out, f.Problem)
		return
	}
	fmt.Fprintf(e.out, "%s: %s\n", map[bool]string{true: "the culprit", false: "the culprits, together"}[len(f.Culprits) == 1], strings.Join(f.Culprits, ", "))
	if len(f.With) > 0 {
		fmt.Fprintf(e.out, "with what they need: %s\n", strings.Join(f.With, ", "))
	}
	fmt.Fprintf(e.out, "because %s\n", f.Reason)
	for _, v := range f.Evidence {
		fmt.Fprintf(e.out, "  log line %d: %s\n", v.Line, v.Text)
	}
	if f.Rate < 1 {
		fmt.Fprintf(e.out, "it fails in about %.0f %% of the starts; %d without it counted as sound\n", f.Rate*100, f.Repeat)
	}
	if !f.Sure {
		fmt.Fprintln(e.out, "this did not hold when it was tried again; look at it with doubt, or search again with --repeat")
	}
	fmt.Fprintf(e.out, "%s\n", count(f.Starts, "start", "starts"))
	for _, c := range f.Changes {
		command := "off"
		if c.Op == lineup.OpRemove {
			command = "remove"
		}
		fmt.Fprintf(e.out, "remedy: %s (initium %s %s %s)\n", c, command, f.Server, text.Clean(c.Mod))
	}
	switch {
	case f.Cured:
		fmt.Fprintln(e.out, "with that all the others are sound, as a start has shown")
	case f.Sure:
		fmt.Fprintln(e.out, "the others still fail with that: there is another cause too; make the change, and search again")
	}
	for _, r := range f.Instead {
		fmt.Fprintf(e.out, "or perhaps: %s (not tried)\n", r.Text)
	}
}
