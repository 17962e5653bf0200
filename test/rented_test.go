package test

import (
	"io/fs"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"initium/internal/insist"
)

// The demo rents a server: a mod is carried to it from the one beside it, and it is proved when its operator starts it on
// the landlord's page.
func TestScreenOfARentedServer(t *testing.T) {
	t.Parallel()
	x := open(t, 140, 40, []string{"MOOR_PACE=0.05"}, "demo")
	x.sees("remedy 1")
	x.keys("Escape")
	x.sees("5 servers", "moor-live", "at landlord", "no start seen yet")
	x.keys("Up")
	x.sees("landlord:moor-live")
	x.keys("Enter")
	x.sees("ford_keepers needs stilt_walks, which is not on this server", "landlord:moor-live/bog/", "s watch a start there")
	x.keys("X")
	x.sees("it is stopped there")
	x.keys("B")
	x.sees("beside  millmoor", "1 difference, and 3 of each one's own")
	x.keys("<")
	x.sees("Staged on moor-live: take in stilt_walks")
	x.keys("Escape")
	x.sees("load order", "p plan", "register after")
	x.keys("p")
	x.sees("Enter write it", "stilt_walks")
	x.keys("Enter")
	x.sees("load order", "s watch a start there")
	x.loses("staged")
	x.keys("s")
	page := regexp.MustCompile(`http://127\.0\.0\.1:\d+/\w+/`).FindString(x.sees("waiting for you to start it at landlord", "logs/latest.log is watched over the line", "Your notes: Start and Stop are on http"))
	press := func(what string, want int) {
		t.Helper()
		answer, err := http.PostForm(page+"moor-live/"+what, nil)
		insist.OK(t, err)
		answer.Body.Close()
		insist.Same(t, what, answer.StatusCode, want)
	}
	press("start", http.StatusOK)
	x.sees("◆ proved; running at landlord", "every registered mod is confirmed", "stilt_walks", "s watch the next start")
	press("start", http.StatusConflict)
	press("elsewhere", http.StatusNotFound)
	x.keys("Escape")
	x.sees("load order", "at landlord", "◆ proved by start 1")
	x.keys("s")
	x.sees("waiting for you to start it")
	press("stop", http.StatusOK)
	press("start", http.StatusOK)
	x.sees("◆ proved; running at landlord")
	logs := 0
	insist.OK(t, filepath.WalkDir(filepath.Dir(x.socket), func(name string, e fs.DirEntry, _ error) error {
		if filepath.Ext(name) == ".log" && strings.Contains(name, "/rented/moor-live/logs/") {
			logs++
		}
		return nil
	}))
	insist.Same(t, "logs of two starts", logs, 2)
}
