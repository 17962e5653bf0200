package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/mod"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

func (e *env) adopt() *cobra.Command {
	var ad app.Adoption
	var sets []string
	cmd := &cobra.Command{
		Use:   "adopt DIR",
		Short: "Take a server into Initium's care; nothing is written into its folder",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := assignments(sets)
			if err != nil {
				return err
			}
			ad.Dir, ad.Set = args[0], set
			r, err := e.app.Adopt(cmd.Context(), ad)
			if err != nil {
				return err
			}
			look, err := e.app.Look(r.Name)
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "adopted %s as %s (%s)\n", text.Clean(r.Place(r.Dir)), r.Name, look.Server.Dialect.Title)
			values, err := e.app.Values(r.Name)
			if err != nil {
				return err
			}
			e.printValues(values)
			if n := check.Count(look.Findings, check.Error); n > 0 {
				fmt.Fprintf(e.out, "check has %s to tell: initium check %s\n", count(n, "error", "errors"), r.Name)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&ad.Dialect, "dialect", "", "the family of the server; recognised from its files when left out")
	cmd.Flags().StringVar(&ad.As, "as", "", "the name to call it by; the folder's name when left out")
	cmd.Flags().StringArrayVar(&sets, "set", nil, "a value that the dialect asks for, as KEY=VALUE; may be repeated")
	return cmd
}

// printValues lists what a server was given, or has of its family.
func (e *env) printValues(values []app.Value) {
	for _, v := range values {
		if v.Value == "" && v.Problem == "" {
			continue
		}
		about := ""
		if v.Problem != "" {
			about = "  (" + v.Problem + ")"
		}
		fmt.Fprintf(e.out, "  %-10s %s%s\n", v.Name, text.Clean(v.Value), text.Clean(about))
	}
}

func (e *env) give() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "give SERVER [KEY=VALUE...]",
		Short: "Change values that a server's family asks for, such as its port; alone it lists them",
		Long: "Values hold until they are changed, and each change is an entry of the ledger that undo takes back. KEY= takes your value back: what a file of the\n" +
			"server says holds again, or the family's own.",
		Example: "  initium give harbour\n  initium give harbour port=30500",
		Args:    args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return e.listGiven(args[0], asJSON)
			}
			set, err := assignments(args[1:])
			if err != nil {
				return err
			}
			changed, err := e.app.Give(cmd.Context(), args[0], set)
			if err != nil {
				return err
			}
			for _, g := range changed {
				fmt.Fprintln(e.out, text.Clean(g.String()))
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the list as JSON")
	return cmd
}

// listGiven lists the values of a server with who says them.
func (e *env) listGiven(server string, asJSON bool) error {
	values, err := e.app.Values(server)
	if err != nil {
		return err
	}
	if asJSON {
		return e.json(map[string]any{"server": server, "values": append([]app.Value{}, values...)})
	}
	if len(values) == 0 {
		fmt.Fprintf(e.out, "the family of %s asks for no values\n", server)
	}
	for _, v := range values {
		from := "the family's, or a file's"
		if v.Given {
			from = "given"
		}
		if v.Problem != "" {
			from += "; " + v.Problem
		}
		fmt.Fprintf(e.out, "%-12s %-30s  %s\n", v.Name, text.Clean(v.Value), text.Clean(from))
		if v.About != "" {
			fmt.Fprintf(e.out, "             %s\n", text.Clean(v.About))
		}
	}
	return nil
}

// assignments reads KEY=VALUE words.
func assignments(words []string) (map[string]string, error) {
	set := map[string]string{}
	for _, s := range words {
		name, value, ok := strings.Cut(s, "=")
		if !ok {
			return nil, fmt.Errorf("%w: a value is given as KEY=VALUE, not %q", errArgs, s)
		}
		set[name] = value
	}
	return set, nil
}

