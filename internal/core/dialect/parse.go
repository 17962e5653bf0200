package dialect

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// MaxSize is the largest dialect that is read, in bytes.
const MaxSize = 1 << 20

// Problem is one thing wrong with a dialect.
type Problem struct {
	File    string
	Line    int    // from 1; 0 when the problem has no line of its own
	Key     string // such as log.rule[2].line
	Message string
}

func (p Problem) Error() string {
	where := p.File
	if p.Line > 0 {
		where += fmt.Sprintf(":%d", p.Line)
	}
	if p.Key != "" {
		where += ": " + p.Key
	}
	return where + ": " + p.Message
}

// Problems is all that is wrong with a dialect, in the order of the file.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i := range p {
		lines[i] = p[i].Error()
	}
	return strings.Join(lines, "\n")
}

// Parse reads a dialect and checks it. file is used in messages only. The error
// is of type Problems and names file, line and key of each.
func Parse(file string, data []byte) (*Dialect, error) {
	d, problems := Draft(file, data)
	if len(problems) > 0 {
		return nil, problems
	}
	return d, nil
}

// Draft reads a dialect that may not be complete: d is what could be read of it, and
// the problems are what is wrong with it still.
func Draft(file string, data []byte) (d *Dialect, problems Problems) {
	d = new(Dialect)
	if len(data) > MaxSize {
		return d, Problems{{File: file, Message: fmt.Sprintf("larger than the %d bytes that a dialect may have", MaxSize)}}
	}
	dec := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	if err := dec.Decode(d); err != nil {
		return d, decodeProblems(file, err)
	}
	c := checker{file: file, lines: keyLines(data)}
	c.check(d)
	c.remarks(d)
	if len(c.problems) > 0 {
		sort.SliceStable(c.problems, func(i, j int) bool { return c.problems[i].Line < c.problems[j].Line })
	}
	return d, c.problems
}

func decodeProblems(file string, err error) Problems {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) {
		var problems Problems
		for _, e := range strict.Errors {
			line, _ := e.Position()
			problems = append(problems, Problem{file, line, strings.Join(e.Key(), "."), "a dialect has no such key; look for a spelling mistake"})
		}
		return problems
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, _ := decode.Position()
		return Problems{{file, line, strings.Join(decode.Key(), "."), decodeMessage(decode)}}
	}
	return Problems{{File: file, Message: strings.TrimPrefix(err.Error(), "toml: ")}}
}

// wrongKind is how the TOML package says that a value is of another kind than its key.
var wrongKind = regexp.MustCompile(`cannot decode TOML (\w+) into .* of type (\S+)`)

// kinds are what values are called, by the words of TOML and of Go.
var kinds = map[string]string{"integer": "a number", "float": "a number", "boolean": "true or false", "string": "a text", "array": "a list", "table": "a table", "inline": "a table",
	"int": "a number", "int64": "a number", "float64": "a number", "bool": "true or false"}

func decodeMessage(err *toml.DecodeError) string {
	message := strings.TrimPrefix(err.Error(), "toml: ")
	m := wrongKind.FindStringSubmatch(message)
	if m == nil || kinds[m[1]] == "" {
		return message
	}
	wanted := kinds[m[2]]
	switch {
	case wanted != "":
	case strings.HasPrefix(m[2], "[]"):
		wanted = "a list"
	case strings.HasPrefix(m[2], "map"):
		wanted = "a table"
	default:
		wanted = "a text"
	}
	return fmt.Sprintf("is %s here; it has to be %s", kinds[m[1]], wanted)
}

// keyLines tells for every key of a document on which line it stands. Keys of
// arrays of tables carry their index: log.rule[2].line.
func keyLines(data []byte) map[string]int {
	lines := map[string]int{}
	counts := map[string]int{}
	table := ""
	var p unstable.Parser
	p.Reset(data)
	for p.NextExpression() {
		e := p.Expression()
		path, line := "", 0
		for it := e.Key(); it.Next(); {
			if line == 0 {
				line = p.Shape(it.Node().Raw).Start.Line
			}
			if path != "" {
				path += "."
			}
			path += string(it.Node().Data)
		}
		switch e.Kind {
		case unstable.ArrayTable:
			table = fmt.Sprintf("%s[%d]", path, counts[path])
			counts[path]++
			lines[table] = line
		case unstable.Table:
			table = path
			lines[table] = line
		case unstable.KeyValue:
			if table != "" {
				path = table + "." + path
			}
			lines[path] = line
		}
	}
	return lines
}
