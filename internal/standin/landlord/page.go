package landlord

import (
	"crypto/rand"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// let is a server that is let.
type let struct {
	dir    string
	script string
	env    []string

	mu   sync.Mutex
	cmd  *exec.Cmd
	done chan struct{} // closed when it has ended
	says string        // what came of it last
}

// logs is the folder of a server in which what it prints is kept.
const logs = "logs"

// Let puts a server to let that stands in a folder, by the script that starts it.
func (l *Landlord) Let(name, script string, env ...string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lets[name] = &let{dir: filepath.Join(l.dir, name), script: script, env: env, says: "not started yet"}
}

// start starts a server, after the log of the start before was moved away.
func (s *let) start() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.running() {
		return fmt.Errorf("it runs already")
	}
	folder := filepath.Join(s.dir, logs)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	latest := filepath.Join(folder, "latest.log")
	if info, err := os.Stat(latest); err == nil {
		if err := os.Rename(latest, filepath.Join(folder, info.ModTime().Format("20060102-150405.000")+".log")); err != nil {
			return err
		}
	}
	log, err := os.OpenFile(latest, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command("/bin/sh", s.script)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = s.dir, append(os.Environ(), s.env...), log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	in, err := cmd.StdinPipe() // a server may end when nobody can type any more
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	done := make(chan struct{})
	s.cmd, s.done, s.says = cmd, done, "started at "+time.Now().Format("15:04:05")
	go func() {
		err := cmd.Wait()
		in.Close()
		s.mu.Lock()
		s.says = "ended at " + time.Now().Format("15:04:05")
		if err != nil {
			s.says += " (" + err.Error() + ")"
		}
		s.mu.Unlock()
		close(done)
	}()
	return nil
}

func (s *let) running() bool {
	if s.cmd == nil {
		return false
	}
	select {
	case <-s.done:
		return false
	default:
		return true
	}
}

// patience is how long a server may take to end, once it was asked.
const patience = 5 * time.Second

// stop ends a server and all that it has started.
func (s *let) stop() {
	s.mu.Lock()
	up, cmd, done := s.running(), s.cmd, s.done
	s.mu.Unlock()
	if !up {
		return
	}
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) // it may be gone
	select {
	case <-done:
	case <-time.After(patience):
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		<-done
	}
}

// openPage begins to serve the page, under a path that nobody guesses.
func (l *Landlord) openPage() (err error) {
	if l.page, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	path := "/" + strings.ToLower(rand.Text()[:10]) + "/"
	l.Page = "http://" + l.page.Addr().String() + path
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+path+"{$}", l.show)
	mux.HandleFunc("POST "+path+"{server}/{what}", l.press)
	l.web = &http.Server{Handler: http.NewCrossOriginProtection().Handler(mux), ReadHeaderTimeout: 5 * time.Second}
	l.ends.Go(func() { _ = l.web.Serve(l.page) }) // it ends when it is closed
	return nil
}

var pageOf = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>A landlord of servers</title>
<style>
body { font: 17px/1.5 Georgia, serif; max-width: 44rem; margin: 3rem auto; padding: 0 1rem; color: #1b2430; background: #fbfaf7 }
button { font: inherit; padding: .3rem 1.2rem; margin-right: .6rem }
pre { background: #efece4; padding: .8rem; overflow-x: auto; font-size: 13px }
</style>
<h1>A landlord of servers</h1>
<p>It is made up, and lets what the demo has there. Its files are reached over SFTP.</p>
{{range .}}<h2>{{.Name}}</h2>
<p>{{.Says}}</p>
<form method="post"><button formaction="{{.Name}}/start">Start</button><button formaction="{{.Name}}/stop">Stop</button></form>
<pre>{{.Log}}</pre>
{{end}}</html>
`))

// show shows the page.
func (l *Landlord) show(w http.ResponseWriter, _ *http.Request) {
	type row struct{ Name, Says, Log string }
	var rows []row
	l.mu.Lock()
	for name, s := range l.lets {
		s.mu.Lock()
		rows = append(rows, row{name, s.says, lastLines(filepath.Join(s.dir, logs, "latest.log"))})
		s.mu.Unlock()
	}
	l.mu.Unlock()
	slices.SortFunc(rows, func(a, b row) int { return strings.Compare(a.Name, b.Name) })
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = pageOf.Execute(w, rows) // whoever looks may have gone
}

// lastLines are the last lines of a log.
func lastLines(name string) string {
	data, err := os.ReadFile(name)
	if err != nil {
		return "nothing yet"
	}
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	return strings.Join(lines[max(len(lines)-12, 0):], "\n")
}

// press starts or stops a server.
func (l *Landlord) press(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	s := l.lets[r.PathValue("server")]
	l.mu.Unlock()
	if s == nil {
		http.NotFound(w, r)
		return
	}
	switch r.PathValue("what") {
	case "start":
		if err := s.start(); err != nil {
			http.Error(w, "It was not started: "+err.Error(), http.StatusConflict)
			return
		}
	case "stop":
		s.stop()
	default:
		http.NotFound(w, r)
		return
	}
	http.Redirect(w, r, "../", http.StatusSeeOther)
}
