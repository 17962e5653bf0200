package app

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/planner"
	"initium/internal/core/recipe"
	"initium/internal/core/text"
)

// Notes are those that came with mods which a recipe is about. The strings are safe to show.
type Notes struct {
	Source string  // what they lie in
	File   string  // in it; "" where the source cannot be looked into any more
	Lost   string  // why it cannot
	Offers []Offer // what in them looks like something to be done
}

// Offer is a line of notes that looks like something to be done.
type Offer struct {
	Line int
	Text string
	Do   string // how it is done; "" where there is nothing to do but look
	Done bool   // it is so on the server
}

// notes reads what came with the mods that an intake took in.
func (m *maker) notes(ctx context.Context, c lineup.Change) (list []Notes) {
	source := text.Clean(filepath.Base(c.Source))
	choices := lineup.Choices{}
	came, err := m.a.open(ctx, c.Source, bounds(&choices), []*dialect.Dialect{m.s.Dialect}, nil)
	if err != nil {
		return []Notes{{Source: source, Lost: text.Clean(err.Error())}}
	}
	found := intake.Examine(came.tree, came.source.Path, m.s.Dialect, nil)
	inside := func(word string) string {
		for _, e := range came.tree.Entries {
			if e.Kind != intake.Folder && (e.Path == word || strings.HasSuffix(e.Path, "/"+word)) {
				return e.Path
			}
		}
		return ""
	}
	for _, name := range found.Notes {
		n := Notes{Source: source, File: text.Clean(name)}
		for _, o := range recipe.Offers(came.tree.Bytes(name), m.s.Dialect, func(word string) bool { return inside(word) != "" || m.here(word) }) {
			offer := Offer{Line: o.Line, Text: text.Clean(text.Mask(o.Text, m.now.Lineup.Secrets()))}
			m.means(&offer, o, came, inside(o.Name))
			n.Offers = append(n.Offers, offer)
		}
		list = append(list, n)
	}
	return list
}

// here tells whether a word of notes is a file of the server.
func (m *maker) here(word string) bool {
	info, err := fs.Stat(m.s.disk(), path.Join(m.s.Record.Dir, word)[1:])
	return err == nil && info.Mode().IsRegular() && path.Join(m.s.Record.Dir, word) != m.s.Record.Dir && !strings.Contains(word, "..")
}

// means says how a line is done, and whether it is.
func (m *maker) means(o *Offer, of recipe.Offer, came *parcel, inside string) {
	server := m.s.Record.Name
	switch of.Kind {
	case recipe.OfferSetting:
		o.Do, o.Done = text.Clean(fmt.Sprintf("initium set %s %s %s", server, of.Name, text.MaskValue(of.Name, of.Value))), slices.Contains(m.set[of.Name], of.Value)
	case recipe.OfferMod:
		there := m.now.Find(of.Name)
		o.Do, o.Done = text.Clean(fmt.Sprintf("initium register %s %s", server, of.Name)), there != nil && there.On
	case recipe.OfferEntry:
		o.Do = fmt.Sprintf("initium merge %s MOD --show", server)
	case recipe.OfferFile:
		if !strings.HasSuffix(of.Name, ".sql") || inside == "" || !m.s.Dialect.Database.Known() {
			return
		}
		o.Do = text.Clean(fmt.Sprintf("initium sql %s %s %s", server, filepath.Base(came.source.Path), inside))
		if entry, err := ran(m.l, server, m.s.databasePlace(), planner.Sum(came.tree.Bytes(inside))); err == nil {
			o.Done = entry > 0
		}
	}
}
