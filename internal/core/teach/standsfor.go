package teach

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// standsFor tells what a word has around the name of a mod, as keys of a registration:
// options behind it, a path before it, an ending.
func standsFor(word, mod string) (keys []string, ok bool) {
	if word == mod {
		return nil, true
	}
	if stem, options, found := strings.Cut(word, ","); found && options != "" && stem != "" {
		word, keys = stem, append(keys, "options", ",")
	}
	if at := strings.LastIndexAny(word, `/\`); at >= 0 && word != mod {
		word, keys = word[at+1:], append(keys, "paths", "true")
	}
	if ext := path.Ext(word); word != mod && ext != "" && strings.TrimSuffix(word, ext) == mod && !strings.ContainsAny(ext, structural) { // what ends a statement is no part of a name
		word, keys = mod, append(keys, "suffix", ext)
	}
	return keys, word == mod && mod != ""
}

// listsIn are the ways in which the name can be one of several in a value: what parts
// them, and a mark that each begins with.
func listsIn(value, mod string) (list [][]string) {
	for _, separator := range []string{";", ",", ", ", "; ", "|", ":", " "} {
		items := strings.Split(strings.TrimSuffix(value, separator), separator)
		mark := markOf(items)
		for _, item := range items {
			keys, ok := standsFor(strings.TrimPrefix(item, mark), mod)
			if !ok || separator[0] == ',' && len(keys) > 0 && keys[0] == "options" {
				continue
			}
			keys = append([]string{"separator", separator}, keys...)
			if mark != "" {
				keys = append(keys, "mark", mark)
			}
			list = append(list, keys)
			break
		}
	}
	return list
}

// markOf is the mark that all items begin with: one that no name or path begins with.
func markOf(items []string) string {
	mark := ""
	for i, item := range items {
		end := strings.IndexFunc(item, func(c rune) bool {
			return unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune(`_./\ -"'`, c)
		})
		if end < 0 || i > 0 && item[:end] != mark {
			return ""
		}
		mark = item[:end]
	}
	return mark
}

// inLaunch looks for the name in the words of a launch line: after a parameter, or in
// its value with others.
func inLaunch(l *text.Launch, mod string, add func(dialect.Shape, ...string)) {
	if l == nil {
		return
	}
	for _, c := range l.Commands {
		for i := range c.Words {
			word := c.Words[i].Value
			if name, value, ok := strings.Cut(word, "="); ok && name != "" {
				for _, keys := range listsIn(value, mod) {
					add(dialect.ShapeList, append(keys, "at", name+"={list}")...)
				}
				if keys, ok := standsFor(value, mod); ok {
					add(dialect.ShapeWords, append(keys, "at", name+"={mod}")...)
				}
			}
			if i == 0 {
				continue
			}
			before := c.Words[i-1].Value
			if keys, ok := standsFor(word, mod); ok {
				add(dialect.ShapeWords, append(keys, "at", before+" {mod}")...)
			}
			for _, keys := range listsIn(word, mod) {
				add(dialect.ShapeList, append(keys, "at", before+" {list}")...)
			}
		}
	}
}

// sideBySide adds, for each list in a value, the one of as many numbers beside it, if
// there is one.
func sideBySide(doc []byte, list []keys) []keys {
	ini := text.ReadINI(doc, text.INIStyle{})
	with := list
	for _, k := range list {
		at, separator := k.get("at"), k.get("separator")
		section, key, ok := strings.Cut(at, "/")
		if !ok {
			section, key = "", at
		}
		own, _ := ini.Find(doc, section, key)
		if k.get("shape") != string(dialect.ShapeList) {
			continue
		}
		count := len(strings.Split(own.Value.Value, separator))
		for _, e := range ini.Entries {
			numbers := strings.Split(e.Value.Value, separator)
			other := strings.TrimSuffix(at, key) + string(e.Key.In(doc))
			switch {
			case e.Section != section || count < 2 || !allNumbers(numbers):
			case len(numbers) == count:
				with = append(with, k.set("shape", string(dialect.ShapeParallel)).with("numbers", other))
			case !slices.ContainsFunc(numbers, func(n string) bool { return len(strings.TrimSpace(n)) < catalogued }):
				with = append(with, k.set("shape", string(dialect.ShapeParallel)).with("numbers", other, "apart", ""))
			}
		}
	}
	return with
}

// catalogued is how many digits the numbers have at least that are taken for those of a catalogue where
// there are not as many as names.
const catalogued = 6

func allNumbers(list []string) bool {
	for _, s := range list {
		s = strings.TrimSpace(s)
		if s == "" || strings.Trim(s, "0123456789") != "" {
			return false
		}
	}
	return true
}
