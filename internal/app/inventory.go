package app

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"path/filepath"
	"strings"

	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// maxInventory bounds how many files of mods are noted at a start.
const maxInventory = 200_000

// inventory notes what a server is about to be started with.
func (a *App) inventory(s *Server, now *survey.Survey) (*proof.Inventory, error) {
	v := &proof.Inventory{Settings: []proof.Setting{}, Files: []proof.File{}}
	key, err := a.Home.Key()
	if err != nil {
		return nil, err
	}
	secrets := now.Lineup.Secrets()
	for _, set := range now.Lineup.Settings {
		file := now.Lineup.Files[set.File].Path
		one := proof.Setting{Name: text.Clean(set.Name), File: text.Clean(strings.TrimPrefix(file, s.Record.Dir+"/")), Value: text.Clean(set.Value)}
		if masked := text.Mask(set.Value, secrets); masked != set.Value {
			seal := hmac.New(sha256.New, key)
			seal.Write([]byte(set.Value))
			one.Value, one.Hidden = hex.EncodeToString(seal.Sum(nil)[:12]), true
		}
		v.Settings = append(v.Settings, one)
	}
	for i := range now.Mods {
		m := &now.Mods[i]
		if !m.On || m.Base || m.Path == "" {
			continue
		}
		if err := addFiles(v, text.Clean(m.Name), m.Path); err != nil {
			return nil, err
		}
		if v.Cut {
			break
		}
	}
	return v, nil
}

// addFiles notes the files of one mod. What cannot be looked at is passed over: the
// start will tell whether the server can.
func addFiles(v *proof.Inventory, mod, root string) error {
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
		if below == "" {
			below = filepath.Base(full)
		}
		v.Files = append(v.Files, proof.File{Mod: mod, Path: text.Clean(below), Size: info.Size(), Changed: info.ModTime().UnixNano()})
		return nil
	})
}
