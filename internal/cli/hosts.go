package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"initium/internal/core/intake"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/remote"
)

func (e *env) host() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "host",
		Short: "Other machines on which servers stand, reached by file transfer",
		Args:  args(cobra.NoArgs),
		RunE:  func(cmd *cobra.Command, args []string) error { return cmd.Help() },
	}
	cmd.AddCommand(e.hostAdd(), e.hostList(), e.hostTest(), e.hostPrepare(), e.hostDrop())
	return cmd
}

func (e *env) hostAdd() *cobra.Command {
	r := host.HostRecord{}
	var anew bool
	cmd := &cobra.Command{
		Use:   "add NAME URL",
		Short: "Say where a host is: sftp://user@host:port/path, or ftp, ftps or ftpes",
		Long: "ftps is TLS from the first byte, ftpes after the greeting, ftp none at all: what goes over that line, the password too, can be read on the way.\n" +
			"The fingerprint of the host is shown, and is held to from then on. No password is kept: a key, the agent or a file of yours that only you can read\n" +
			"lets you in, or you are asked, once for each run.",
		Example: "  initium host add rented sftp://me@games.example.net:2022\n  initium adopt rented:servers/live",
		Args:    args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Name, r.URL = args[0], args[1]
			added, err := e.app.AddHost(cmd.Context(), r, anew, e.sure)
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "added %s: %s\n", added.Name, added.URL)
			if strings.HasPrefix(added.URL, string(remote.FTP)+":") {
				fmt.Fprintln(e.out, "nothing on this line is secret: whoever is on the way reads files and password; use sftp or ftpes where the host has it")
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&r.Pin, "fingerprint", "", "the fingerprint of its key or certificate, as whoever runs it says it (SHA256:…); asked for when left out")
	cmd.Flags().StringVar(&r.Identity, "identity", "", "a file with the private key that lets you in")
	cmd.Flags().StringVar(&r.PasswordFile, "password-file", "", "a file with the password in its first line, that only you can read")
	cmd.Flags().StringVar(&r.Notes, "notes", "", "what its panel calls things, in your words")
	cmd.Flags().BoolVar(&anew, "anew", false, "for a host that is added already: it is elsewhere, or shows another fingerprint, and rightly so")
	return cmd
}

// sure asks whether a fingerprint is the right one, where somebody can be asked.
func (e *env) sure(fingerprint string) bool {
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer tty.Close()
	fmt.Fprintf(tty, "it shows the fingerprint %s\nis that the one that whoever runs it has told you? (yes or no) ", fingerprint)
	said, err := bufio.NewReader(tty).ReadString('\n')
	return err == nil && strings.TrimSpace(said) == "yes"
}

// asking asks for passwords on the terminal, without showing them, each once.
type asking struct {
	mu    sync.Mutex
	known map[string]string
	quiet bool // the screen has the terminal: only what was said before is known
}

// Password asks.
func (a *asking) Password(what string) (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if said, ok := a.known[what]; ok {
		return said, nil
	}
	if a.quiet {
		return "", errors.New("the screen does not ask for " + what + "; give the host a key without one, the agent, or a --password-file")
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return "", errors.New("nobody can be asked for " + what + "; give the host a key, or a --password-file")
	}
	defer tty.Close()
	fmt.Fprintf(tty, "%s: ", text.Clean(what))
	said, err := term.ReadPassword(int(tty.Fd()))
	fmt.Fprintln(tty)
	if err != nil {
		return "", err
	}
	if a.known == nil {
		a.known = map[string]string{}
	}
	a.known[what] = string(said)
	return string(said), nil
}

// hush keeps passwords from being asked for while the screen has the terminal.
func (a *asking) hush() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.quiet = true
}

func (e *env) hostList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the hosts, and which servers stand there",
		Args:  args(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			list, err := e.app.Hosts()
			if err != nil {
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(e.out, "no host is added; begin with: initium host add NAME sftp://user@host")
				return nil
			}
			return e.table(func(w io.Writer) {
				fmt.Fprintln(w, "HOST\tURL\tFINGERPRINT\tSERVERS\tNOTES")
				for _, h := range list {
					fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", h.Name, text.Clean(h.URL), text.Clean(h.Pin), strings.Join(h.Servers, ", "), text.Clean(h.Notes))
				}
			})
		},
	}
}

func (e *env) hostTest() *cobra.Command {
	return &cobra.Command{
		Use:   "test NAME [FOLDER]",
		Short: "Find out what a host can do, with a file that is written there and taken away",
		Args:  args(cobra.RangeArgs(1, 2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := ""
			if len(args) > 1 {
				folder = args[1]
			}
			t, err := e.app.TestHost(cmd.Context(), args[0], folder)
			if err != nil {
				return err
			}
			for _, said := range t {
				fmt.Fprintln(e.out, said)
			}
			return nil
		},
	}
}

func (e *env) hostPrepare() *cobra.Command {
	var program string
	cmd := &cobra.Command{
		Use:   "prepare NAME",
		Short: "Put Initium at a machine of your own that is reached by SSH: initium at NAME then runs it there",
		Long: "This program's own bytes are sent, looked at and tried there before they take their place in ~/.local/share/initium/bin. Servers are adopted there then,\n" +
			"and started there under a keeper of that machine's: what becomes of the line is nothing to them. Once more, it brings a newer one.",
		Example: "  initium host add box ssh://me@box.example.net\n  initium host prepare box\n  initium at box adopt /srv/moor\n  initium at box",
		Args:    args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			show, end := e.copying()
			at, says, err := e.app.PrepareHost(cmd.Context(), args[0], program, show)
			end()
			if err == nil {
				fmt.Fprintf(e.out, "%s: %s is %s\n", args[0], text.Clean(at), says)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&program, "program", "", "an Initium that was built for that machine, where it is of another kind than this one")
	return cmd
}

func (e *env) hostDrop() *cobra.Command {
	return &cobra.Command{
		Use:   "drop NAME",
		Short: "Forget a host at which no server stands any more",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := e.app.DropHost(args[0]); err != nil {
				return err
			}
			fmt.Fprintf(e.out, "dropped %s\n", args[0])
			return nil
		},
	}
}

func (e *env) sync() *cobra.Command {
	return &cobra.Command{
		Use:   "sync SERVER",
		Short: "Send what has not arrived at a server's host, and look there anew",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			show, end := e.copying()
			s, err := e.app.Sync(cmd.Context(), args[0], show)
			end()
			if err != nil {
				return err
			}
			for _, said := range s.Sent {
				fmt.Fprintf(e.out, "sent: %s\n", said)
			}
			p := s.Pulled
			fmt.Fprintf(e.out, "%s there, %d of them new or changed (%s), %d gone\n", count(p.Files, "file", "files"), p.Came, intake.Bytes(p.Bytes), p.Went)
			for _, passed := range p.Passed {
				fmt.Fprintf(e.out, "passed over: %s\n", passed)
			}
			return nil
		},
	}
}
