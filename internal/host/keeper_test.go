package host_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"initium/internal/host"
)

// TestMain lets the test binary be the keeper and the server too.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "keeper" {
		if err := host.Keep(host.StartDir(os.Args[2])); err != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	if len(os.Args) > 1 && os.Args[1] == "server" {
		serve()
	}
	os.Exit(m.Run())
}

// serve says what it hears until it is told to go.
func serve() {
	fmt.Println("up in", os.Getenv("PLACE"))
	scan := bufio.NewScanner(os.Stdin)
	for scan.Scan() {
		switch line := scan.Text(); line {
		case "go":
			os.Exit(0)
		case "crash":
			os.Exit(7)
		default:
			fmt.Println("heard", line)
		}
	}
	os.Exit(1)
}

// launch starts the server under a keeper; its log is read with log.
func launch(t *testing.T, change func(*host.Spec)) (dir host.StartDir, home host.Home, log func(want string) string) {
	t.Helper()
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	exe, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	home = host.Home{Dir: t.TempDir()}
	spec := host.Spec{Server: "s", Command: []string{exe, "server"}, Dir: t.TempDir(), Env: []string{"PLACE=harbour"}, Console: "go", Patience: 5 * time.Second}
	if change != nil {
		change(&spec)
	}
	dir, _, err = home.Launch(exe, spec)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if home.IsRunning("s") {
			dir.Stop(context.Background())
		}
	})
	f := dir.Follow()
	t.Cleanup(f.Close)
	var got strings.Builder
	return dir, home, func(want string) string {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
			if err := f.Next(func(chunk []byte, at time.Duration) {
				if at < 0 || at > time.Minute {
					t.Errorf("a piece arrived after %s", at)
				}
				got.Write(chunk)
			}); err != nil {
				t.Fatal(err)
			}
			if strings.Contains(got.String(), want) {
				return got.String()
			}
		}
		t.Fatalf("the log never says %q: %q", want, got.String())
		return ""
	}
}

func TestKeeper(t *testing.T) {
	dir, home, log := launch(t, nil)
	log("up in harbour\n")
	if !home.IsRunning("s") {
		t.Error("the server is not seen to run")
	}
	exe, _ := os.Executable()
	if _, _, err := home.Launch(exe, host.Spec{Server: "s", Command: []string{exe, "server"}}); !errors.Is(err, host.ErrRunning) {
		t.Errorf("a second start gives %v", err)
	}
	if err := dir.Say("one\ntwo"); err != nil {
		t.Fatal(err)
	}
	log("heard one two\n")
	exit, err := dir.Stop(context.Background())
	if err != nil || exit.How != host.EndedStop || exit.Status != 0 {
		t.Errorf("stopping gives %+v, %v", exit, err)
	}
	if home.IsRunning("s") {
		t.Error("the server is still seen to run")
	}
	if again, err := dir.Stop(context.Background()); err != nil || again != exit {
		t.Errorf("stopping again gives %+v, %v", again, err)
	}
}

func TestKeeperSeesACrash(t *testing.T) {
	dir, _, log := launch(t, nil)
	log("up")
	if err := dir.Say("crash"); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if exit, ok := dir.Exit(); ok {
			if exit.Status != 7 || exit.How != host.EndedItself {
				t.Errorf("exit is %+v", exit)
			}
			return
		}
		if time.Now().After(end) {
			t.Fatal("the crash is not noticed")
		}
	}
}

func TestKeeperInsists(t *testing.T) {
	dir, _, log := launch(t, func(s *host.Spec) { s.Console, s.Patience = "please", 100*time.Millisecond })
	log("up")
	exit, err := dir.Stop(context.Background())
	if err != nil || exit.How != host.EndedKill || exit.Status != -1 {
		t.Errorf("stopping gives %+v, %v", exit, err)
	}
}

func TestKeeperCannotStart(t *testing.T) {
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	exe, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	home := host.Home{Dir: t.TempDir()}
	_, _, err = home.Launch(exe, host.Spec{Server: "s", Command: []string{"/nowhere/at/all"}, Dir: t.TempDir()})
	if err == nil || !strings.Contains(err.Error(), "no such file") {
		t.Errorf("error is %v", err)
	}
	if home.IsRunning("s") {
		t.Error("what could not be started is seen to run")
	}
}
