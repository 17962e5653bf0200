package check

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/order"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// needs checks that what a mod needs is there, on, and of a version that will do.
// Whether it comes first is for order.
func (c *checker) needs(m *survey.Mod) {
	noted := mod.Names(m.Noted)
	for _, want := range m.Needs() {
		need, n := want.Name, c.s.Answer(want.Name)
		by := ""
		if slices.Contains(noted, need) {
			by = " (" + c.ruleFor(m.Name, need).Why() + ")"
		}
		switch {
		case n == m:
			if m.Name == need {
				severity := Error
				if c.forecast.Find(m.Name) != nil && c.forecast.Find(m.Name).Outcome == forecast.Confirmed {
					severity = Warning
				}
				c.add(c.inManifest(CodeNeedItself, severity, m), "%s names itself among its needs", m.Name)
			}
		case n == nil || n.Path == "":
			c.add(c.at(CodeNeedMissing, Error, m), "%s needs %s, which is not on this server%s", m.Name, need, by).
				Remedy = "take " + text.Clean(need) + " in, or switch " + text.Clean(m.Name) + " off"
		case n.Base:
			c.version(m, n, want)
		case !n.Registered && !n.On:
			f := c.add(c.at(CodeNeedMissing, Error, m), "%s needs %s, which is there but not registered%s", m.Name, need, by)
			f.remedy(c.registerBefore(n.Name, m))
		case !n.On:
			f := c.add(c.at(CodeNeedMissing, Error, m), "%s needs %s, which is switched off%s", m.Name, need, by)
			f.remedy(lineup.Change{Op: lineup.OpOn, Mod: n.Name})
		default:
			c.version(m, n, want)
		}
	}
	for _, want := range m.Manifest.OptionalNeeds {
		if n := c.s.Answer(want.Name); n != nil && n.On && n != m {
			c.version(m, n, want)
		}
	}
}

func (c *checker) ruleFor(name, other string) rule.Rule {
	for _, r := range c.s.Rules {
		if r.Kind == rule.Needs && r.Mod == name && r.Other == other {
			return r
		}
	}
	return rule.Rule{}
}

// version checks that a need is met by a version that will do.
func (c *checker) version(m, n *survey.Mod, want mod.Need) {
	fits, err := forecast.Fits(want, n, m.Manifest.Versions)
	switch {
	case err != nil:
		c.add(c.inManifest(CodeRangeUnreadable, Warning, m), "%s asks for %s in a version that cannot be understood: %v", m.Name, want.Name, err)
	case !fits:
		c.add(c.at(CodeNeedVersion, severityOf(c.d.Load.Range), m), "%s needs %s %s, and %s is there", m.Name, want.Name, want.Range, n.Release).
			Remedy = fmt.Sprintf("take in %s %s, or a release of %s that fits %s", text.Clean(want.Name), text.Clean(want.Range), text.Clean(m.Name), text.Clean(n.Release))
	}
}

func (c *checker) registerBefore(need string, m *survey.Mod) lineup.Change {
	change := lineup.Change{Op: lineup.OpRegister, Mod: need}
	if c.d.Order == dialect.OrderListed && !m.Group && len(m.Entries) > 0 {
		change.Where.Before = m.Name
	}
	return change
}

// order tells what loads too early, and what no order can mend.
func (c *checker) order() {
	lines := order.Read(c.s)
	for _, circle := range lines.Circles() {
		c.circle(circle, c.d.Load.NeedLate)
	}
	if c.d.Order == dialect.OrderServer {
		for _, circle := range order.Needs(c.s) {
			c.circle(circle, c.d.Load.Circle)
		}
	}
	wrong := lines.Wrong()
	if len(wrong) == 0 {
		return
	}
	c.repair = lines.Repair()
	for _, w := range wrong {
		c.late(w)
	}
}

// circle tells of demands that no order can meet. Where rules alone are against
// each other, no mod fails because of it.
func (c *checker) circle(circle order.Circle, fate dialect.Fate) {
	severity := severityOf(fate)
	if !slices.ContainsFunc(circle.Shortest, func(d order.Demand) bool { return d.Cause == order.ByNeed }) {
		severity = Warning
	}
	m := c.s.Find(circle.Shortest[0].Then)
	if m == nil {
		m = &survey.Mod{Name: circle.Shortest[0].Then}
	}
	if severity == Error {
		for _, name := range circle.All {
			c.worst[text.Clean(name)] = true
		}
	}
	more := ""
	if n := len(circle.All) - len(circle.Shortest); n > 0 {
		more = fmt.Sprintf("; %d mods are in circles with them: %s", n, strings.Join(circle.All, ", "))
	}
	c.add(c.at(CodeNeedCircle, severity, m), "no order can be right: %s%s", circle.Describe(), more).
		Remedy = "switch one of them off, or take one of the rules back"
}

