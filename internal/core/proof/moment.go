package proof

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// layouts are the usual ways of writing a moment, as in package time. Those
// without a date have the year 0.
var layouts = []string{
	time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999 -0700", "2006-01-02 15:04:05.999999999 MST", "2006-01-02 15:04:05.999999999",
	"2006/01/02 15:04:05.999999999", "2006.01.02 15:04:05.999999999", "2006.01.02-15.04.05", "02/Jan/2006:15:04:05 -0700", "02 Jan 2006 15:04:05.999999999", "2 Jan 2006 15:04:05.999999999",
	"02Jan2006 15:04:05.999999999", "02.01.2006 15:04:05.999999999", "01/02/2006 15:04:05.999999999", "Mon Jan _2 15:04:05 2006", "Mon Jan _2 15:04:05 MST 2006", "Jan _2 15:04:05.999999999",
	"Mon, 02 Jan 2006 15:04:05 MST", "20060102 15:04:05.999999999", "20060102T150405", "2006-01-02 03:04:05 PM", "15:04:05.999999999", "15.04.05", "3:04:05 PM", "3:04 PM", "15:04",
}

// Moment reads a time in any of the usual notations: with a date or without, with a
// comma before fractions of a second, in brackets, or as seconds or milliseconds
// since 1970. layout is how it is written, as in package time, "" for a number; one
// that is handed in is tried first.
func Moment(s, likely string) (t time.Time, layout string, ok bool) {
	s = strings.Trim(strings.TrimSpace(s), "[]()<>")
	if likely != "" {
		if t, err := time.Parse(likely, s); err == nil {
			return t, likely, true
		}
	}
	if whole, _, _ := strings.Cut(s, "."); digits(whole) && (len(whole) == 10 || len(whole) == 13) {
		v, err := strconv.ParseFloat(s, 64)
		if len(whole) == 13 {
			v /= 1000
		}
		return time.UnixMicro(int64(v * 1e6)).UTC(), "", err == nil
	}
	for _, layout := range layouts {
		if t, err := time.Parse(layout, s); err == nil {
			return t, layout, true
		}
	}
	return t, "", false
}

// dated tells whether a moment states a day.
func dated(t time.Time) bool { return t.Year() > 0 || t.YearDay() > 1 }

func digits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// opening is what a line may begin with that is a time: as far as it reaches.
var opening = regexp.MustCompile(`^[\[(<]?(` +
	`\d{4}[-/.]\d\d[-/.]\d\d[T -]\d\d[:.]\d\d[:.]\d\d(?:[.,]\d+)?(?: ?(?:Z|[+-]\d\d:?\d\d))?` +
	`|\d\d?[./]\d\d[./]\d{4} \d\d:\d\d:\d\d(?:[.,]\d+)?` +
	`|\d\d? ?[A-Z][a-z]{2} ?\d{4} \d\d:\d\d:\d\d(?:[.,]\d+)?` +
	`|\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}` +
	`|(?:[A-Z][a-z]{2} )?[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d(?:[.,]\d+)?(?: [A-Z]{3,4})?(?: \d{4})?` +
	`|\d{8}[T ]\d\d:?\d\d:?\d\d(?:[.,]\d+)?` +
	`|\d\d?[:.]\d\d[:.]\d\d(?:[.,]\d+)?(?: [AP]M)?` +
	`|\d{10}(?:\d{3})?(?:\.\d+)?` +
	`)(?:[\])>:,|\s-]|$)`)

// Opening finds the time that a line begins with: where it is, without brackets
// around it. ok is false when there is none.
func Opening(line []byte) (start, end int, ok bool) {
	at := opening.FindSubmatchIndex(line[:min(len(line), 80)])
	if at == nil {
		return 0, 0, false
	}
	if _, _, ok := Moment(string(line[at[2]:at[3]]), ""); !ok {
		return 0, 0, false
	}
	return at[2], at[3], true
}

// clock works out when lines came, after the first that states a time.
type clock struct {
	set    bool
	first  time.Time
	latest time.Duration
	layout string // of the time that was read last
}

// firstLines is how many lines a log may begin with before one states a time.
const firstLines = 50

// begin looks for the first time in a log.
func (c *clock) begin(r *Reader, region []byte) {
	if !r.Stamped || c.set {
		return
	}
	for i := 0; i < firstLines && len(region) > 0 && !c.set; i++ {
		line, rest, _ := bytes.Cut(region, []byte{'\n'})
		_, stamp, _, _, _ := r.split(line)
		c.layout = r.dialect.Log.Time
		c.at(stamp, line)
		region = rest
	}
	c.set = true
}

// at is when a line came. A line that states no time came with the one before it. A
// clock without days passes midnight; one that is set back does not turn time.
func (c *clock) at(stamp, raw []byte) time.Duration {
	if len(stamp) == 0 {
		start, end, ok := Opening(raw)
		if !ok {
			return c.latest
		}
		stamp = raw[start:end]
	}
	t, layout, ok := Moment(string(stamp), c.layout)
	if !ok {
		return c.latest
	}
	c.layout = layout
	if c.first.IsZero() {
		c.first, c.set = t, true
	}
	since := t.Sub(c.first)
	for !dated(t) && since < c.latest-12*time.Hour {
		since += 24 * time.Hour
	}
	c.latest = max(c.latest, since)
	return c.latest
}
