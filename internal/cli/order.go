package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/rule"
	"initium/internal/core/text"
)

func (e *env) rule() *cobra.Command {
	var because string
	var family, asJSON, fromLog bool
	var drop int64
	cmd := &cobra.Command{
		Use:   "rule SERVER [KIND MOD [OTHER]]",
		Short: "Write down what you know about mods: what comes before what, what cannot be together, what one needs",
		Long: `Without a kind the rules are listed. The kinds are:

  before MOD OTHER   MOD loads before OTHER, if both are there
  after MOD OTHER    MOD loads after OTHER, if both are there
  apart MOD OTHER    the two cannot be together
  first MOD          MOD loads before all that it does not need
  last MOD           MOD loads after all that do not need it
  stay MOD           a repair of the order does not move MOD
  needs MOD OTHER    MOD cannot do without OTHER
  reads MOD SETTING  MOD reads SETTING when it starts`,
		Args: args(cobra.RangeArgs(1, 4)),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case cmd.Flags().Changed("drop"):
				return e.app.DropRule(args[0], drop)
			case fromLog:
				written, err := e.app.NeedsFromLog(args[0])
				for _, r := range written {
					fmt.Fprintln(e.out, r)
				}
				if err == nil && len(written) == 0 {
					fmt.Fprintln(e.out, "the last log tells of no need that is not known")
				}
				return err
			case len(args) == 1:
				return e.listRules(args[0], asJSON)
			case len(args) == 2:
				return fmt.Errorf("%w: say which mod the rule is about", errArgs)
			}
			r := rule.Rule{Kind: rule.Kind(args[1]), Mod: args[2], Because: because, Family: family}
			if len(args) == 4 {
				r.Other = args[3]
			}
			return e.app.PutRule(args[0], r)
		},
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason")
	cmd.Flags().BoolVar(&family, "family", false, "for all servers of the same dialect")
	cmd.Flags().Int64Var(&drop, "drop", 0, "take the rule with this number back")
	cmd.Flags().BoolVar(&fromLog, "from-log", false, "write down as rules what the last log said that mods need")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (e *env) listRules(server string, asJSON bool) error {
	rules, err := e.app.Rules(server)
	if err != nil {
		return err
	}
	if asJSON {
		return e.json(map[string]any{"server": server, "rules": orEmpty(rules)})
	}
	if len(rules) == 0 {
		fmt.Fprintln(e.out, "no rule is written down; initium help rule tells how")
		return nil
	}
	return e.table(func(w io.Writer) {
		for _, r := range rules {
			scope := ""
			if r.Family {
				scope = "for the whole family"
			}
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", r.Number, r, r.Why(), scope)
		}
	})
}

func (e *env) order() *cobra.Command {
	var asJSON, stage, apply bool
	cmd := &cobra.Command{
		Use:   "order SERVER",
		Short: "Tell what stands the wrong way round, and the fewest moves that mend it; exit status 1 if something does",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			look, err := e.app.Look(args[0])
			if err != nil {
				return err
			}
			moves := look.Repair.Changes()
			switch {
			case asJSON:
				if err := e.json(orderJSON(look)); err != nil {
					return err
				}
			case (stage || apply) && len(moves) > 0:
				return e.change(cmd.Context(), args[0], stage, moves...)
			default:
				e.printOrder(args[0], look)
			}
			if len(wrongOrder(look)) > 0 {
				return errNo
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&stage, "stage", false, "gather the moves; initium apply makes them")
	cmd.Flags().BoolVar(&apply, "repair", false, "make the moves")
	return cmd
}

// wrongOrder lists the messages of the findings about order.
func wrongOrder(look *app.Look) (list []string) {
	for _, f := range look.Findings {
		switch f.Code {
		case "need-late", "asked-late", "rule-broken", "setting-late", "need-circle":
			list = append(list, f.Message)
		}
	}
	return list
}

type jsonMove struct {
	Change  string   `json:"change"`
	Reasons []string `json:"reasons"`
}

func orderJSON(look *app.Look) map[string]any {
	moves := []jsonMove{}
	for _, m := range look.Repair.Moves {
		moves = append(moves, jsonMove{m.Change.String(), m.Reasons})
	}
	return map[string]any{"server": look.Server.Record.Name, "decides": look.Survey.Dialect.Order, "wrong": orEmpty(wrongOrder(look)),
		"moves": moves, "excess": look.Repair.Excess, "left": orEmpty(leftByRepair(look)), "foretold": orEmpty(look.Forecast.Order)}
}

// leftByRepair is what the moves of a repair do not mend.
func leftByRepair(look *app.Look) []string {
	list := make([]string, len(look.Repair.Left))
	for i, words := range look.Repair.Left {
		list[i] = text.Clean(words)
	}
	return list
}

func (e *env) printOrder(server string, look *app.Look) {
	if look.Survey.Dialect.Order == dialect.OrderServer {
		e.printForetold(server, look)
	}
	wrong := wrongOrder(look)
	for _, w := range wrong {
		fmt.Fprintln(e.out, "wrong    "+w)
	}
	for _, m := range look.Repair.Moves {
		fmt.Fprintf(e.out, "%s\n         because %s\n", m.Change, text.Clean(strings.Join(m.Reasons, "; ")))
	}
	left := leftByRepair(look)
	for _, words := range left {
		fmt.Fprintln(e.out, "left     "+words)
	}
	switch n := len(look.Repair.Moves); {
	case len(wrong) == 0 && look.Survey.Dialect.Order == dialect.OrderServer:
	case len(wrong) == 0:
		fmt.Fprintln(e.out, "every mod comes after what it needs")
	case n == 0:
		fmt.Fprintln(e.out, "no move mends it")
	case len(left) > 0:
		fmt.Fprintln(e.out, "moves mend the rest of it; --repair makes them, --stage gathers them")
	case look.Repair.Excess > 0:
		fmt.Fprintf(e.out, "%s, at most %d more than the fewest; --repair makes them, --stage gathers them\n", count(n, "move", "moves"), look.Repair.Excess)
	case n == 1:
		fmt.Fprintln(e.out, "one move does it; --repair makes it, --stage gathers it")
	default:
		fmt.Fprintf(e.out, "%s, and no fewer will do; --repair makes them, --stage gathers them\n", count(n, "move", "moves"))
	}
}

// printForetold shows the order that a server is expected to choose, beside the
// one that it chose last.
func (e *env) printForetold(server string, look *app.Look) {
	last, _, err := e.app.LastStart(server)
	if len(look.Forecast.Order) == 0 && slices.ContainsFunc(look.Forecast.Mods, func(m forecast.Mod) bool { return m.Outcome == forecast.Confirmed }) {
		fmt.Fprintln(e.out, "the server orders its mods itself, and in which order cannot be foretold")
		return
	}
	if len(look.Forecast.Order) == 0 {
		fmt.Fprintln(e.out, "the server orders its mods itself, and none is expected to load; initium check "+server+" tells why")
		return
	}
	at := map[string]int{}
	if err == nil && last != nil {
		for i, name := range last.Order {
			at[name] = i + 1
		}
	}
	fmt.Fprintln(e.out, "the server orders its mods itself; foretold, and as it was at the last start:")
	for i, name := range look.Forecast.Order {
		was := "-"
		if n := at[name]; n > 0 {
			was = strconv.Itoa(n)
		}
		fmt.Fprintf(e.out, "%4d %4s  %s\n", i+1, was, name)
	}
}
