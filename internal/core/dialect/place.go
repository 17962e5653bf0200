package dialect

import "strings"

// HasRelease tells whether the files of a place have the mod's release in their names.
func (p *Place) HasRelease() bool { return strings.Contains(p.File, "{release}") }

// NameIn finds the mod's name, and its release where the form holds that too, in the name of a file or
// folder; ok is false where the name does not fit. A release begins with a digit, perhaps after a v.
func NameIn(form, file string) (mod, release string, ok bool) {
	before, rest, found := strings.Cut(form, "{mod}")
	between, after, released := strings.Cut(rest, "{release}")
	if !released {
		after, between = rest, ""
	}
	if !found || !strings.HasPrefix(file, before) || !strings.HasSuffix(file, after) || len(file) <= len(before)+len(after) {
		return "", "", false
	}
	file = file[len(before) : len(file)-len(after)]
	if !released {
		return file, "", true
	}
	for at := 1; at < len(file); at++ {
		release, ok := strings.CutPrefix(file[at:], between)
		if digits := strings.TrimPrefix(release, "v"); ok && digits != "" && digits[0] >= '0' && digits[0] <= '9' {
			return file[:at], release, true
		}
	}
	return "", "", false
}

// Call is what a mod's file or folder is called.
func Call(form, mod, release string) string {
	return strings.NewReplacer("{mod}", mod, "{release}", release).Replace(form)
}
