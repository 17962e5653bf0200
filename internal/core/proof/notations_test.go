package proof_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/proof"
	"initium/internal/golden"
)

// Dates and times of day in every notation, alone, together, and in ways that are none:
// what each is read as, and how much of a line it takes up.
func TestNotationsInFull(t *testing.T) {
	dates := []string{"", "2026-01-02", "2026/1/2", "2026.01.02", "2026-1", "2026-01-02-", "20260102", "2026010", "26-01-02", "02.01.2026", "2.1.26", "2.1.026", "3/24/26", "3/24/2026", "13/3/26", "02/01/2026", "13/01/2026", "1/13/2026",
		"1-2-2026", "12-31", "1-2", "12.31", "32/01/02", "Jan 2", "Jan  2", "January 2", "Jan 2 2026", "Jan 2, 2026", "Jan 22,", "2 Jan", "2 Jan 2026", "02-Jan-2026", "02/Jan/2026", "02Jan2026", "2 January 2026", "Jan", "Fri", "Fri Jan 2", "Fri, 2 Jan 2026", "Friday 2 Jan", "Foo 2", "2 Foo 2026"}
	joins := []string{" ", "T", "-", ":", "_", ", ", "  "}
	clocks := []string{"", "10:00:01", "10:00", "1:00:01 PM", "10:00:01 am", "10.00.01", "10.00", "10:00:01.250", "10:00:01,25", "10:00:01:250", "10:00:01:25", "10.00.01:250", "10.00.01.250", "10:00:01.123456789", "10:00:01.1234567890", "10:00:01Z", "10:00:01+01:00", "10:00:01 +0100", "10:00:01 CET", "10:00:01 2026", "10:00:01 UTC 2026", "100001", "10:0:1", "10:000", "25:00:01", "10:00.01", "10:00:011", "10:00:01 P", "10:00:01 AMX"}
	var all strings.Builder
	say := func(s string) {
		said := "no time"
		if at, layout, ok := proof.Moment(s, ""); ok {
			said = fmt.Sprintf("%s by %q", at.Format("2006-01-02T15:04:05.999999999Z07:00"), layout)
		}
		opens := "opens nothing"
		line := s + " m"
		if start, end, ok := proof.Opening([]byte(line)); ok {
			opens = fmt.Sprintf("opens with %q", line[start:end])
		}
		fmt.Fprintf(&all, "%q: %s, %s\n", s, said, opens)
	}
	for i, date := range dates {
		for j, clock := range clocks {
			if date == "" || clock == "" || j == 1 || i == 1 || (i+j)%5 == 0 {
				say(strings.TrimSpace(date + joins[0] + clock))
			}
		}
		for _, join := range joins[1:] {
			say(date + join + clocks[1])
			say(date + join + "100001")
		}
	}
	for _, s := range []string{"1767348001", "1767348001250", "1767348001.25", "176734800", "17673480012", "[1767348001]", "[ 1.5]", "[1.5", "1.5]", "[   61.250000]", "[12:00", "(12:00:01)", "<12:00:01>", "{12:00:01}", "[[12:00:01]]", "[2026-01-02 10:00:01.5]", "#12:00:01", "12:00:01|", "12:00:01>", "t=12:00:01"} {
		say(s)
	}
	golden.Check(t, "notations.txt", all.String())
}
