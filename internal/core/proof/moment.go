package proof

import (
	"bytes"
	"strconv"
	"strings"
	"time"
)

// Moment reads a time in any of the usual notations: with a date or without, with a
// mark before fractions of a second, in brackets, as seconds or milliseconds since
// 1970, or as seconds since something began. layout is how it is written, as in
// package time, "" for a number; one that is handed in is tried first.
func Moment(s, likely string) (t time.Time, layout string, ok bool) {
	s = strings.Trim(strings.TrimSpace(s), "[]()<>{}")
	if likely != "" {
		if t, err := time.Parse(likely, s); err == nil {
			return t, likely, true
		}
	}
	n, layout := notation([]byte(s + "]"))
	if n != len(s) || n == 0 {
		return t, "", false
	}
	if layout == "" {
		return seconds(strings.TrimSpace(s))
	}
	if strings.HasSuffix(layout, ":000") { // package time knows no such fraction
		at := strings.LastIndexByte(s, ':')
		s, layout = s[:at]+"."+s[at+1:], strings.TrimSuffix(layout, ":000")+".000"
	}
	t, err := time.Parse(layout, s)
	return t, layout, err == nil
}

// seconds reads a number of seconds or milliseconds.
func seconds(s string) (t time.Time, layout string, ok bool) {
	v, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return t, "", false
	}
	switch whole, _, _ := strings.Cut(s, "."); {
	case len(whole) < 10:
		return time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(v * float64(time.Second))), "", true
	case len(whole) == 13:
		v /= 1000
	}
	return time.UnixMicro(int64(v * 1e6)).UTC(), "", true
}

// dated tells whether a moment states a day.
func dated(t time.Time) bool { return t.Year() > 0 || t.YearDay() > 1 }

// maxOpening is how many bytes a line is looked at for its time.
const maxOpening = 80

// Opening finds the time that a line begins with: where it is, without brackets
// around it. ok is false when there is none.
func Opening(line []byte) (start, end int, ok bool) {
	line = line[:min(len(line), maxOpening)]
	if len(line) > 0 && strings.IndexByte("[(<{", line[0]) >= 0 {
		start = 1
	}
	n, _ := notation(line[start:])
	end = start + n
	if n == 0 || end < len(line) && strings.IndexByte("])>}:;,|\"' \t-", line[end]) < 0 {
		return 0, 0, false
	}
	if _, _, ok := Moment(string(line[start:end]), ""); !ok {
		return 0, 0, false
	}
	return start, end, true
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
		line = Plain(line)
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
