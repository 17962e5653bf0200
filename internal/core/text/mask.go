package text

import (
	"regexp"
	"strings"
)

// hidden stands for what is not to be shown.
const hidden = "••••••"

// secretWord finds values after names that keys and passwords commonly have, and
// passwords in connection strings.
var secretWord = regexp.MustCompile(`(?i)((?:pass(?:word|wd|phrase)?|secret|token|api[_-]?key|private[_-]?key|licen[cs]e(?:[_-]?key)?)["']?[ \t]*[=:][ \t]*["']?)([^\s"';,]{3,})`)

var connectionPassword = regexp.MustCompile(`(://[^/\s:@]*:)([^@\s/]+)(@)`)

// Mask hides keys and passwords in a text that is about to be shown: the given
// ones, and what stands where such things commonly stand.
func Mask(s string, secrets []string) string {
	for _, secret := range secrets {
		if len(secret) >= 3 {
			s = strings.ReplaceAll(s, secret, hidden)
		}
	}
	if !strings.ContainsAny(s, "=:") || !speaksOfSecrets(s) {
		return s
	}
	s = connectionPassword.ReplaceAllString(s, "${1}"+hidden+"${3}")
	return secretWord.ReplaceAllString(s, "${1}"+hidden)
}

// MaskValue hides the whole value of a name that keys and passwords commonly have, and a
// password within any other value.
func MaskValue(name, value string) string {
	if value != "" && secretWord.MatchString(name+"="+hidden) {
		return hidden
	}
	return Mask(value, nil)
}

// speaksOfSecrets spares most texts the search by patterns.
func speaksOfSecrets(s string) bool {
	s = strings.ToLower(s)
	for _, word := range []string{"pass", "secret", "token", "key", "licen", "://"} {
		if strings.Contains(s, word) {
			return true
		}
	}
	return false
}
