package app_test

import (
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/host"
	"initium/internal/insist"
)

// What stands at a host is told from a folder of this machine, and a host from which servers still stand is kept.
func TestHostsAreKnown(t *testing.T) {
	a := &app.App{Home: host.Home{Dir: t.TempDir()}}
	t.Cleanup(func() { a.Close() })
	insist.OK(t, a.Home.PutHost(host.HostRecord{Name: "there", URL: "sftp://quay@127.0.0.1:1", Pin: "SHA256:x", Added: time.Now()}))
	_, err := a.Candidate("/srv/there:servers/live")
	insist.Fails(t, "typed on the screen", err, "initium adopt there:servers/live")
	_, err = a.Candidate("/srv/nowhere:servers/live")
	insist.Fails(t, "no host", err, "no such file")
	insist.OK(t, a.Home.PutRecord(host.Record{Name: "live", Dir: a.Home.MirrorDir("live"), Dialect: "harrow-sound", Host: "there", Path: "/srv/live"}))
	list, err := a.Hosts()
	insist.That(t, err == nil && len(list) == 1 && len(list[0].Servers) == 1 && list[0].Servers[0] == "live", "%+v, %v", list, err)
	insist.Fails(t, "dropped", a.DropHost("there"), "live stands at there")
	_, err = a.Sync(t.Context(), "live", nil)
	insist.Fails(t, "nobody there", err, "the host there", "the line to the host broke")
	insist.That(t, a.LineDown("live") != nil, "the line is not known to be down")
	insist.OK(t, a.Home.PutRecord(host.Record{Name: "other", Dir: a.Home.MirrorDir("other"), Dialect: "harrow-sound", Host: "there", Path: "/srv/other"}))
	a.Notes()
	sum, err := a.Servers()
	insist.That(t, err == nil && len(sum) == 2, "%v", err)
	insist.That(t, a.LineDown("other") != nil && len(a.Notes()) == 0, "the host is waited for once more, for another server")
	words, fine := sum[0].StateWords()
	insist.That(t, words == "at there, line down" && !fine && sum[0].Dir == "there:/srv/live", "%q, %+v", words, sum[0])
	for name, fails := range map[string]string{"": "no such host", "../x": "no such host", "other": "add it first"} {
		_, err := a.Home.Host(name)
		insist.Fails(t, name, err, fails)
	}
}
