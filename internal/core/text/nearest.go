package text

import "strings"

// Nearest is the name of a list that a mistyped one was most likely meant to be; "" when
// none is near enough: at most a third of the letters may be wrong, and one in a short name.
// Of two that are equally near it is the first.
func Nearest(typed string, names []string) string {
	letters := len([]rune(typed))
	if letters < 2 {
		return ""
	}
	best, least := "", max(1, letters/3)
	for _, name := range names {
		if strings.EqualFold(name, typed) {
			return name
		}
		if d := slips([]rune(strings.ToLower(typed)), []rune(strings.ToLower(name)), least); d < least || d == least && best == "" {
			best, least = name, d
		}
	}
	return best
}

// slips counts the letters that were left out, put in, mistaken or exchanged with the one
// beside; more than most are not told apart.
func slips(a, b []rune, most int) int {
	if d := len(a) - len(b); d > most || -d > most {
		return most + 1
	}
	// Three rows of the usual table: that of the letter before the one before, that before,
	// and this.
	older, old, now := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range old {
		old[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			wrong := 1
			if a[i-1] == b[j-1] {
				wrong = 0
			}
			now[j] = min(old[j]+1, now[j-1]+1, old[j-1]+wrong)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], older[j-2]+1)
			}
		}
		older, old, now = old, now, older
	}
	return old[len(b)]
}
