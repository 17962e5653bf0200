package lineup

import "slices"

// Choices are what the operator has answered, or said beforehand, about files that
// come or go. Paths are absolute or seen from the server's folder; "all" stands
// for every one.
type Choices struct {
	As       string   `json:"as,omitempty"`       // the name of the one mod
	Agree    bool     `json:"agree,omitempty"`    // names are mended as proposed; others may be left without what they need
	Agreed   []string `json:"agreed,omitempty"`   // of these mods alone the names are mended as proposed
	Only     []string `json:"only,omitempty"`     // of several mods these
	Into     string   `json:"into,omitempty"`     // the place to put mods into
	Section  string   `json:"section,omitempty"`  // the section that new lines go into, "" for where their needs and likes stand
	Take     []string `json:"take,omitempty"`     // where there is a file already, the new one
	Keep     []string `json:"keep,omitempty"`     // or the old one
	Both     []string `json:"both,omitempty"`     // or the old one, with the new one beside it
	Alone    bool     `json:"alone,omitempty"`    // the server loads nothing else but what that needs: all other mods are switched off
	Whole    bool     `json:"whole,omitempty"`    // mods are exactly as they come, whatever somebody has changed of theirs
	Quiet    bool     `json:"quiet,omitempty"`    // files only, nothing is registered
	Base     string   `json:"base,omitempty"`     // a file that a table begins from which is not there yet
	Leavings bool     `json:"leavings,omitempty"` // when a mod goes, what it has made goes with it

	MostFiles int   `json:"most_files,omitempty"` // bounds of what comes; 0 for the usual ones
	MostBytes int64 `json:"most_bytes,omitempty"`
	MostRatio int64 `json:"most_ratio,omitempty"`
	Cases     bool  `json:"cases,omitempty"` // names may differ by letter case only
}

// Choice is an answer about a file.
type Choice string

// The new file is taken, the old one kept, or both; Open is no answer yet.
const (
	Open Choice = ""
	Take Choice = "take"
	Keep Choice = "keep"
	Both Choice = "both"
)

// About finds the answer about a file, by its path seen from the server's folder
// or its whole one. What names the file wins over "all".
func (c *Choices) About(rel, name string) Choice {
	for _, word := range []string{name, rel, "all"} {
		switch {
		case slices.Contains(c.Keep, word):
			return Keep
		case slices.Contains(c.Both, word):
			return Both
		case slices.Contains(c.Take, word):
			return Take
		}
	}
	return Open
}