// jsonServer is a server at a glance.
type jsonServer struct {
	Server    string     `json:"server"`
	Dialect   string     `json:"dialect"`
	Place     string     `json:"place"`
	Host      string     `json:"host"` // "" for this machine
	LineDown  bool       `json:"line_down"`
	Running   bool       `json:"running"` // of a server on this machine
	Since     *time.Time `json:"since"`   // it runs
	Players   *int       `json:"players"` // null where that is not known
	Port      string     `json:"port"`
	Mods      int        `json:"mods"`
	LastStart string     `json:"last_start"`
	Changed   []string   `json:"changed"` // since the last proved start
	Errors    int        `json:"errors"`
	Owed      int        `json:"owed"`
	Staged    int        `json:"staged"`
	Problem   string     `json:"problem,omitempty"`
}

func serverJSON(s *app.Summary) jsonServer {
	j := jsonServer{Server: s.Name, Dialect: s.Dialect, Place: text.Clean(s.Dir), Host: s.Host, LineDown: s.Down, Running: s.State.Up, Players: s.Players, Port: text.Clean(s.Port), Mods: s.Registered,
		LastStart: LastStart(*s), Changed: append([]string{}, s.Since...), Errors: s.Errors, Owed: s.Owed, Staged: s.Staged, Problem: s.Problem}
	if s.State.Up {
		j.Since = &s.State.Since
	}
	return j
}

