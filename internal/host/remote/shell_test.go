package remote_test

import (
	"bytes"
	"context"
	"runtime"
	"strings"
	"testing"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// A command at a host gets its words as they are, and what it says and ends with comes back.
func TestRun(t *testing.T) {
	b := newBox(t)
	h := b.dial()
	run := func(in string, words ...string) (int, string, string, error) {
		var out, said bytes.Buffer
		status, err := remote.Run(t.Context(), h, remote.Running{Words: words, In: strings.NewReader(in), Out: &out, Err: &said})
		return status, out.String(), said.String(), err
	}
	_, _, _, err := run("", "true")
	insist.Fails(t, "a host that runs none", err, remote.ErrNoShell.Error())
	_, err = remote.Look(t.Context(), h)
	insist.Fails(t, "it cannot be asked either", err, remote.ErrNoShell.Error())
	b.runs = true
	words := []string{"", "two words", `it's "$HOME"`, "a;b&c|d", "*", "`id`", "new\nline", `back\slash`, "-n"}
	status, out, _, err := run("", append([]string{"printf", "<%s>"}, words...)...)
	insist.That(t, err == nil && status == 0, "%d, %v", status, err)
	insist.Same(t, "the words", out, "<"+strings.Join(words, "><")+">")
	status, out, said, err := run("typed", "sh", "-c", "cat; echo bad >&2; exit 7")
	insist.That(t, err == nil && status == 7 && out == "typed" && said == "bad\n", "%d, %q, %q, %v", status, out, said, err)
	m, err := remote.Look(t.Context(), h)
	insist.That(t, err == nil && m.Home == b.dir && m.System == runtime.GOOS+"/"+runtime.GOARCH && m.System == remote.Own(), "%+v, %v", m, err)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err = remote.Run(ctx, h, remote.Running{Words: []string{"sleep", "60"}})
	insist.Fails(t, "given up", err, "context canceled")
	_, err = remote.Run(t.Context(), newShop(), remote.Running{Words: []string{"true"}})
	insist.Fails(t, "by FTP", err, remote.ErrNoShell.Error())
	_ = h.Close() // the server has closed it too
	_, _, _, err = run("", "true")
	insist.Fails(t, "a line that broke", err, remote.ErrLine.Error())
}
