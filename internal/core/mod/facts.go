package mod

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

func readKeyValue(form *dialect.Manifest, data []byte) (f facts, err error) {
	pairs, faults := text.KeyValue(data, text.KeyValueStyle{Comment: form.Comment, Assign: form.Assign})
	values := map[string]any{}
	for _, p := range pairs {
		values[string(p.Key.In(data))] = string(p.Value.In(data))
	}
	err = f.take(form, func(key string) any { return values[key] })
	if len(faults) > 0 { // the other lines count all the same
		err = faults[0]
	}
	return f, err
}

// readINI reads sections of keys; a key of the manifest is one, or a section, a slash and one. A
// key that comes several times says several things.
func readINI(form *dialect.Manifest, data []byte) (f facts, err error) {
	ini := text.ReadINI(data, text.INIStyle{Comment: form.Comment, Assign: form.Assign, Bare: true})
	err = f.take(form, func(key string) any {
		section, name, ok := strings.Cut(key, "/")
		if !ok {
			section, name = "", key
		}
		var found []any
		for _, e := range ini.Entries {
			if e.Section == section && string(e.Key.In(data)) == name {
				found = append(found, e.Value.Value)
			}
		}
		return several(found)
	})
	if len(ini.Faults) > 0 { // the other lines count all the same
		err = ini.Faults[0]
	}
	return f, err
}

// readSource picks facts out of a script by the shape of their lines.
func readSource(form *dialect.Manifest, data []byte) (f facts, err error) {
	lines := text.Lines(data)
	err = f.take(form, func(key string) any {
		pattern := form.Pattern(key)
		if pattern == nil {
			return nil // Parse has checked it
		}
		var found []any
		for _, line := range lines {
			s := []byte(strings.TrimSpace(string(line.Text.In(data))))
			if caps, ok := pattern.Match(s, nil); ok {
				found = append(found, strings.TrimSpace(string(pattern.Get("value", s, caps))))
			}
		}
		return several(found)
	})
	return f, err
}

// several are the values that were found for a key: nothing, one, or a list.
func several(found []any) any {
	switch len(found) {
	case 0:
		return nil
	case 1:
		return found[0]
	}
	return found
}

func readLines(form *dialect.Manifest, data []byte) (f facts) {
	f.stated = true
	for _, line := range text.Lines(data) {
		need := strings.TrimSpace(string(line.Text.In(data)))
		if form.Comment != "" && strings.HasPrefix(need, form.Comment) {
			continue
		}
		f.need(form, need, false)
	}
	return f
}

func readTree(form *dialect.Manifest, data []byte, decode func([]byte) (map[string]any, error)) (f facts, err error) {
	tree, err := decode(data)
	if err != nil {
		return f, err
	}
	err = f.take(form, func(key string) any { return lookup(tree, key) })
	return f, err
}

// take finds all facts by their keys. get returns nil for what is not there.
func (f *facts) take(form *dialect.Manifest, get func(key string) any) error {
	value := func(key string) any {
		if key == "" {
			return nil
		}
		return get(key)
	}
	for _, part := range []struct {
		key  string
		into *string
	}{{form.Name, &f.Name}, {form.Title, &f.Title}, {form.Release, &f.Release}, {form.Side, &f.Side}, {form.Number, &f.Number}} {
		*part.into = word(value(part.key))
	}
	for _, part := range []struct {
		key  string
		into *string
	}{{form.Server, &f.Server}, {form.Loader, &f.Loader}, {form.Runtime, &f.Runtime}} {
		*part.into = rangeText(value(part.key))
	}
	for _, part := range []struct {
		key  string
		into *[]string
	}{{form.Provides, &f.Provides}, {form.Settings, &f.Settings}, {form.Brings, &f.Brings}, {form.Before, &f.Before}, {form.After, &f.After}} {
		list, err := names(form, part.key, value(part.key))
		if err != nil {
			return err
		}
		*part.into = Names(list)
	}
	for _, part := range []struct {
		key      string
		optional bool
	}{{form.Needs, false}, {form.OptionalNeeds, true}} {
		if v := value(part.key); v != nil {
			f.stated = true
			if err := f.needs(form, part.key, v, part.optional); err != nil {
				return err
			}
		}
	}
	conflicts, err := names(form, form.Conflicts, value(form.Conflicts))
	f.Conflicts = append(f.Conflicts, conflicts...)
	return err
}