func (e *env) servers() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "servers",
		Short: "List the adopted servers",
		Args:  args(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e.app.CatchUpAll(cmd.Context())
			list, err := e.app.Servers()
			if err != nil {
				return err
			}
			if asJSON {
				servers := []jsonServer{}
				for i := range list {
					servers = append(servers, serverJSON(&list[i]))
				}
				return e.json(servers)
			}
			distant, err := e.app.Distant(cmd.Context())
			if err != nil {
				return err
			}
			if len(list)+len(distant) == 0 {
				fmt.Fprintln(e.out, "no server is adopted yet; begin with: initium adopt DIR")
				return nil
			}
			return e.table(func(w io.Writer) {
				fmt.Fprintln(w, "SERVER\tKIND\tSTATE\tPORT\tMODS\tLAST START\tTO DO\tFOLDER")
				for _, s := range list {
					state, fine := s.StateWords()
					if fine && s.State.Up {
						state += " since " + s.State.Since.Format("Jan 2 15:04") + app.In(s.Players)
					}
					if s.Problem != "" {
						state = s.Problem
					}
					fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d\t%s\t%s\t%s\n", s.Name, s.Dialect, state, text.Clean(s.Port), s.Registered, LastStart(s), s.ToDo(), text.Clean(s.Dir))
				}
				for i := range distant {
					d := &distant[i]
					state := cmp.Or(d.Down, d.Problem, d.StateWords())
					fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d\t%s\t%s\t%s\n", d.Name(), d.Dialect, state, d.Port, d.Mods, d.LastStart, app.ToDo(d.Errors, d.Owed, d.Staged), d.Place)
				}
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// LastStart sums up how the last start of a server went.
func LastStart(s app.Summary) string {
	switch {
	case s.Last == nil && s.Host != "":
		return "no start seen yet"
	case s.Last == nil:
		return "never started"
	case s.Last.Verdict != proof.Proved:
		return "not proved"
	case s.Changed:
		const most = 2
		words := strings.Join(s.Since[:min(len(s.Since), most)], ", ")
		if len(s.Since) > most {
			words += ", …"
		}
		return "proved, changed since (" + words + ")"
	}
	return "proved"
}

func (e *env) survey() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "survey SERVER",
		Short: "Tell what is on a server: its mods in load order, with release and needs",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := e.app.Survey(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(surveyJSON(s))
			}
			return e.printSurvey(s)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

type jsonSurvey struct {
	Server  string    `json:"server"`
	Dialect string    `json:"dialect"`
	Dir     string    `json:"dir"`
	Mods    []jsonMod `json:"mods"`
}

type jsonMod struct {
	Name          string   `json:"name"`
	Release       string   `json:"release"`
	Registered    bool     `json:"registered"`
	On            bool     `json:"on"`
	Position      int      `json:"position"`
	Section       string   `json:"section"`
	Path          string   `json:"path"`
	Needs         []string `json:"needs"`
	OptionalNeeds []string `json:"optional_needs"`
	Base          bool     `json:"base"`
}

func surveyJSON(s *survey.Survey) jsonSurvey {
	j := jsonSurvey{s.Server, s.Dialect.Name, s.Vars["dir"], []jsonMod{}}
	for i := range s.Mods {
		m := &s.Mods[i]
		j.Mods = append(j.Mods, jsonMod{text.Clean(m.Name), text.Clean(m.Release), m.Registered, m.On, m.Position,
			text.Clean(m.Section), text.Clean(m.Path), cleanAll(mod.Names(m.Needs())), cleanAll(mod.Names(m.OptionalNeeds())), m.Base})
	}
	return j
}

func cleanAll(list []string) []string {
	clean := make([]string, len(list))
	for i := range list {
		clean[i] = text.Clean(list[i])
	}
	return clean
}

func (e *env) printSurvey(s *survey.Survey) error {
	var rows bytes.Buffer
	w := tabwriter.NewWriter(&rows, 0, 4, 2, ' ', 0)
	var titles []string // of the section that begins with a row, "" for none
	section, base := "", 0
	fmt.Fprintln(w, "  #\tNAME\tRELEASE\tSTATE\tNEEDS")
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Base {
			base++
			continue
		}
		title := ""
		if m.Registered && m.Section != section {
			section, title = m.Section, m.Section
		}
		titles = append(titles, title)
		position := ""
		if m.Position > 0 {
			position = fmt.Sprint(m.Position)
		}
		fmt.Fprintf(w, "%3s\t%s\t%s\t%s\t%s\n", position, text.Clean(m.Name), text.Clean(m.Release), state(m), strings.Join(cleanAll(mod.Names(m.Needs())), ", "))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for i, line := range strings.Split(strings.TrimRight(rows.String(), "\n"), "\n") {
		if i > 0 && titles[i-1] != "" {
			fmt.Fprintln(e.out, text.Clean(titles[i-1]))
		}
		fmt.Fprintln(e.out, strings.TrimRight(line, " "))
	}
	if base > 0 {
		fmt.Fprintf(e.out, "and %s that the server brings itself\n", count(base, "mod", "mods"))
	}
	return nil
}

func state(m *survey.Mod) string {
	switch {
	case !m.Registered && m.Always:
		return "not registered, loads anyway"
	case !m.Registered:
		return "not registered"
	case !m.On:
		return "off"
	case m.Path == "":
		return "not there"
	}
	return "on"
}

// short leaves the server's folder out of a path.
func short(dir, file string) string { return strings.TrimPrefix(file, dir+"/") }

// printPlan shows the lines that a plan changes.
func (e *env) printPlan(dir string, p *plan.Plan) {
	for i := range p.Parts {
		e.printPart(dir, &p.Parts[i])
	}
	for _, f := range p.Files {
		fmt.Fprintf(e.out, "%s\n", text.Clean(short(dir, f.Path)))
		for _, row := range f.Rows(2) {
			switch row.Kind {
			case plan.Stays:
				fmt.Fprintf(e.out, "  %4d    %s\n", row.NewLine, row.Text)
			case plan.Goes:
				fmt.Fprintf(e.out, "  %4d  < %s\n", row.OldLine, row.Text)
			case plan.Comes:
				fmt.Fprintf(e.out, "  %4d  > %s\n", row.NewLine, row.Text)
			case plan.Gap:
				fmt.Fprintln(e.out, "     …")
			}
		}
	}
	for _, g := range p.Given {
		fmt.Fprintf(e.out, "value: %s\n", text.Clean(g.String()))
	}
	for _, r := range p.Unrules {
		fmt.Fprintf(e.out, "rule taken back: %s\n", text.Clean(r.String()))
	}
	for _, r := range p.Rules {
		fmt.Fprintf(e.out, "rule: %s (%s)\n", text.Clean(r.String()), text.Clean(r.Because))
	}
}
