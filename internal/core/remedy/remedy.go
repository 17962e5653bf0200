// Package remedy finds what would mend a mod that a start did not confirm: from what
// the log says, from what is on the server now, and from what has changed since the
// last proof.
package remedy

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Remedy is one thing that can be done. Its strings are safe to show.
type Remedy struct {
	Text    string          `json:"text"`
	Changes []lineup.Change `json:"changes"` // ready to be planned; empty when it takes the operator's own hands
	Back    bool            `json:"back"`    // it takes a return to the last proved state
	Root    string          `json:"root"`    // the mod that has to be mended first, when it is another one
}

// Case are what remedies are found from.
type Case struct {
	Survey *survey.Survey
	Proof  *proof.Proof
	Proved *proof.Proof             // the last start that was proved; nil when there is none
	Files  []proof.FileChange       // of mods, since then
	Lines  map[string]lineup.Change // by mod, what mends a mistyped line that should register it
	Wrote  []string                 // the files and folders that entries of the ledger have written since then
}

// For lists what would mend a mod, the likeliest first; nothing for one that is
// confirmed.
func For(f Case, m *proof.Mod) []Remedy {
	c := finder{Case: f, m: m}
	switch m.Outcome {
	case proof.Failed:
		c.needs()
		c.files()
		c.release()
		c.settings()
		c.rivals()
		c.note()
		if m.Against != "" {
			c.byHand("start it once more: %s says that %s, and %s", "the evidence contradicts itself; the log", m.Against, m.Reason)
		}
		c.off()
	case proof.Silent:
		c.files()
		c.release()
		if trouble := len(m.Evidence) > 0; trouble { // sounds like being with it
			c.settings()
			c.rivals()
			c.silent()
			c.off()
		} else {
			c.silent()
		}
	case proof.Unlisted:
		if now := f.Survey.Find(m.Name); now != nil && !now.Registered && !now.Always {
			c.change(lineup.Change{Op: lineup.OpRegister, Mod: now.Name})
		}
	}
	return c.list
}

