package learn

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
)

// Write writes what was found as a dialect that begins with an outline, each rule with a comment on
// what it rests on. files are those that the server writes its log into, as the dialect names them;
// signal is the one that ends it, "" for the usual one.
func (f *Findings) Write(o teach.Outline, files []string, signal string) ([]byte, error) {
	if f.Order != "" {
		o.Order = f.Order
	}
	if o.Always {
		o.Aside = f.Aside
	}
	if f.Listens {
		o.Listens = fmt.Sprint(f.Port)
		if o.Port == f.Port {
			o.Listens = "{port}"
		}
	}
	head, err := o.Write()
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	b.Write(head)
	put := func(key string, value any) {
		line, failed := toml.Marshal(map[string]any{key: value})
		if err == nil {
			err = failed
		}
		b.Write(line)
	}
	if signal != "" {
		b.WriteString("\n[stop]\n")
		put("signal", signal)
	}
	if len(f.Load) > 0 {
		b.WriteString("\n# What became of mods that something was wrong with, when that was tried.\n[load]\n")
		for _, key := range slices.Sorted(maps.Keys(f.Load)) {
			put(key, string(f.Load[key]))
		}
	}
	for _, mod := range slices.Sorted(maps.Keys(f.Needs)) {
		fmt.Fprintf(&b, "# %s did not load without %s.\n", comment(mod), comment(strings.Join(f.Needs[mod], ", ")))
	}
	b.WriteString("\n[log]\n")
	if f.Prefix.Pattern != "" {
		put("prefix", f.Prefix.Pattern)
		if f.Prefix.Time != "" {
			put("time", f.Prefix.Time)
		}
	}
	if len(files) > 0 {
		put("files", files)
	}
	doc := []byte(b.String())
	if f.Held {
		doc = append(doc, "\n# A mod that is on has files in the server's memory, and one that is off has none.\n[[probe]]\nof = 'loaded'\nmapped = true\n"...)
	}
	if err != nil {
		return nil, err
	}
	return f.writeRules(doc)
}

// writeRules adds the rules, those that fit the lines of others too behind these.
func (f *Findings) writeRules(doc []byte) ([]byte, error) {
	rules := slices.Clone(f.Rules)
	var prefix *text.Pattern
	if f.Prefix.Pattern != "" {
		prefix, _ = text.ParsePattern(f.Prefix.Pattern, nil)
		if prefix != nil && f.Prefix.Time != "" {
			prefix.Shape("time", f.Prefix.Time)
		}
	}
	fits := func(r *Rule, line string) bool {
		p, err := text.ParsePattern(r.Line, nil)
		return err == nil && teach.Fits(prefix, &r.Rule, p, line)
	}
	takes := func(a, b *Rule) bool { // lines of b
		return slices.ContainsFunc(b.Examples, func(e teach.Example) bool { return fits(a, e.Line) })
	}
	for i := range rules {
		for k := i + 1; k < len(rules); k++ {
			if takes(&rules[i], &rules[k]) && !takes(&rules[k], &rules[i]) {
				rules[i], rules[k] = rules[k], rules[i]
			}
		}
	}
	for i := range rules {
		block, err := ruleText(&rules[i])
		if err != nil {
			return nil, err
		}
		doc = append(doc, "\n"+block...)
	}
	return doc, nil
}

func ruleText(r *Rule) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s%s: %s\n", strings.ToUpper(r.Why[:1]), comment(r.Why[1:]), comment(r.Examples[0].Line))
	b.WriteString("[[log.rule]]\n")
	for _, kv := range []struct {
		key   string
		value any
		there bool
	}{{"means", string(r.Means), true}, {"level", r.Level, r.Level != ""}, {"source", r.Source, r.Source != ""}, {"line", r.Line, true}, {"fatal", true, r.Fatal}, {"own", true, r.Own}} {
		if !kv.there {
			continue
		}
		line, err := toml.Marshal(map[string]any{kv.key: kv.value})
		if err != nil {
			return "", fmt.Errorf("write a rule: %w", err)
		}
		b.Write(line)
	}
	return b.String(), nil
}

// comment is a text as it may stand behind a comment mark: in one line, cleaned, and no longer than
// anybody reads.
func comment(s string) string {
	const most = 160
	s = strings.Join(strings.Fields(text.Mask(text.Clean(s), nil)), " ")
	if r := []rune(s); len(r) > most {
		s = string(r[:most]) + "…"
	}
	return s
}

// Fates are what became of mods that something was wrong with, in words, in a steady order.
func (f *Findings) Fates() (list []string) {
	words := map[string]string{"absent": "a name that is nowhere", "script": "a mod whose files make no sense", "twice": "a mod that is registered twice", "need_absent": "a mod that lacks what it needs"}
	fates := map[dialect.Fate]string{dialect.FateFails: "fails, and the server goes on", dialect.FateStops: "stops the server", dialect.FateLater: "stops the server once the others have loaded", dialect.FateFirst: "stops the server before it loads any", dialect.FatePassed: "is passed over in silence", dialect.FateIgnored: "is of no consequence"}
	for _, key := range []string{"absent", "script", "twice", "need_absent"} {
		if fate, ok := f.Load[key]; ok {
			list = append(list, words[key]+" "+fates[fate])
		}
	}
	return list
}
