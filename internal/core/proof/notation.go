package proof

import (
	"bytes"
	"slices"
	"strings"
)

// notation reads how the time is written that a text begins with: its length, 0 for
// none, and its layout, as in package time. A layout of "" is a number of seconds or
// milliseconds.
func notation(b []byte) (n int, layout string) {
	l := lexer{text: b}
	if l.number() || l.dated() || l.undated() {
		return l.at, l.layout
	}
	return 0, ""
}

// lexer reads the parts of a time one after the other. Each of its methods either
// takes a part and adds to the layout, or reports false and takes nothing.
type lexer struct {
	text   []byte
	at     int
	layout string
}

// digits is how many digits come next.
func (l *lexer) digits() (n int) {
	for l.at+n < len(l.text) && isDigit(l.text[l.at+n]) {
		n++
	}
	return n
}

// peek is the byte some way ahead, 0 beyond the end.
func (l *lexer) peek(ahead int) byte {
	if l.at+ahead < len(l.text) {
		return l.text[l.at+ahead]
	}
	return 0
}

func (l *lexer) take(n int, layout string) {
	l.at += n
	l.layout += layout
}

// oneOf takes one of some texts, which stand for themselves.
func (l *lexer) oneOf(texts ...string) bool {
	for _, t := range texts {
		if bytes.HasPrefix(l.text[l.at:], []byte(t)) {
			l.take(len(t), t)
			return true
		}
	}
	return false
}

// number takes the seconds or milliseconds since 1970, perhaps with a fraction, or,
// in brackets, those since something began.
func (l *lexer) number() bool {
	blanks := 0
	for l.peek(blanks) == ' ' && blanks < 12 {
		blanks++
	}
	number := lexer{text: l.text, at: l.at + blanks}
	whole := number.digits()
	number.at += whole
	fraction := 0
	if number.peek(0) == '.' {
		number.at++
		fraction = number.digits()
		number.at += fraction
	}
	since1970 := blanks == 0 && (whole == 10 || whole == 13) && (fraction > 0 || l.peek(whole) != '.')
	elapsed := whole > 0 && whole < 10 && fraction >= 2 && (number.peek(0) == ']' || number.peek(0) == ')')
	if !since1970 && !elapsed {
		return false
	}
	l.at = number.at
	return true
}

var (
	weekdays = []string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}
	months   = []string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"}
)

// name takes one of some names of three letters.
func (l *lexer) name(names []string, layout string) bool {
	if l.at+3 > len(l.text) || !slices.Contains(names, string(l.text[l.at:l.at+3])) {
		return false
	}
	l.take(3, layout)
	return true
}

// dated takes a day and the time of day.
func (l *lexer) dated() bool {
	start := *l
	if l.name(weekdays, "Mon") && !l.oneOf(", ", " ") {
		*l = start
		return false
	}
	year, ok := l.day()
	ok = ok && l.oneOf(", ", " @ ", " - ", "T", " ", "-", ":", "_", "@")
	if !ok || !l.clock() && !l.compactClock() {
		*l = start
		return false
	}
	l.zone()
	if !year && l.peek(0) == ' ' && l.years(1) == 4 { // as date(1) writes it
		l.take(5, " 2006")
	}
	return true
}

// years is how many digits come after some way ahead, as far as they end there.
func (l *lexer) years(ahead int) int {
	return (&lexer{text: l.text, at: l.at + ahead}).digits()
}

// day takes a date; year tells whether it states one.
func (l *lexer) day() (year, ok bool) {
	if l.name(months, "Jan") {
		return l.monthFirst()
	}
	first := l.digits()
	mark := l.peek(first)
	switch {
	case first == 8:
		l.take(8, "20060102")
		return true, true
	case first != 4 && first != 2 && first != 1:
		return false, false
	case first < 4 && l.monthNext(first):
		return l.dayFirst(first)
	case mark != '-' && mark != '/' && mark != '.':
		return false, false
	}
	second := l.years(first + 1)
	if second != 1 && second != 2 {
		return false, false
	}
	if l.peek(first+1+second) != mark {
		if first == 2 && second == 2 && mark == '-' { // a month and a day
			l.take(5, "01-02")
			return false, true
		}
		return false, false
	}
	third := l.years(first + second + 2)
	layout, ok := numeric(l.text[l.at:l.at+first], mark, second, third)
	if ok {
		l.take(first+second+third+2, layout)
	}
	return true, ok
}

// numeric is the layout of a date of three numbers: the year first, or the day, or,
// where slashes part them, the month, if that can be one.
func numeric(first []byte, mark byte, second, third int) (string, bool) {
	two := func(n int, of string) string { // "01" or "1"
		return of[2-n:]
	}
	parts := [3]string{two(min(len(first), 2), "02"), two(second, "01"), "2006"}
	switch {
	case len(first) == 4 && (third == 1 || third == 2):
		parts = [3]string{"2006", two(second, "01"), two(third, "02")}
	case len(first) == 4 || third != 2 && third != 4:
		return "", false
	case string(first) > "31":
		parts = [3]string{"06", two(second, "01"), "02"}
	default:
		if mark == '/' && (len(first) == 1 || string(first) <= "12") {
			parts[0], parts[1] = two(len(first), "01"), two(second, "02")
		}
		if third == 2 {
			parts[2] = "06"
		}
	}
	return strings.Join(parts[:], string(mark)), true
}

