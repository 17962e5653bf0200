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
	Needs                []string
	OptionalNeeds        []string
	Side                 string   // where it belongs: on the server, with the players, or both; in the family's words
	Number               string   // in a catalogue
	File                 string   // the first manifest file that was there, "" when none was
	Problem              *Problem // why a manifest that is there cannot be read
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
	needsStated := false
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
			continue
		}
		take(&m.Name, got.name)
		take(&m.Title, got.title)
		take(&m.Release, got.release)
		take(&m.Side, got.side)
		take(&m.Number, got.number)
		if !needsStated && got.needsStated {
			m.Needs, m.OptionalNeeds, needsStated = got.needs, got.optional, true
		}
	}
	return m
}

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

type facts struct {
	name, title, release, side, number string
	needs, optional                    []string
	needsStated                        bool
}

func readForm(form *dialect.Manifest, data []byte) (facts, error) {
	if fault := text.NotText(data); fault != nil {
		return facts{}, fault
	}
	switch form.Format {
	case dialect.FormatKeyValue:
		return readKeyValue(form, data)
	case dialect.FormatLines:
		return readLines(form, data), nil
	case dialect.FormatTOML:
		return readTree(form, data, decodeTOML)
	case dialect.FormatJSON:
		return readTree(form, data, decodeJSON)
	case dialect.FormatYAML:
		return readTree(form, data, decodeYAML)
	}
	return facts{}, fmt.Errorf("no reader for manifests of format %q", form.Format)
}

func readKeyValue(form *dialect.Manifest, data []byte) (f facts, err error) {
	pairs, faults := text.KeyValue(data, text.KeyValueStyle{Comment: form.Comment, Assign: form.Assign})
	if len(faults) > 0 {
		return f, faults[0]
	}
	for _, p := range pairs {
		value := string(p.Value.In(data))
		switch string(p.Key.In(data)) {
		case "":
		case form.Name:
			f.name = value
		case form.Title:
			f.title = value
		case form.Release:
			f.release = value
		case form.Side:
			f.side = value
		case form.Number:
			f.number = value
		case form.Needs:
			f.needs, f.needsStated = split(value, form.Separator), true
		case form.OptionalNeeds:
			f.optional, f.needsStated = split(value, form.Separator), true
		}
	}
	return f, nil
}

func readLines(form *dialect.Manifest, data []byte) (f facts) {
	f.needsStated = true
	for _, line := range text.Lines(data) {
		need := strings.TrimSpace(string(line.Text.In(data)))
		if form.Comment != "" && strings.HasPrefix(need, form.Comment) {
			continue
		}
		into := &f.needs
		if form.OptionalMark != "" && strings.HasSuffix(need, form.OptionalMark) {
			into, need = &f.optional, strings.TrimSpace(strings.TrimSuffix(need, form.OptionalMark))
		}
		if need != "" {
			*into = append(*into, need)
		}
	}
	return f
}

func readTree(form *dialect.Manifest, data []byte, decode func([]byte) (map[string]any, error)) (f facts, err error) {
	tree, err := decode(data)
	if err != nil {
		return f, err
	}
	f.name = word(lookup(tree, form.Name))
	f.title = word(lookup(tree, form.Title))
	f.release = word(lookup(tree, form.Release))
	f.side = word(lookup(tree, form.Side))
	f.number = word(lookup(tree, form.Number))
	for _, part := range []struct {
		key  string
		into *[]string
	}{{form.Needs, &f.needs}, {form.OptionalNeeds, &f.optional}} {
		value := lookup(tree, part.key)
		if value == nil {
			continue
		}
		list, ok := words(value, form.Separator)
		if !ok {
			return f, fmt.Errorf("%s has to be a list of names", part.key)
		}
		*part.into, f.needsStated = list, true
	}
	return f, nil
}

func decodeTOML(data []byte) (map[string]any, error) {
	tree := map[string]any{}
	err := toml.Unmarshal(data, &tree)
	var de *toml.DecodeError
	if errors.As(err, &de) {
		line, column := de.Position()
		return nil, &text.Fault{Line: line, Column: column, Message: strings.TrimPrefix(de.Error(), "toml: ")}
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
	return tree, err
}

func decodeYAML(data []byte) (map[string]any, error) {
	tree := map[string]any{}
	if _, fault := text.ReadYAML(data); fault != nil {
		return nil, fault
	}
	return tree, yaml.Unmarshal(data, &tree)
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

// words reads a list of names: a list of strings, or one string with
// separators.
func words(v any, separator string) (list []string, ok bool) {
	switch v := v.(type) {
	case string:
		return split(v, separator), true
	case []any:
		for _, item := range v {
			s, ok := item.(string)
			if !ok {
				return nil, false
			}
			if s = strings.TrimSpace(s); s != "" {
				list = append(list, s)
			}
		}
		return list, true
	}
	return nil, false
}

func split(value, separator string) (list []string) {
	var parts []string
	if separator == "" {
		parts = strings.Fields(value)
	} else {
		parts = strings.Split(value, separator)
	}
	for _, part := range parts {
		if part = strings.TrimSpace(part); part != "" {
			list = append(list, part)
		}
	}
	return list
}
