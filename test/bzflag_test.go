package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

func TestBZFlag(t *testing.T) {
	needs(t, "/usr/games/bzfs")
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "bz")
	conf := filepath.Join(dir, "bzfs.conf")
	write(t, conf, "# mine\n-i 127.0.0.1\n-p "+freePort(t)+"\n-loadplugin HoldTheFlag   # by name\n-loadplugin \"/usr/lib/bzflag-server/wwzones.so,abc\"\n-loadplugin nope\n# -loadplugin keepaway\n")
	o.do(0, "adopt", dir, "--as", "bz")
	var c checkJSON
	o.json(1, &c, "check", "bz", "--json")
	if f := c.Findings[0]; f.Code != "mod-missing" || f.Mod != "nope" || f.Line != 6 || f.Column != 13 {
		t.Errorf("check says %+v", f)
	}
	p := &proofJSON{}
	o.json(1, p, "prove", "bz", "--json")
	if got := p.outcomes(); got != "HoldTheFlag confirmed, wwzones confirmed, nope failed" {
		t.Fatalf("outcomes are %s", got)
	}
	if e := p.mod("HoldTheFlag").Evidence[0]; !strings.Contains(e.Text, "Plugin: Hold the Flag loaded from HoldTheFlag") {
		t.Errorf("the evidence is %+v", e)
	}
	o.do(0, "off", "bz", "nope")
	o.do(0, "on", "bz", "keepaway")
	o.do(0, "register", "bz", "airspawn", "--before", "HoldTheFlag")
	want := "\n-loadplugin airspawn\n-loadplugin HoldTheFlag   # by name\n-loadplugin \"/usr/lib/bzflag-server/wwzones.so,abc\"\n# -loadplugin nope\n-loadplugin keepaway\n"
	if got := contents(t, conf); !strings.HasSuffix(got, want) {
		t.Errorf("the options file is\n%s", got)
	}
	p = &proofJSON{}
	o.json(0, p, "prove", "bz", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "airspawn confirmed, HoldTheFlag confirmed, wwzones confirmed, keepaway confirmed")
	o.do(0, "undo", "bz", "0")
	if got := contents(t, conf); !strings.Contains(got, "\n-loadplugin nope\n# -loadplugin keepaway\n") || strings.Contains(got, "airspawn") {
		t.Errorf("back at the beginning the options file is\n%s", got)
	}
}

// TestBZFlagLaunchLine has the plugins on the launch line of a start script. It
// hands what it is given on to the server, which is asked to talk.
func TestBZFlagLaunchLine(t *testing.T) {
	needs(t, "/usr/games/bzfs")
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "bz")
	script := filepath.Join(dir, "bzfs.sh")
	write(t, script, "#!/bin/sh\n# the evening server\nexec /usr/games/bzfs -i 127.0.0.1 -p "+freePort(t)+" \\\n  -ts -d -d -d -loadplugin HoldTheFlag \\\n  -loadplugin /usr/lib/bzflag-server/wwzones.so,abc \"$@\"\n")
	before := contents(t, script)
	o.do(0, "adopt", dir, "--as", "bz")
	o.do(0, "register", "bz", "airspawn", "--after", "HoldTheFlag")
	if got, want := contents(t, script), strings.Replace(before, "  -loadplugin /usr", "  -loadplugin airspawn \\\n  -loadplugin /usr", 1); got != want {
		t.Errorf("the script is\n%s", got)
	}
	p := &proofJSON{}
	o.json(0, p, "prove", "bz", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "HoldTheFlag confirmed, airspawn confirmed, wwzones confirmed")
	o.do(0, "off", "bz", "wwzones")
	p = &proofJSON{}
	o.json(0, p, "prove", "bz", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "HoldTheFlag confirmed, airspawn confirmed")
	o.do(0, "on", "bz", "wwzones")
	insist.Holds(t, "the script", contents(t, script), "-loadplugin /usr/lib/bzflag-server/wwzones.so,abc")
}