// monthFirst takes the rest of a date like Jan 2, 2006 or Jan _2.
func (l *lexer) monthFirst() (year, ok bool) {
	blanks := 1
	if l.peek(0) != ' ' {
		return false, false
	}
	if l.peek(1) == ' ' {
		blanks = 2
	}
	day := l.years(blanks)
	switch {
	case blanks == 2 && day == 1 || blanks == 1 && day == 2:
		l.take(3, " _2")
	case blanks == 1 && day == 1:
		l.take(2, " 2")
	default:
		return false, false
	}
	for _, mark := range []string{", ", " "} {
		if bytes.HasPrefix(l.text[l.at:], []byte(mark)) && l.years(len(mark)) == 4 {
			l.take(len(mark)+4, mark+"2006")
			return true, true
		}
	}
	return false, true
}

// monthNext tells whether a month's name follows after some digits.
func (l *lexer) monthNext(digits int) bool {
	after := lexer{text: l.text, at: min(l.at+digits, len(l.text))}
	after.oneOf(" ", "-", "/")
	return after.name(months, "Jan")
}

// dayFirst takes a date like 2 Jan 2006, 02/Jan/2006, 02Jan2006 or 2 Jan.
func (l *lexer) dayFirst(digits int) (year, ok bool) {
	start := *l
	l.take(digits, "02"[2-digits:])
	mark := l.at
	l.oneOf(" ", "-", "/")
	between := string(l.text[mark:l.at])
	l.name(months, "Jan")
	years := l.years(len(between))
	if after := l.peek(1 + years); between == " " && l.peek(0) == ' ' && (years == 1 || years == 2) && (after == ':' || after == '.') {
		return false, true // a time of day comes next, and no year
	}
	if !bytes.HasPrefix(l.text[l.at:], []byte(between)) || years != 4 && years != 2 {
		*l = start
		return false, false
	}
	l.take(len(between)+years, between+"2006"[4-years:])
	return true, true
}

// undated takes a time of day.
func (l *lexer) undated() bool {
	if !l.clock() {
		return false
	}
	l.zone()
	return true
}

// clock takes a time of day, such as 15:04:05.000 or 3:04 PM.
func (l *lexer) clock() bool {
	hours := l.digits()
	mark := l.peek(hours)
	if hours != 1 && hours != 2 || mark != ':' && mark != '.' || l.years(hours+1) != 2 {
		return false
	}
	length, layout := hours+3, string(mark)+"04"
	more := 0
	if l.peek(length) == mark {
		more = l.years(length + 1)
	}
	switch {
	case more == 2:
		length, layout = length+3, layout+string(mark)+"05"
		if fraction := l.fraction(length); fraction > 0 && l.peek(length) != mark {
			layout += string(l.peek(length)) + strings.Repeat("0", fraction)
			length += 1 + fraction
		} else if fraction == 3 && mark == ':' {
			layout, length = layout+":000", length+4
		}
	case more != 0 || mark == '.': // an address, or some other number
		return false
	}
	if half := l.half(length); half != "" {
		l.take(length+len(half), "03"[2-hours:]+layout+strings.NewReplacer("A", "P", "a", "p").Replace(half))
	} else {
		l.take(length, "15"+layout)
	}
	return true
}

// half is which half of the day it says some way ahead, as it is written.
func (l *lexer) half(ahead int) string {
	for _, half := range []string{" AM", " PM", "AM", "PM", " am", " pm", "am", "pm"} {
		if bytes.HasPrefix(l.text[l.at+ahead:], []byte(half)) && !isLetter(l.peek(ahead+len(half))) {
			return half
		}
	}
	return ""
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// fraction is how many digits of a second come after a mark some way ahead.
func (l *lexer) fraction(ahead int) int {
	switch l.peek(ahead) {
	case '.', ',':
		if n := l.years(ahead + 1); n <= 9 {
			return n
		}
	case ':':
		if n := l.years(ahead + 1); n == 3 {
			return n
		}
	}
	return 0
}

// compactClock takes a time of day without marks, which only stands after a date.
func (l *lexer) compactClock() bool {
	if l.digits() != 6 {
		return false
	}
	l.take(6, "150405")
	return true
}

// zones are the names of zones that are told from a word of the message.
var zones = []string{"UTC", "GMT", "CET", "CEST", "EET", "EEST", "WET", "WEST", "BST", "IST", "MSK", "EST", "EDT", "CST", "CDT", "MST", "MDT", "PST", "PDT", "JST", "KST", "AEST", "AEDT"}

// zone takes a zone, if there is one.
func (l *lexer) zone() {
	blank := ""
	if l.peek(0) == ' ' {
		blank = " "
	}
	rest := lexer{text: l.text, at: l.at + len(blank)}
	switch c := rest.peek(0); {
	case c == 'Z' && !isLetter(rest.peek(1)):
		l.take(len(blank)+1, blank+"Z07:00")
	case c == '+' || c == '-':
		switch n := rest.years(1); {
		case n == 4:
			l.take(len(blank)+5, blank+"-0700")
		case n == 2 && rest.peek(3) == ':' && rest.years(4) == 2:
			l.take(len(blank)+6, blank+"Z07:00")
		}
	case blank != "":
		for _, zone := range zones {
			if bytes.HasPrefix(rest.text[rest.at:], []byte(zone)) && !isLetter(rest.peek(len(zone))) {
				l.take(1+len(zone), " MST")
				return
			}
		}
	}
}