// rangeText is a range, which several manifests write as a list.
func rangeText(v any) string {
	list, ok := v.([]any)
	if !ok {
		return word(v)
	}
	parts := make([]string, len(list))
	for i := range list {
		parts[i] = word(list[i])
	}
	return strings.Join(parts, " ")
}

// need takes one need as it is written in a list, with its marks.
func (f *facts) need(form *dialect.Manifest, s string, optional bool) {
	s, conflict := unmark(s, form.ConflictMark)
	s, marked := unmark(s, form.OptionalMark)
	n := readNeed(form, s)
	switch {
	case n.Name == "":
	case conflict:
		f.Conflicts = append(f.Conflicts, n)
	case optional || marked:
		f.OptionalNeeds = append(f.OptionalNeeds, n)
	default:
		f.Needs = append(f.Needs, n)
	}
}

// unmark takes a mark away that stands before or after a need.
func unmark(s, mark string) (rest string, marked bool) {
	if mark == "" {
		return s, false
	}
	s = strings.TrimSpace(s)
	if rest, ok := strings.CutPrefix(s, mark); ok {
		return strings.TrimSpace(rest), true
	}
	rest, ok := strings.CutSuffix(s, mark)
	return strings.TrimSpace(rest), ok
}

// readNeed parts a name from the range of versions behind it, where the dialect
// says that there can be one.
func readNeed(form *dialect.Manifest, s string) Need {
	s = strings.TrimSpace(s)
	if form.Versions == "" {
		return Need{Name: s}
	}
	i := strings.IndexAny(s, " \t<>=~^!@:([")
	if i <= 0 {
		return Need{Name: s}
	}
	want := strings.TrimSpace(strings.TrimLeft(s[i:], "@: \t"))
	if inner, ok := strings.CutPrefix(want, "("); ok && form.Versions != dialect.VersionsIntervals {
		want = strings.TrimSpace(strings.TrimSuffix(inner, ")"))
	}
	return Need{s[:i], want}
}

// needs takes a list of needs: texts, objects, or names with their ranges.
func (f *facts) needs(form *dialect.Manifest, key string, v any, optional bool) error {
	switch v := v.(type) {
	case string:
		for _, part := range split(v, form.Separator) {
			f.need(form, part, optional)
		}
		return nil
	case map[string]any:
		if form.NeedName != "" && form.Format == dialect.FormatXML { // one alone is no list there
			return f.needs(form, key, []any{v}, optional)
		}
		for _, name := range sortedKeys(v) {
			f.named(form, name, v[name], optional)
		}
		return nil
	case []any:
		for _, item := range v {
			switch item := item.(type) {
			case string:
				f.need(form, item, optional)
			case map[string]any:
				name := word(lookup(item, form.NeedName))
				if name == "" {
					return fmt.Errorf("an entry of %s has no name at %q", key, form.NeedName)
				}
				f.named(form, name, item, optional)
			default:
				return notNames(key)
			}
		}
		return nil
	}
	return notNames(key)
}

// named takes a need whose name is known; v is its range, or an object with it.
func (f *facts) named(form *dialect.Manifest, name string, v any, optional bool) {
	n := Need{Name: strings.TrimSpace(name)}
	if object, ok := v.(map[string]any); ok {
		n.Range = rangeText(lookup(object, form.NeedRange))
		if must, ok := lookup(object, form.NeedMust).(bool); ok {
			optional = !must
		}
	} else {
		n.Range = rangeText(v)
	}
	if optional {
		f.OptionalNeeds = append(f.OptionalNeeds, n)
	} else {
		f.Needs = append(f.Needs, n)
	}
}

// names reads a list of names, perhaps with ranges, that has no marks.
func names(form *dialect.Manifest, key string, v any) ([]Need, error) {
	if v == nil {
		return nil, nil
	}
	var f facts
	plain := *form
	plain.OptionalMark, plain.ConflictMark, plain.NeedMust = "", "", ""
	err := f.needs(&plain, key, v, false)
	return f.Needs, err
}

func notNames(key string) error { return fmt.Errorf("%s has to be a list of names", key) }

func sortedKeys(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
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
