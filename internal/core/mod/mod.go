// Package mod holds what a mod says about itself: its name, its release and
// what it needs, read from the manifests that a dialect names.
package mod

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// MaxManifest is the largest manifest that is read, in bytes.
const MaxManifest = 1 << 20

// Manifest is a mod's own description. Its strings are as the mod wrote them,
// and have to be cleaned before they are shown.
type Manifest struct {
	Name, Title, Release string
	Needs                []Need
	OptionalNeeds        []Need
	Conflicts            []Need // mods that it cannot be with
	Provides             []string
	Brings               []string // mods that come in with it
	Settings             []string // that it reads when it starts
	Before, After        []string // mods that it has to load before or after, if they are there
	Server, Loader       string   // the range of versions that it is made for; of the loader perhaps its name
	Runtime              string
	Versions             dialect.Notation // how the ranges are written
	Side                 string           // where it belongs: on the server, with the players, or both; in the family's words
	Number               string           // in a catalogue
	File                 string           // the first manifest file that was there, "" when none was
	Problem              *Problem         // why a manifest that is there cannot be read

	stated bool // needs have been stated, perhaps that there are none
}

// Need is another mod that one depends on.
type Need struct {
	Name  string
	Range string // the versions that will do, as written; "" for any
}

// Names are the names of needs.
func Names(needs []Need) []string {
	names := make([]string, len(needs))
	for i := range needs {
		names[i] = needs[i].Name
	}
	return names
}

// Problem says which manifest cannot be read, and why.
type Problem struct {
	File string
	text.Fault
}

// Read reads a mod's manifests. open returns the bytes of a file below the
// mod's folder; an error of fs.ErrNotExist means that there is no such file.
// Each fact comes from the first manifest that states it; hard and optional
// needs are one fact.
func Read(forms []dialect.Manifest, open func(file string) ([]byte, error)) Manifest {
	var m Manifest
	for i := range forms {
		form := &forms[i]
		data, err := open(form.File)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if m.File == "" {
			m.File = form.File
		}
		var got facts
		if err == nil {
			got, err = readForm(form, data)
		}
		if err != nil {
			if m.Problem == nil {
				m.Problem = problemOf(form.File, err)
			}
			if form.Format != dialect.FormatKeyValue { // there one bad line spoils no other
				continue
			}
		}
		m.add(form, &got)
	}
	return m
}

// add takes over what no earlier manifest has stated.
func (m *Manifest) add(form *dialect.Manifest, got *facts) {
	take(&m.Name, got.Name)
	take(&m.Title, got.Title)
	take(&m.Release, got.Release)
	take(&m.Side, got.Side)
	take(&m.Number, got.Number)
	take(&m.Server, got.Server)
	take(&m.Loader, got.Loader)
	take(&m.Runtime, got.Runtime)
	if !m.stated && got.stated {
		m.Needs, m.OptionalNeeds, m.stated = got.Needs, got.OptionalNeeds, true
		m.Versions = form.Versions
	}
	m.Conflicts = append(m.Conflicts, got.Conflicts...)
	m.Provides = append(m.Provides, got.Provides...)
	m.Brings = append(m.Brings, got.Brings...)
	m.Settings = append(m.Settings, got.Settings...)
	m.Before = append(m.Before, got.Before...)
	m.After = append(m.After, got.After...)
	if m.Versions == "" {
		m.Versions = form.Versions
	}
}

// Fit takes the needs that are no mods, but the server, its loader or its runtime, for the
// ranges of versions that the mod is made for. of tells which of these a name means.
func (m Manifest) Fit(of func(name string) (dialect.BuildOf, bool)) Manifest {
	apart := func(needs []Need, hard bool) (mods []Need) {
		for _, need := range needs {
			build, ok := of(need.Name)
			if !ok {
				mods = append(mods, need)
			} else if into := map[dialect.BuildOf]*string{dialect.BuildServer: &m.Server, dialect.BuildLoader: &m.Loader, dialect.BuildRuntime: &m.Runtime}[build]; hard {
				take(into, need.Range)
			}
		}
		return mods
	}
	m.Needs, m.OptionalNeeds = apart(m.Needs, true), apart(m.OptionalNeeds, false)
	return m
}

// number is a number as it stands in a manifest.
type number string

func take(into *string, s string) {
	if *into == "" {
		*into = s
	}
}

