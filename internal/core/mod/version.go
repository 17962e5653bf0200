package mod

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"

	"initium/internal/core/dialect"
)

// version is one cut up for comparing: numbers and words, what stands before a
// release being less than the release itself. What follows a + does not count
// (Semantic Versioning 2.0.0, 10 and 11), but there may be any number of parts,
// and words may follow a number without a dash, as in 1.2rc1.
type version struct {
	main   []string
	before []string // of a version that comes before the release
}

// preview are the words that stand for "not released yet".
var preview = regexp.MustCompile(`^(?i:(.*\d)[-_.]?(alpha|beta|pre|preview|rc|dev|snapshot)([-_.]?\d*.*))$`)

func cutVersion(s string) version {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "+")
	if len(s) > 1 && (s[0] == 'v' || s[0] == 'V') && isDigit(s[1]) {
		s = s[1:]
	}
	main, before, _ := strings.Cut(s, "-")
	if m := preview.FindStringSubmatch(main); m != nil {
		main, before = m[1], m[2]+m[3]+"."+before
	}
	return version{pieces(main), pieces(before)}
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' }

// pieces cuts a text into runs of digits and runs of anything else; dots,
// dashes and low lines only part them.
func pieces(s string) (list []string) {
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == '.' || r == '_' || r == '-' }) {
		for len(part) > 0 {
			n := 1
			for n < len(part) && isDigit(part[n]) == isDigit(part[0]) {
				n++
			}
			list = append(list, part[:n])
			part = part[n:]
		}
	}
	return list
}

// Compare orders two versions: below zero when a is the older one.
func Compare(a, b string) int {
	va, vb := cutVersion(a), cutVersion(b)
	if c := comparePieces(va.main, vb.main, true); c != 0 {
		return c
	}
	switch {
	case len(va.before) == 0 && len(vb.before) == 0:
		return 0
	case len(va.before) == 0:
		return 1
	case len(vb.before) == 0:
		return -1
	}
	return comparePieces(va.before, vb.before, false)
}

// comparePieces compares piece by piece; where zeros count as nothing, 1.0 is 1.
func comparePieces(a, b []string, zeros bool) int {
	for i := range max(len(a), len(b)) {
		x, y := at(a, i), at(b, i)
		if zeros {
			x, y = cmp.Or(x, "0"), cmp.Or(y, "0")
		}
		if c := comparePiece(x, y); c != 0 {
			return c
		}
	}
	return 0
}

func at(list []string, i int) string {
	if i < len(list) {
		return list[i]
	}
	return ""
}

func comparePiece(a, b string) int {
	digitA, digitB := a != "" && isDigit(a[0]), b != "" && isDigit(b[0])
	switch {
	case digitA && digitB:
		a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
		return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b))
	case a != "" && b != "" && digitA != digitB: // a number is less than a word
		if digitA {
			return -1
		}
		return 1
	}
	return strings.Compare(strings.ToLower(a), strings.ToLower(b))
}

// Fits tells whether a version lies in a range. The error says why the range
// cannot be read; an empty range is any version.
func Fits(have, want string, notation dialect.Notation) (bool, error) {
	want = strings.TrimSpace(want)
	if want == "" || want == "*" {
		return true, nil
	}
	switch notation {
	case dialect.VersionsIntervals:
		return fitsIntervals(have, want)
	case dialect.VersionsLeast:
		if !isVersion(want) {
			return false, fmt.Errorf("%q is no version", want)
		}
		return Compare(have, want) >= 0, nil
	case dialect.VersionsListed:
		for _, w := range strings.FieldsFunc(want, func(r rune) bool { return strings.ContainsRune(" \t,;|", r) }) {
			if begins(have, w) {
				return true, nil
			}
		}
		return false, nil
	}
	return fitsComparators(have, want)
}

// versionForm is what a version may look like.
var versionForm = regexp.MustCompile(`^[vV]?\d[0-9A-Za-z._+-]*$`)

func isVersion(s string) bool { return versionForm.MatchString(s) }

