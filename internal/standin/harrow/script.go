package harrow

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// berth is one line of the startup script that brings cargo in.
type berth struct {
	name string
	line int
	set  map[string]string // the settings as they stood at this line
}

// readScript reads the startup script and the files that it names.
func (s *server) readScript(name string, depth int) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return fmt.Errorf("%s is not there", name)
	}
	if depth > 8 {
		return fmt.Errorf("%s: too many scripts that read each other", name)
	}
	for i, raw := range strings.Split(string(data), "\n") {
		words, err := cut(strings.TrimRight(raw, "\r"))
		if err != nil {
			return fmt.Errorf("%s, line %d: %v", name, i+1, err)
		}
		if len(words) == 0 {
			continue
		}
		switch {
		case words[0] == "let" && len(words) == 3:
			s.settings[words[1]] = words[2]
		case words[0] == "also" && len(words) == 2:
			if err := s.readScript(filepath.Join(filepath.Dir(name), words[1]), depth+1); err != nil {
				return err
			}
		case words[0] == "berth" && len(words) == 2:
			s.berths = append(s.berths, berth{words[1], i + 1, copyOf(s.settings)})
		default:
			s.say("harbour", "%s, line %d makes no sense and is passed over: %s", name, i+1, strings.Join(words, " "))
		}
	}
	return nil
}

// cut divides a line into words. A quoted word may hold blanks; # begins a
// remark where a word could begin.
func cut(line string) (words []string, err error) {
	for {
		line = strings.TrimLeft(line, " \t")
		if line == "" || line[0] == '#' {
			return words, nil
		}
		if line[0] == '"' {
			end := strings.IndexByte(line[1:], '"')
			if end < 0 {
				return nil, fmt.Errorf("a quote is not closed")
			}
			words = append(words, line[1:1+end])
			line = line[end+2:]
			continue
		}
		end := strings.IndexAny(line, " \t")
		if end < 0 {
			end = len(line)
		}
		words = append(words, line[:end])
		line = line[end:]
	}
}

func copyOf(m map[string]string) map[string]string {
	c := make(map[string]string, len(m))
	for k, v := range m {
		c[k] = v
	}
	return c
}
