package cli

import (
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"initium/internal/app"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Version is what this Initium is called; scripts/build sets it.
var Version = ""

// version is what initium --version says.
func version() string {
	if Version != "" {
		return Version
	}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				return "of revision " + s.Value[:min(len(s.Value), 12)]
			}
		}
	}
	return "built from source"
}

// groups are what an operator is doing, with the commands for it.
var groups = []struct {
	title    string
	commands []string
}{
	{"Begin with a server:", []string{"demo", "new", "adopt", "give", "servers", "host", "at", "sync", "dialect", "learn", "teach", "stand-in"}},
	{"Look at it, before a start:", []string{"survey", "check", "accept", "owed", "rule", "order"}},
	{"Change its line-up:", []string{"register", "unregister", "on", "off", "move", "plan", "apply", "form"}},
	{"Change what is set:", []string{"settings", "set", "unset", "edit", "put", "merge", "sql"}},
	{"Bring mods in and take them out:", []string{"look", "take", "remove"}},
	{"Change what it stands on:", []string{"builds", "use", "renew"}},
	{"Start it, and prove that all loaded:", []string{"prove", "rehearse", "each", "expect", "stop", "log", "say", "reload", "load", "unload", "guard", "keep", "service"}},
	{"Find out what went wrong:", []string{"remedy", "compare", "culprit", "read"}},
	{"Do it again elsewhere:", []string{"recipe", "differ", "own", "carry"}},
	{"Go back, and keep safe:", []string{"ledger", "undo", "backup", "restore", "baseline"}},
	{"Tell others:", []string{"export"}},
}

// arranged puts the commands into their groups.
func arranged(root *cobra.Command) {
	for i, g := range groups {
		id := strconv.Itoa(i)
		root.AddGroup(&cobra.Group{ID: id, Title: g.title})
		for _, c := range root.Commands() {
			if slices.Contains(g.commands, c.Name()) {
				c.GroupID = id
			}
		}
	}
}

// helpOf is the command line that explains a command.
func helpOf(cmd *cobra.Command) string {
	return strings.TrimSpace("initium help " + strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "initium"), " "))
}

// flagError says which option was meant.
func flagError(cmd *cobra.Command, err error) error {
	said := fmt.Errorf("%w: %w; see %s", errArgs, err, helpOf(cmd))
	_, typed, ok := strings.Cut(err.Error(), "unknown flag: --")
	if !ok {
		return said
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if near := text.Nearest(typed, names); near != "" {
		said = fmt.Errorf("%w: %w; did you mean --%s? See %s", errArgs, err, near, helpOf(cmd))
	}
	return said
}

// noSuch says that a word is neither a server nor a command, and what may have been meant.
func (e *env) noSuch(root *cobra.Command, word string) error {
	names, _ := e.app.Home.Servers() // without them none is proposed
	for _, c := range root.Commands() {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	said := fmt.Sprintf("%s is neither a command nor an adopted server", text.Clean(word))
	if near := text.Nearest(word, names); near != "" {
		said += "; did you mean " + near + "?"
	}
	return fmt.Errorf("%w: %s (initium --help lists the commands, initium servers the servers)", errArgs, said)
}

// meant adds to an error about a server, a mod or a section that there is not which one may
// have been meant.
func (e *env) meant(err error, words []string) error {
	var usage app.UsageError
	if !errors.Is(err, host.ErrUnknownServer) && !errors.As(err, &usage) || len(words) < 2 || strings.Contains(err.Error(), "did you mean") {
		return err
	}
	names, _ := e.app.Home.Servers()
	if !errors.Is(err, host.ErrUnknownServer) {
		at := slices.IndexFunc(words, func(word string) bool { return slices.Contains(names, word) })
		if at < 0 {
			return err
		}
		server := words[at : at+1]
		words, names = words[at+1:], slices.Concat(e.modsOf(server), e.sectionsOf(server))
	}
	for _, word := range words {
		if _, value, ok := strings.Cut(word, "="); ok {
			word = value // of a flag
		}
		if !strings.Contains(err.Error(), text.Clean(word)) || slices.Contains(names, word) {
			continue
		}
		if near := text.Nearest(word, names); near != "" {
			return fmt.Errorf("%w; did you mean %s?", err, text.Clean(near))
		}
	}
	return err
}

// completed gives every command the names that its arguments can have, by the words of its
// usage: servers, mods of that server, dialects, entries of its ledger.
func (e *env) completed(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		e.completed(c)
	}
	kinds := strings.Fields(cmd.Use)[1:]
	if len(kinds) == 0 || cmd.ValidArgsFunction != nil {
		return
	}
	cmd.ValidArgsFunction = func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= len(kinds) && !strings.HasSuffix(kinds[len(kinds)-1], "...") {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		kind := strings.Trim(kinds[min(len(args), len(kinds)-1)], "[].")
		switch kind {
		case "SERVER":
			names, _ := e.app.Home.Servers()
			return names, cobra.ShellCompDirectiveNoFileComp
		case "MOD", "OTHER":
			return e.modsOf(args), cobra.ShellCompDirectiveNoFileComp
		case "ENTRY":
			return e.entriesOf(args), cobra.ShellCompDirectiveNoFileComp
		case "NAME":
			return e.dialectNames(), cobra.ShellCompDirectiveDefault
		case "DIR", "FILE", "SOURCE", "LOG":
			return nil, cobra.ShellCompDirectiveDefault
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for flag, names := range map[string]func([]string) []string{"before": e.modsOf, "after": e.modsOf, "section": e.sectionsOf, "dialect": func([]string) []string { return e.dialectNames() }} {
		if cmd.Flags().Lookup(flag) != nil {
			cmd.RegisterFlagCompletionFunc(flag, func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
				return names(args), cobra.ShellCompDirectiveNoFileComp
			})
		}
	}
}

func (e *env) modsOf(args []string) (names []string) {
	if len(args) == 0 {
		return nil
	}
	s, err := e.app.Survey(args[0])
	if err != nil {
		return nil
	}
	for i := range s.Mods {
		names = append(names, s.Mods[i].Name)
	}
	return names
}

func (e *env) sectionsOf(args []string) []string {
	if len(args) == 0 {
		return nil
	}
	s, err := e.app.Survey(args[0])
	if err != nil {
		return nil
	}
	return s.Lineup.SectionTitles()
}

func (e *env) entriesOf(args []string) (numbers []string) {
	if len(args) == 0 {
		return nil
	}
	entries, err := e.app.Ledger(args[0])
	if err != nil {
		return nil
	}
	for _, entry := range entries {
		numbers = append(numbers, fmt.Sprintf("%d\t%s", entry.Number, text.Clean(entry.Why)))
	}
	return numbers
}

func (e *env) dialectNames() (names []string) {
	list, err := e.app.Dialects()
	if err != nil {
		return nil
	}
	for _, d := range list {
		names = append(names, d.Name)
	}
	return names
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