// ForGone lists what would bring a mod back that was registered at the last proved start.
func ForGone(f Case, gone proof.Gone) []Remedy {
	c := finder{Case: f, m: &proof.Mod{Name: gone.Mod}}
	m := f.Survey.Find(gone.Mod)
	mend, mistyped := f.Lines[gone.Mod]
	switch {
	case mistyped:
		c.change(mend)
	case m == nil || m.Path == "":
		c.byHand("take %s in again, if it is to be there", gone.Mod)
	case !m.Registered:
		c.change(lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
	case !m.On:
		c.change(lineup.Change{Op: lineup.OpOn, Mod: m.Name})
	}
	return c.list
}

type finder struct {
	Case
	m    *proof.Mod
	list []Remedy
}

func (c *finder) byHand(format string, args ...any) {
	c.list = append(c.list, Remedy{Text: fmt.Sprintf(format, args...), Changes: []lineup.Change{}})
}

func (c *finder) change(changes ...lineup.Change) {
	words := make([]string, len(changes))
	for i, one := range changes {
		words[i] = one.String()
	}
	c.list = append(c.list, Remedy{Text: strings.Join(words, ", then "), Changes: changes})
}

// needs mends what the log says that the mod was waiting for.
func (c *finder) needs() {
	listed := c.Survey.Dialect.Order == dialect.OrderListed
	own := c.Survey.Find(c.m.Name)
	for _, name := range c.m.Wanted {
		need := c.Survey.Answer(name)
		switch {
		case need == nil || need.Path == "":
			c.byHand("take %s in, which it needs and which is not here", name)
		case need.Base:
		case !need.Registered && !need.Always:
			change := lineup.Change{Op: lineup.OpRegister, Mod: need.Name}
			if listed {
				change.Where.Before = c.m.Name
			}
			c.change(change)
		case !need.On:
			c.change(lineup.Change{Op: lineup.OpOn, Mod: need.Name})
		case c.failed(need.Name):
			c.list = append(c.list, Remedy{Text: "mend " + text.Clean(need.Name) + " first", Changes: []lineup.Change{}, Root: text.Clean(need.Name)})
		case listed && own != nil && len(own.Entries) > 0 && len(need.Entries) > 0 && own.Entries[0] < need.Entries[0] && !own.Group && !need.Group:
			c.change(lineup.Change{Op: lineup.OpMove, Mod: need.Name, Where: lineup.Where{Before: own.Name}})
		}
	}
}

// note offers to write down what the log says that a mod needs and nothing else tells.
func (c *finder) note() {
	own := c.Survey.Find(c.m.Name)
	if own == nil || len(c.m.Evidence) == 0 {
		return
	}
	var untold []string
	for _, name := range c.m.Wanted {
		if name != "" && !slices.ContainsFunc(own.Needs(), func(n mod.Need) bool { return n.Name == name }) {
			untold = append(untold, name)
		}
	}
	if len(untold) > 0 {
		c.byHand("write down as a rule that %s needs %s, which only the log says, so that it is known before the next start: initium rule %s --from-log", c.m.Name, strings.Join(untold, ", "), c.Survey.Server)
	}
}

func (c *finder) failed(name string) bool {
	m := c.Proof.Find(text.Clean(name))
	return m != nil && m.Outcome == proof.Failed
}

// files puts back what was other at the last proof.
func (c *finder) files() {
	var changed []string
	for _, f := range c.Files {
		if f.Mod == c.m.Name {
			changed = append(changed, f.Path+" ("+f.What+")")
		}
	}
	if len(changed) == 0 {
		return
	}
	const most = 3
	words := strings.Join(changed[:min(len(changed), most)], ", ")
	if len(changed) > most {
		words += fmt.Sprintf(" and %d more", len(changed)-most)
	}
	said := fmt.Sprintf("restore its files as they were at start %d, which was proved: %s", c.Proved.Number, words)
	if c.ours() {
		c.list = append(c.list, Remedy{Text: said, Changes: []lineup.Change{}, Back: true})
		return
	}
	c.byHand("%s; no entry of the ledger changed them, so that it takes your own copy, or taking the mod in again", said)
}

// ours tells whether an entry of the ledger has written files of the mod since the last
// proof, so that the ledger can return to what they were.
func (c *finder) ours() bool {
	own := c.Survey.Find(c.m.Name)
	return own != nil && own.Path != "" && slices.ContainsFunc(c.Wrote, func(file string) bool {
		return file == own.Path || strings.HasPrefix(file, own.Path+"/") || strings.HasPrefix(own.Path, file+"/")
	})
}

// release goes back to the one that was proved.
func (c *finder) release() {
	if c.Proved == nil {
		return
	}
	was := c.Proved.Find(c.m.Name)
	if was == nil || was.Outcome != proof.Confirmed || was.Release == c.m.Release {
		return
	}
	said := fmt.Sprintf("go back to release %s, which start %d proved (now it is %s)", orNone(was.Release), c.Proved.Number, orNone(c.m.Release))
	if c.ours() {
		c.list = append(c.list, Remedy{Text: said, Changes: []lineup.Change{}, Back: true})
	} else {
		c.byHand("%s: take it in again", said)
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// settings names those that the reason speaks of and that have no value.
func (c *finder) settings() {
	for _, name := range c.named(func(word string) bool {
		return slices.ContainsFunc(c.Survey.Dialect.Values, func(v dialect.Value) bool { return v.Name == word }) || c.reads(word)
	}) {
		set := slices.ContainsFunc(c.Survey.Lineup.Settings, func(s lineup.Setting) bool { return s.Name == name && s.Value != "" })
		if set {
			c.byHand("look at the setting %s, which the reason names", name)
		} else {
			c.byHand("give the setting %s a value, above the line of %s", name, c.m.Name)
		}
	}
}

func (c *finder) reads(setting string) bool {
	m := c.Survey.Find(c.m.Name)
	return m != nil && slices.Contains(m.Manifest.Settings, setting)
}

// rivals are other mods that are on and that the reason names.
func (c *finder) rivals() {
	for _, name := range c.named(func(word string) bool {
		m := c.Survey.Find(word)
		return m != nil && m.Listed && !m.Base && text.Clean(m.Name) != c.m.Name && !slices.Contains(c.m.Wanted, word)
	}) {
		c.switchOff(name)
	}
}

// named lists the words of the reason, and of what goes on with it, that something
// holds for.
func (c *finder) named(want func(string) bool) (list []string) {
	said := c.m.Reason
	for _, e := range c.m.Evidence {
		said += "\n" + strings.Join(e.More, "\n")
	}
	for _, word := range strings.FieldsFunc(said, func(r rune) bool { return strings.ContainsRune(" \t\n,;:'\"()[]<>=", r) }) {
		if word = strings.TrimRight(word, "."); word != "" && want(word) && !slices.Contains(list, word) {
			list = append(list, word)
		}
	}
	return list
}

// off is always possible.
func (c *finder) off() { c.switchOff(c.m.Name) }

// switchOff switches a mod off, and first those that need it.
func (c *finder) switchOff(name string) {
	m := c.Survey.Find(name)
	if m == nil || !m.On || m.Base || !m.Registered || m.Group {
		return
	}
	var changes []lineup.Change
	for _, user := range c.users(m) {
		changes = append(changes, lineup.Change{Op: lineup.OpOff, Mod: user})
	}
	c.change(append(changes, lineup.Change{Op: lineup.OpOff, Mod: m.Name})...)
}

// users are the mods that are on and cannot do without another, those that nothing
// else needs first.
func (c *finder) users(of *survey.Mod) (names []string) {
	seen := map[*survey.Mod]bool{of: true}
	var visit func(m *survey.Mod)
	visit = func(m *survey.Mod) {
		for i := range c.Survey.Mods {
			user := &c.Survey.Mods[i]
			if seen[user] || !user.On || !user.Registered || user.Base || user.Group {
				continue
			}
			for _, need := range user.Needs() {
				if c.Survey.Answer(need.Name) == m {
					seen[user] = true
					visit(user)
					names = append(names, user.Name)
					break
				}
			}
		}
	}
	visit(of)
	return names
}

// stopped is the mod that failed last, which a server that came no further is likely to have
// come to grief on; "" when none failed.
func (c *finder) stopped() (name string) {
	last := -1
	for i := range c.Proof.Mods {
		m := &c.Proof.Mods[i]
		if n := len(m.Evidence); m.Outcome == proof.Failed && n > 0 && m.Evidence[n-1].Line > last {
			name, last = m.Name, m.Evidence[n-1].Line
		}
	}
	return name
}

// silent says what to try with a mod that nothing was said of.
func (c *finder) silent() {
	for _, made := range c.Proof.Unmade {
		if made.Mod == c.m.Name {
			c.byHand("start the server once more; if %s is not there then either, the mod does not work", made.Path)
			return
		}
	}
	switch root := c.stopped(); {
	case c.Proof.Exit == nil && c.Proof.Ready:
	case root != "":
		c.list = append(c.list, Remedy{Text: fmt.Sprintf("mend %s first; the server came no further", root), Changes: []lineup.Change{}, Root: root})
		return
	case c.Proof.Exit != nil:
		c.byHand("find out why the server stopped before it came to this mod: %s", c.Proof.Reason)
		return
	}
	c.byHand("start the server once more; a mod that nothing is said of then either was not loaded, as far as can be known")
}
