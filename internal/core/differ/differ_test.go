package differ_test

import (
	"strings"
	"testing"

	"initium/internal/core/differ"
	"initium/internal/insist"
)

func said(list []differ.Difference) string {
	var words []string
	for _, d := range list {
		words = append(words, d.String())
	}
	return strings.Join(words, "\n")
}

func TestCompare(t *testing.T) {
	mod := func(name, words string) differ.Mod {
		m := differ.Mod{Name: name, Release: "1", Digest: "d", Registered: !strings.Contains(words, "loose"), On: words == "" || words == "other" || words == "written"}
		switch words {
		case "other":
			m.Digest = "e"
		case "bare":
			m.Digest, m.On = "", true
		case "written":
			m.Written = "@"
		}
		return m
	}
	fact := func(kind differ.Kind, name, value, print string, own bool) differ.Fact {
		return differ.Fact{Kind: kind, Where: "f", Name: name, Nth: 1, Value: value, Print: print, Own: own}
	}
	a := &differ.Standing{Order: true, Mods: []differ.Mod{mod("a", ""), mod("b", ""), mod("c", ""), mod("d", "off"), mod("w", ""), mod("x", "loose")},
		Facts: []differ.Fact{fact(differ.KindSetting, "one", "1", "1", false), fact(differ.KindSetting, "key", "••", "k1", true), fact(differ.KindRule, "r", "there", "1", false), fact(differ.KindSetting, "same", "s", "s", false), fact(differ.KindSetting, "none", "", "", false)}}
	b := &differ.Standing{Order: true, Mods: []differ.Mod{mod("c", ""), mod("a", "other"), mod("b", "bare"), mod("d", ""), mod("w", "written"), mod("y", "loose")},
		Facts: []differ.Fact{fact(differ.KindSetting, "one", "2", "2", false), fact(differ.KindSetting, "key", "••", "k2", true), fact(differ.KindSetting, "same", "s", "s", false), fact(differ.KindBuild, "engine", "3", "3", false)}}
	insist.Same(t, "compared", said(differ.Compare(a, b)), strings.Join([]string{
		"mod a: 1 on, its own files | 1 on, other files", "mod b: 1 on | 1 on, without files", "mod d: 1 off | 1 on", "mod w: 1 on, its own registration | 1 on, other registration", "mod x: 1 not registered | not there", "mod y: not there | 1 not registered",
		"order c: behind b | first",
		"setting none in f: (nothing) | not there", "setting one in f: 1 | 2", "rule r in f: there | not there", "build engine in f: not there | 3",
		"setting key in f: •• (one) | •• (another)"}, "\n"))
	insist.Same(t, "with itself", len(differ.Compare(a, a)), 0)
	b.Order = false
	insist.Lacks(t, "where the server orders them", said(differ.Compare(a, b)), "order ")
}
