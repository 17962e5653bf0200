package app

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// maxInventory bounds how many files are noted at a start.
const maxInventory = 200_000

// Where an inventory says that a value stands which is in no startup file.
const (
	fromGiven  = "what it is given"
	fromBuilds = "its builds"
)

// inventory notes all that a server is about to be started with.
func (a *App) inventory(s *Server, now *survey.Survey) (*proof.Inventory, error) {
	v := &proof.Inventory{Settings: []proof.Setting{}, Files: []proof.File{}}
	key, err := a.Home.Key()
	if err != nil {
		return nil, err
	}
	secrets := now.Lineup.Secrets()
	add := func(name, where, value string) {
		one := proof.Setting{Name: text.Clean(name), File: text.Clean(where), Value: text.Clean(value)}
		if text.Mask(value, secrets) != value || text.MaskValue(name, value) != value {
			seal := hmac.New(sha256.New, key)
			seal.Write([]byte(value))
			one.Value, one.Hidden = hex.EncodeToString(seal.Sum(nil)[:12]), true
		}
		v.Settings = append(v.Settings, one)
	}
	for _, set := range now.Lineup.Settings {
		add(set.Name, strings.TrimPrefix(now.Lineup.Files[set.File].Path, s.Record.Dir+"/"), set.Value)
	}
	for i := range s.Dialect.Givens {
		if g := &s.Dialect.Givens[i]; g.From == nil {
			add(g.Name, fromGiven, s.Vars[g.Name])
		}
	}
	builds := a.builds(s, now)
	for _, of := range slices.Sorted(maps.Keys(builds)) {
		add(string(of), fromBuilds, cmp.Or(builds[of].Version, builds[of].Problem))
	}
	for _, full := range s.restsOn(now) {
		if err := addFiles(v, "", strings.TrimPrefix(full, s.Record.Dir+"/"), full); err != nil {
			return nil, err
		}
	}
	for i := range now.Mods {
		m := &now.Mods[i]
		if !m.On || m.Base || m.Path == "" {
			continue
		}
		if err := s.addMod(v, m); err != nil || v.Cut {
			return v, err
		}
	}
	return v, nil
}

// addMod notes the files of a mod, and those that it has made outside its folder.
func (s *Server) addMod(v *proof.Inventory, m *survey.Mod) error {
	if err := addFiles(v, text.Clean(m.Name), "", m.Path); err != nil {
		return err
	}
	for k := range s.Dialect.Leavings {
		full, ok := intake.LeavingOf(&s.Dialect.Leavings[k], s.Vars, m.Name)
		if !ok || s.inWorld(full) { // what is played changes by itself
			continue
		}
		if err := addFiles(v, text.Clean(m.Name), strings.TrimPrefix(full, s.Record.Dir+"/"), full); err != nil {
			return err
		}
	}
	return nil
}

// restsOn are the server's own files that its start rests on, by their paths: those that the
// dialect names and those that its command does. Startup files are told by what they say.
func (s *Server) restsOn(now *survey.Survey) []string {
	var list []string
	add := func(full string) {
		known := slices.Contains(list, full) || slices.ContainsFunc(now.Lineup.Files, func(f lineup.File) bool { return f.Path == full })
		if info, err := theirs.Stat(full); err == nil && info.Mode().IsRegular() && !known && !s.inWorld(full) {
			list = append(list, full)
		}
	}
	from := func(dir, name string) {
		if name != "" && !filepath.IsAbs(name) {
			name = filepath.Join(dir, name)
		}
		add(filepath.Clean(name))
	}
	expand := func(form string, with dialect.Vars) {
		if name, ok := with.Expand(form); ok && form != "" {
			add(filepath.Clean(name))
		}
	}
	for _, d := range s.Dialect.Data {
		expand(d.File, s.Vars)
	}
	for _, i := range s.Dialect.Icons {
		expand(i.File, s.Vars)
	}
	for _, v := range s.Dialect.Values {
		if set, ok := now.Lineup.Setting(v.Registration, v.Name); ok && v.File != "" && !strings.ContainsAny(set.Value, "/\\") {
			with := maps.Clone(s.Vars)
			with["value"] = set.Value
			expand(v.File, with)
		}
	}
	if dir, ok := s.Vars.Expand(s.Dialect.Start.Directory); ok {
		words := slices.Clone(s.Dialect.Start.Files)
		words = append(words, s.Dialect.Start.Command...)
		words = append(words, slices.Concat(s.Dialect.Start.Extra...)...)
		for _, word := range words {
			if value, ok := s.Vars.Expand(word); ok {
				from(dir, value)
			}
		}
	}
	return list
}

// inWorld tells whether a path is part of the world, which changes while it is played in.
func (s *Server) inWorld(full string) bool {
	for _, form := range s.Dialect.World.Paths {
		world, ok := s.Vars.Expand(form)
		if !ok {
			continue
		}
		if fits, _ := filepath.Match(world, full); fits || strings.HasPrefix(full, world+"/") || full == world {
			return true
		}
	}
	return false
}

// addFiles notes a file, or the files in a folder, of one mod or, where mod is "", of the server;
// as is how their paths begin. What cannot be looked at is passed over: the start will tell
// whether the server can.
func addFiles(v *proof.Inventory, mod, as, root string) error {
	return theirs.Walk(root, func(full string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		if len(v.Files) == maxInventory {
			v.Cut = true
			return fs.SkipAll
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		below := strings.TrimPrefix(strings.TrimPrefix(full, root), "/")
		switch {
		case as != "":
			below = strings.TrimSuffix(as+"/"+below, "/")
		case below == "":
			below = filepath.Base(full)
		}
		v.Files = append(v.Files, proof.File{Mod: mod, Path: text.Clean(below), Size: info.Size(), Changed: info.ModTime().UnixNano()})
		return nil
	})
}