func problemOf(file string, err error) *Problem {
	var fault *text.Fault
	if errors.As(err, &fault) {
		return &Problem{file, *fault}
	}
	return &Problem{file, text.Fault{Line: 1, Column: 1, Message: err.Error()}}
}

// facts are what one manifest states.
type facts struct{ Manifest }

func readForm(form *dialect.Manifest, data []byte) (facts, error) {
	if fault := text.NotText(data); fault != nil {
		return facts{}, fault
	}
	switch form.Format {
	case dialect.FormatKeyValue:
		return readKeyValue(form, data)
	case dialect.FormatSource:
		return readSource(form, data)
	case dialect.FormatLines:
		return readLines(form, data), nil
	case dialect.FormatTOML:
		return readTree(form, data, decodeTOML)
	case dialect.FormatJSON:
		return readTree(form, data, decodeJSON)
	case dialect.FormatYAML:
		return readTree(form, data, decodeYAML)
	case dialect.FormatXML:
		return readTree(form, data, decodeXML)
	case dialect.FormatINI:
		return readINI(form, data)
	}
	return facts{}, fmt.Errorf("no reader for manifests of format %q", form.Format)
}

func decodeTOML(data []byte) (map[string]any, error) {
	tree := map[string]any{}
	err := toml.Unmarshal(data, &tree)
	var de *toml.DecodeError
	if errors.As(err, &de) {
		line, column := de.Position()
		return nil, &text.Fault{Line: line, Column: column, Message: strings.TrimPrefix(de.Error(), "toml: ")}
	}
	if root, fault := text.ReadTOML(data); err == nil && fault == nil {
		asWritten(root, tree)
	}
	return tree, err
}

func decodeJSON(data []byte) (map[string]any, error) {
	tree := map[string]any{}
	err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), &tree)
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return nil, text.FaultAt(data, int(syntax.Offset)-1, "%v", syntax)
	}
	if root, fault := text.ReadJSON(data); err == nil && fault == nil {
		asWritten(root, tree)
	}
	return tree, err
}

func decodeYAML(data []byte) (map[string]any, error) {
	tree := map[string]any{}
	root, fault := text.ReadYAML(data)
	if fault != nil {
		return nil, fault
	}
	err := yaml.Unmarshal(data, &tree)
	asWritten(root, tree)
	return tree, err
}

// decodeXML reads elements as objects, or as texts where nothing else is in them, those that come
// more than once as lists, and attributes as @name.
func decodeXML(data []byte) (map[string]any, error) {
	root, fault := text.ReadXML(data)
	if fault != nil {
		return nil, fault
	}
	tree, _ := plainNode(root).(map[string]any)
	return tree, nil
}

func plainNode(n *text.Node) any {
	switch n.Kind {
	case text.NodeObject:
		if len(n.Members) == 1 && n.Members[0].Name == "#text" {
			return plainNode(n.Members[0].Value)
		}
		tree := map[string]any{}
		for _, m := range n.Members {
			tree[m.Name] = plainNode(m.Value)
		}
		return tree
	case text.NodeList:
		list := make([]any, len(n.Items))
		for i, item := range n.Items {
			list[i] = plainNode(item)
		}
		if len(list) == 1 {
			return list[0]
		}
		return list
	case text.NodeString:
		return n.Piece.Value
	}
	return n.Literal
}

// asWritten puts the letters that stand in a document in place of the numbers that were read
// there: a version 2.10 is another one than 2.1. It returns what belongs in place of v.
func asWritten(n *text.Node, v any) any {
	if n == nil {
		return v
	}
	switch v := v.(type) {
	case map[string]any:
		for i := range n.Members {
			if m := &n.Members[i]; v[m.Name] != nil {
				v[m.Name] = asWritten(m.Value, v[m.Name])
			}
		}
	case []any:
		for i := range min(len(v), len(n.Items)) {
			v[i] = asWritten(n.Items[i], v[i])
		}
	case int, int64, uint64, float64:
		if n.Kind == text.NodeScalar && n.Literal != "" {
			return number(n.Literal)
		}
	}
	return v
}

// lookup follows a key with dots into a tree.
func lookup(tree map[string]any, key string) any {
	if key == "" {
		return nil
	}
	first, rest, more := strings.Cut(key, ".")
	value := tree[first]
	if !more {
		return value
	}
	if sub, ok := value.(map[string]any); ok {
		return lookup(sub, rest)
	}
	return nil
}

func word(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case map[string]any, []any:
		return ""
	}
	return fmt.Sprint(v)
}