// begins tells whether a version is another one, or one with more parts: 1.2
// stands for 1.2.3 too, and so do 1.2.x and 1.2.*.
func begins(have, want string) bool {
	want = strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(want, "*"), "x"), "X"), ".")
	h, w := cutVersion(have), cutVersion(want)
	if len(w.main) > len(h.main) {
		return Compare(have, want) == 0
	}
	return comparePieces(h.main[:len(w.main)], w.main, true) == 0 && (len(w.before) == 0 || comparePieces(h.before, w.before, false) == 0)
}

// interval is one range in brackets, such as [1.2,2).
var interval = regexp.MustCompile(`^\s*([\[(])\s*([^,\])]*)(,?)\s*([^,\])]*)([\])])\s*(?:,|$)`)

func fitsIntervals(have, want string) (bool, error) {
	if isVersion(want) {
		return Compare(have, want) >= 0, nil
	}
	fits := false
	for rest := want; strings.TrimSpace(rest) != ""; {
		m := interval.FindStringSubmatch(rest)
		if m == nil {
			return false, fmt.Errorf("%q is no range such as [1.2,2)", want)
		}
		rest = rest[len(m[0]):]
		low, high := strings.TrimSpace(m[2]), strings.TrimSpace(m[4])
		if m[3] == "" {
			high = low
		}
		if low != "" && !isVersion(low) || high != "" && !isVersion(high) || low == "" && m[3] == "" {
			return false, fmt.Errorf("%q is no range such as [1.2,2)", want)
		}
		above := low == "" || Compare(have, low) > 0 || m[1] == "[" && Compare(have, low) == 0
		below := high == "" || Compare(have, high) < 0 || m[5] == "]" && Compare(have, high) == 0
		fits = fits || above && below
	}
	return fits, nil
}

// comparator is one condition on a version.
var comparator = regexp.MustCompile(`^\s*,?\s*(>=|<=|==|!=|~>|~=|=>|=<|[><=^~])?\s*([vV]?[0-9xX*][0-9A-Za-z._*+-]*)`)

func fitsComparators(have, want string) (bool, error) {
	fits := false
	for _, part := range strings.Split(want, "||") {
		all := true
		if low, high, ok := strings.Cut(part, " - "); ok {
			part = ">=" + strings.TrimSpace(low) + " <=" + strings.TrimSpace(high)
		}
		for rest := part; strings.TrimSpace(rest) != ""; {
			m := comparator.FindStringSubmatch(rest)
			if m == nil {
				return false, fmt.Errorf("%q is no range such as >=1.2 <2", want)
			}
			rest = rest[len(m[0]):]
			all = all && compares(have, m[1], m[2])
		}
		fits = fits || all
	}
	return fits, nil
}

func compares(have, operator, want string) bool {
	switch operator {
	case ">=", "=>":
		return Compare(have, plainVersion(want)) >= 0
	case ">":
		return Compare(have, plainVersion(want)) > 0 && !begins(have, want)
	case "<=", "=<":
		return Compare(have, plainVersion(want)) <= 0 || begins(have, want)
	case "<":
		return Compare(have, plainVersion(want)) < 0
	case "!=":
		return !begins(have, want)
	case "^":
		return Compare(have, want) >= 0 && sameUpTo(have, want, firstThatCounts(want))
	case "~":
		return Compare(have, want) >= 0 && sameUpTo(have, want, min(2, len(cutVersion(want).main)))
	case "~>", "~=": // all but the last part has to be the same
		return Compare(have, want) >= 0 && sameUpTo(have, want, max(len(cutVersion(want).main)-1, 1))
	}
	if strings.Trim(want, "xX*.") == "" {
		return true
	}
	return begins(have, want)
}

// plainVersion leaves the parts out that stand for any number.
func plainVersion(s string) string {
	for {
		cut := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(s, ".x"), ".X"), ".*")
		if cut == s {
			return s
		}
		s = cut
	}
}

// firstThatCounts is the number of leading parts up to the first that is not 0.
func firstThatCounts(want string) int {
	main := cutVersion(want).main
	for i, p := range main {
		if strings.Trim(p, "0") != "" {
			return i + 1
		}
	}
	return len(main)
}

func sameUpTo(have, want string, parts int) bool {
	h, w := cutVersion(have).main, cutVersion(want).main
	for i := range parts {
		if comparePiece(cmp.Or(at(h, i), "0"), cmp.Or(at(w, i), "0")) != 0 {
			return false
		}
	}
	return true
}
