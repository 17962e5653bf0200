package text

import (
	"regexp"
	"strings"
)

// hidden stands for what is not to be shown.
const hidden = "••••••"

// secretNames are how the names of keys and passwords commonly end.
const secretNames = `(?i)(?:pass(?:word|wd|phrase)?|pwd|secret|token|api[_-]?key|private[_-]?key|licen[cs]e(?:[_-]?key)?|webhook(?:[_-]?url)?|credentials?)`

// secretWord finds values after such names, as far as an assignment stands between them.
var secretWord = regexp.MustCompile(`(` + secretNames + `["']?[ \t]*[=:][ \t]*["']?)([^\s"';,]{3,})`)

var secretName = regexp.MustCompile(secretNames + `$`)

// plainPass are words that end as a password's name may, and are none.
var plainPass = regexp.MustCompile(`(?i)(?:com|by|tres|sur|over|under)pass$`)

func namesSecret(name string) bool {
	return secretName.MatchString(name) && !plainPass.MatchString(name)
}

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
	if value != "" && namesSecret(name) {
		return hidden
	}
	return Mask(value, nil)
}

// IsSecret tells whether the value of a setting is a key or a password by the name that the
// setting has. What is too short for one, a number or a yes or no is none.
func IsSecret(name, value string) bool {
	if len(value) < 4 || !namesSecret(name) {
		return false
	}
	switch strings.ToLower(value) {
	case "true", "false", "none", "null":
		return false
	}
	return strings.Trim(value, "0123456789.") != "" || len(value) >= 8
}

// speaksOfSecrets spares most texts the search by patterns.
func speaksOfSecrets(s string) bool {
	s = strings.ToLower(s)
	for _, word := range []string{"pass", "pwd", "secret", "token", "key", "licen", "webhook", "credential", "://"} {
		if strings.Contains(s, word) {
			return true
		}
	}
	return false
}
