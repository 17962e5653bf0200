package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/forecast"
	"initium/internal/core/text"
)

func (e *env) check() *cobra.Command {
	var asJSON, probe bool
	var explain string
	cmd := &cobra.Command{
		Use:   "check SERVER",
		Short: "Tell what is wrong before the start, and what the server will do with each mod; exit status 1 if there is an error",
		Args: func(cmd *cobra.Command, given []string) error {
			if explain != "" && len(given) == 0 {
				return nil
			}
			return args(cobra.ExactArgs(1))(cmd, given)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if explain != "" {
				return e.explain(explain, asJSON)
			}
			look, err := e.app.Look(args[0])
			if err != nil {
				return err
			}
			if probe {
				faults, err := e.app.Probe(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				look.Findings = append(faults, look.Findings...)
			}
			if asJSON {
				err = e.json(jsonCheck{args[0], orEmpty(look.Findings), orEmpty(look.Forecast.Mods), look.Forecast.Stops, orEmpty(look.Forecast.Order)})
			} else {
				e.printFindings(look)
				e.printForecast(look)
			}
			if err == nil && check.Count(look.Findings, check.Error) > 0 {
				return errNo
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&probe, "probe", false, "have the server's own command look through its startup files too, where its family has one")
	cmd.Flags().StringVar(&explain, "explain", "", "tell what a kind of finding is, how it shows in a log, and what to do; \"all\" lists them")
	return cmd
}

type jsonCheck struct {
	Server   string          `json:"server"`
	Findings []check.Finding `json:"findings"`
	Forecast []forecast.Mod  `json:"forecast"`
	Stops    string          `json:"stops"` // why the server will stop by itself, "" when it will not
	Order    []string        `json:"order"` // in which mods are expected to load, the server's own among them
}

// orEmpty keeps JSON from saying null for a list.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func (e *env) explain(code string, asJSON bool) error {
	codes := []check.Code{check.Code(code)}
	if code == "all" {
		codes = check.Codes()
	}
	var list []check.Explanation
	for _, c := range codes {
		x, ok := check.Explain(c)
		if !ok {
			return fmt.Errorf("%w: there is no kind of finding %q; initium check --explain all lists them", errArgs, c)
		}
		list = append(list, x)
	}
	if asJSON {
		return e.json(list)
	}
	for i, x := range list {
		if i > 0 {
			fmt.Fprintln(e.out)
		}
		fmt.Fprintf(e.out, "%s\n  what it is   %s\n  in the log   %s\n  what to do   %s\n", x.Code, x.What, x.Shows, x.Do)
	}
	return nil
}

func (e *env) printFindings(look *app.Look) {
	dir := look.Server.Record.Dir
	var unregistered []string
	for _, f := range look.Findings {
		if f.Code == check.CodeNotRegistered {
			unregistered = append(unregistered, f.Mod)
		}
	}
	const fewEnough = 5
	many := len(unregistered) > fewEnough
	accepted := 0
	for _, f := range look.Findings {
		if f.Accepted != "" {
			accepted++
			continue
		}
		if many && f.Code == check.CodeNotRegistered {
			continue
		}
		where := short(dir, f.File)
		if f.Line > 0 {
			where += fmt.Sprintf(":%d:%d", f.Line, f.Column)
		}
		fmt.Fprintf(e.out, "%-8s %s\n", f.Severity, f.Message)
		if where != "" {
			where = "at " + where + " "
		}
		fmt.Fprintf(e.out, "         %s[%s]\n", where, f.Code)
		if f.Remedy != "" {
			fmt.Fprintf(e.out, "         remedy: %s\n", f.Remedy)
		}
	}
	if many {
		fmt.Fprintf(e.out, "%-8s %d mods are there and not registered: %s and more (--json lists all)\n",
			check.Note, len(unregistered), strings.Join(unregistered[:fewEnough], ", "))
	}
	for _, f := range look.Findings {
		if f.Accepted != "" {
			fmt.Fprintf(e.out, "%-8s %s (%s)\n", "accepted", f.Message, text.Clean(f.Accepted))
		}
	}
	fmt.Fprintf(e.out, "%s, %s, %s", count(check.Count(look.Findings, check.Error), "error", "errors"),
		count(check.Count(look.Findings, check.Warning), "warning", "warnings"), count(check.Count(look.Findings, check.Note), "note", "notes"))
	if accepted > 0 {
		fmt.Fprintf(e.out, ", %d accepted", accepted)
	}
	fmt.Fprintln(e.out)
}

// printForecast sums up what the next start will show.
func (e *env) printForecast(look *app.Look) {
	counts := map[forecast.Outcome]int{}
	on := 0
	for _, m := range look.Forecast.Mods {
		if m.Cause != forecast.Off {
			counts[m.Outcome]++
			on++
		}
	}
	fmt.Fprintf(e.out, "the next start: %d of %d mods confirmed, %d failed, %d not loaded", counts[forecast.Confirmed], on, counts[forecast.Failed], counts[forecast.NotLoaded])
	if look.Forecast.Stops != "" {
		fmt.Fprintf(e.out, "; the server stops: %s", look.Forecast.Stops)
	}
	fmt.Fprintln(e.out)
}

func (e *env) accept() *cobra.Command {
	var because string
	var back bool
	cmd := &cobra.Command{
		Use:   "accept SERVER CODE [MOD]",
		Short: "Accept a finding as it is, with the reason, until the facts it tells of change",
		Args:  args(cobra.RangeArgs(2, 3)),
		RunE: func(_ *cobra.Command, args []string) error {
			mod := ""
			if len(args) == 3 {
				mod = args[2]
			}
			if back {
				return e.app.Unaccept(args[0], check.Code(args[1]), mod)
			}
			hit, err := e.app.Accept(args[0], check.Code(args[1]), mod, because)
			for _, f := range hit {
				fmt.Fprintf(e.out, "accepted: %s\n", f.Message)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason")
	cmd.Flags().BoolVar(&back, "back", false, "take the acceptance back")
	return cmd
}

func (e *env) owed() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "owed SERVER",
		Short: "What is still to be done: what mods have left open, settings without their value, a start; exit status 1 if anything is",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := e.app.Owed(args[0])
			if err != nil {
				return err
			}
			open := 0
			for _, o := range list {
				if o.Waived == "" {
					open++
				}
			}
			if asJSON {
				err = e.json(list)
			} else {
				e.printOwed(list)
			}
			if err == nil && open > 0 {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (e *env) printOwed(list []app.Owing) {
	if len(list) == 0 {
		fmt.Fprintln(e.out, "nothing that Initium knows of is still to be done")
	}
	for _, o := range list {
		who := ""
		if o.Mod != "" {
			who = o.Mod + ": "
		}
		if o.Waived != "" {
			fmt.Fprintf(e.out, "waived  %s%s (%s)\n", who, o.About, o.Waived)
			continue
		}
		fmt.Fprintf(e.out, "owed    %s%s\n", who, o.About)
		if o.How != "" {
			fmt.Fprintf(e.out, "        %s\n", o.How)
		}
	}
}

// placed is a finding with its place.
func placed(f check.Finding) string {
	switch {
	case f.File == "":
		return f.Message
	case f.Line == 0:
		return f.File + ": " + f.Message
	}
	return fmt.Sprintf("%s:%d: %s", f.File, f.Line, f.Message)
}