var lateCodes = map[order.Cause]Code{order.ByNeed: CodeNeedLate, order.ByOptional: CodeNeedLate, order.ByManifest: CodeAskedLate, order.ByRule: CodeRuleBroken, order.BySetting: CodeSettingLate}

// late reports a mod that loads too early. The remedy is the smallest set of
// moves that brings the whole order right.
func (c *checker) late(w order.Wrong) {
	severity := Error
	if w.Cause == order.ByOptional || w.Cause == order.ByManifest || w.Cause == order.ByNeed && c.d.Load.NeedLate == dialect.FateIgnored || w.Cause == order.ByRule {
		severity = Warning
	}
	subject, after := w.Then, "which loads after it"
	switch {
	case w.Cause == order.BySetting:
		after = "which is set after its line"
	case w.Cause == order.ByRule && w.Rule.Kind.End():
		subject, after = w.Rule.Mod, "and does not"
	case w.Cause == order.ByRule:
		after = "and loads before it"
	}
	m := c.s.Find(subject)
	if m == nil { // a category folder
		m = &survey.Mod{Name: subject}
	}
	f := c.add(c.at(lateCodes[w.Cause], severity, m), "%s, %s", w.Words(), after)
	switch moves := c.repair.Changes(); {
	case w.Fixed:
		f.Remedy = "no move in the list mends it: register them on one list, or line by line"
	case len(moves) == 0:
		f.Remedy = "move one of the two by hand"
	case len(moves) <= 3:
		f.remedy(moves...)
	default:
		f.remedy(moves...)
		f.Remedy = fmt.Sprintf("put the whole order right with %d moves, the fewest that do it", len(moves))
		if c.repair.Excess > 0 {
			f.Remedy = fmt.Sprintf("put the whole order right with %d moves, at most %d more than the fewest", len(moves), c.repair.Excess)
		}
	}
}

// together tells of mods that cannot be with each other, and of those that do the
// same.
func (c *checker) together() {
	conflicts := forecast.Conflicts(c.s)
	for i := range c.s.Mods {
		m := &c.s.Mods[i]
		for _, other := range conflicts[m.Name] {
			if o := c.s.Find(other); m.On && o.On && forecast.Excludes(m, o) && (m.Name < o.Name || !forecast.Excludes(o, m)) {
				f := c.add(c.at(CodeConflict, severityOf(c.d.Load.Conflict), m), "%s says that it cannot be with %s", m.Name, o.Name)
				f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name})
			}
		}
	}
	gives := map[string]*survey.Mod{}
	for i := range c.s.Mods {
		m := &c.s.Mods[i]
		if !m.On || m.Path == "" {
			continue
		}
		for _, name := range m.Manifest.Provides {
			other := gives[name]
			if n := c.s.Find(name); n != nil && n.On && n.Path != "" && n != m {
				other = n
			}
			if other != nil && other != m {
				c.add(c.at(CodeSameWork, Warning, m), "%s and %s both do the work of %s", m.Name, other.Name, name).
					Remedy = "keep one of them"
			}
			gives[name] = m
		}
	}
}

// rules tells what of the operator's rules is not kept, besides the order.
func (c *checker) rules() {
	for _, r := range c.s.Rules {
		m, o := c.s.Find(r.Mod), c.s.Find(r.Other)
		switch {
		case m == nil || r.Kind.Pair() && r.Kind != rule.Reads && r.Kind != rule.Needs && o == nil:
			if !r.Family {
				c.add(Finding{Code: CodeRuleIdle, Severity: Note, Mod: r.Mod}, "the rule %q names a mod that is not on this server", r.String())
			}
		case r.Kind == rule.Apart && m.On && o.On:
			f := c.add(c.at(CodeRuleApart, Error, m), "%s and %s are both on (%s)", m.Name, o.Name, r.Why())
			f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name})
		}
	}
}
