package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"initium/internal/insist"
)

// realServer is a family of servers that any Debian has: how a folder of one is laid out, and which
// mods there are for it.
type realServer struct {
	dialect string
	needs   []string
	names   []string // mods that are there
	first   string   // one that always loads, first, as it is what speaks of the others; "" for none
	start   string   // the command that starts it
	conf    string   // the file that registers the mods
	write   func(port string, list []entry) string
	prepare func(t *testing.T, dir string) // what else is in the folder; may be nil
	port    bool                           // it is said when the server is adopted
	owner   string                         // the user who has to run it, where root may not
	called  string                         // what stands before the names, where the dialect leaves that out
}

// entry is a line that registers a mod.
type entry struct {
	name string
	off  bool
}

// lines writes each entry, those that are off as comments.
func lines(list []entry, comment, form string) string {
	var b strings.Builder
	for _, e := range list {
		if e.off {
			b.WriteString(comment)
		}
		b.WriteString(strings.ReplaceAll(form, "NAME", e.name) + "\n")
	}
	return b.String()
}

var builtModules struct {
	once sync.Once
	err  error
	of   map[string][]byte
}

// redisModules are modules for Redis that do nothing but say their name, built once.
func redisModules(t *testing.T, dir string) {
	t.Helper()
	b := &builtModules
	b.once.Do(func() {
		work, err := os.MkdirTemp("", "modules-")
		if b.err = err; err != nil {
			return
		}
		defer os.RemoveAll(work)
		const source = `int RedisModule_OnLoad(void *ctx, void **argv, int argc) {
  int (*get)(const char *, void *) = ((void **)ctx)[0];
  void (*attribs)(void *, const char *, int, int);
  (void)argv; (void)argc;
  if (get("RedisModule_SetModuleAttribs", &attribs)) return 1;
  attribs(ctx, NAME, 1, 1);
  return 0;
}
`
		b.of = map[string][]byte{}
		if b.err = os.WriteFile(filepath.Join(work, "m.c"), []byte(source), 0o644); b.err != nil {
			return
		}
		for _, name := range redisNames {
			out, err := exec.Command("gcc", "-shared", "-fPIC", "-DNAME=\""+name+"\"", "-o", filepath.Join(work, name), filepath.Join(work, "m.c")).CombinedOutput()
			if err != nil {
				b.err = fmt.Errorf("build a module: %w\n%s", err, out)
				return
			}
			if b.of[name], b.err = os.ReadFile(filepath.Join(work, name)); b.err != nil {
				return
			}
		}
	})
	insist.OK(t, b.err)
	for name, data := range b.of {
		put(t, filepath.Join(dir, "modules", name+".so"), string(data))
		insist.OK(t, os.Chmod(filepath.Join(dir, "modules", name+".so"), 0o755)) // or it is refused
	}
}

var redisNames = []string{"tide", "lamp", "rope", "gull", "kelp", "wharf"}

const nginxModules = "/usr/lib/nginx/modules"

// theRealServers are those that the tests run besides minetest and bzflag.
func theRealServers() []realServer {
	return []realServer{
		{dialect: "redis", needs: []string{"redis-server", "gcc"}, names: redisNames, start: "redis-server {dir}/redis.conf", conf: "redis.conf", prepare: redisModules,
			write: func(port string, list []entry) string {
				return "# a store\nbind 127.0.0.1\nport " + port + "\nsave \"\"\n" + lines(list, "# ", "loadmodule ./modules/NAME.so") + "maxmemory 32mb\n"
			}},
		{dialect: "nginx", needs: []string{"nginx"}, names: []string{"ngx_http_echo_module", "ngx_stream_module", "ngx_mail_module", "ngx_http_geoip_module", "ngx_http_headers_more_filter_module"},
			start: "nginx -p {dir} -c {dir}/nginx.conf -e stderr", conf: "nginx.conf", port: true,
			prepare: func(t *testing.T, dir string) { insist.OK(t, os.MkdirAll(filepath.Join(dir, "logs"), 0o755)) },
			write: func(port string, list []entry) string {
				return lines(list, "#", "load_module "+nginxModules+"/NAME.so;") + "pid nginx.pid;\nerror_log stderr;\nevents { worker_connections 64; } # few\nhttp { access_log off; server { listen 127.0.0.1:" + port + "; } }\n"
			}},
		{dialect: "collectd", needs: []string{"collectd"}, names: []string{"cpu", "load", "memory", "swap", "uptime", "users", "contextswitch", "irq"}, first: "logfile",
			start: "collectd -f -C collectd.conf", conf: "collectd.conf",
			write: func(_ string, list []entry) string {
				return "FQDNLookup false\nBaseDir \"data\"\nPIDFile \"collectd.pid\"\nTypesDB \"/usr/share/collectd/types.db\"\nLoadPlugin logfile\n<Plugin logfile>\n  LogLevel info\n  File STDOUT\n</Plugin>\n" +
					lines(list, "#", "LoadPlugin NAME") + "<Plugin cpu>\n  ReportByCpu false\n</Plugin>\n"
			}},
		{dialect: "prosody", needs: []string{"prosody", "prosodyctl"}, names: []string{"roster", "saslauth", "disco", "private", "vcard4", "version", "uptime", "time", "ping", "mam"}, first: "admin_shell",
			start: "prosody -F --config {dir}/prosody.cfg.lua", conf: "prosody.cfg.lua", port: true,
			prepare: func(t *testing.T, dir string) { insist.OK(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755)) },
			write: func(port string, list []entry) string {
				return "-- a small server\npidfile = \"prosody.pid\"\ndata_path = \"data\"\nlog = { info = \"*console\"; }\nrun_as_root = true\nc2s_ports = { " + port + " }\nc2s_direct_tls_ports = {}\ns2s_ports = {}\nhttp_ports = {}\nhttps_ports = {}\ninterfaces = { \"127.0.0.1\" }\n" +
					"modules_enabled = {\n\t-- what everybody wants\n\t\t\"admin_shell\"; -- to be asked\n" + lines(list, "\t\t-- ", "\t\t\"NAME\";") + "}\nVirtualHost \"localhost\"\n"
			}},
		{dialect: "ejabberd", needs: []string{"erl", "/usr/sbin/ejabberdctl"}, names: []string{"disco", "roster", "private", "ping", "version", "time", "last", "stats", "carboncopy"}, first: "adhoc", called: "mod_", conf: "ejabberd.yml", port: true,
			start: "env EJABBERD_CONFIG_PATH={dir}/ejabberd.yml EJABBERD_LOG_PATH={dir}/ejabberd.log ERL_LIBS=/usr/lib/x86_64-linux-gnu erl -noinput -boot no_dot_erlang -mnesia dir '\"{dir}/database\"' -s ejabberd",
			write: func(port string, list []entry) string {
				return "# a small server\nhosts:\n  - localhost\nloglevel: debug\nlisten:\n  - port: " + port + "\n    ip: \"127.0.0.1\"\n    module: ejabberd_c2s\nauth_method: internal\nmodules:\n  # what everybody wants\n  mod_adhoc: {}\n" + strings.ReplaceAll("\n"+lines(list, "  # ", "mod_NAME: {}"), "\nmod_", "\n  mod_")[1:] + "language: en\n"
			}},
		{dialect: "postgresql", needs: []string{postgres}, names: []string{"auto_explain", "pg_stat_statements", "auth_delay", "passwordcheck", "pg_prewarm", "basic_archive"}, start: postgres + " -D {dir}", conf: "postgresql.conf", owner: "postgres", prepare: prepareDatabase,
			write: func(port string, list []entry) string {
				var names []string
				for _, e := range list {
					if !e.off {
						names = append(names, e.name)
					}
				}
				return "listen_addresses = '127.0.0.1'\nport = " + port + "\nunix_socket_directories = ''\nfsync = off\nshared_buffers = 1MB\nshared_preload_libraries = '" + strings.Join(names, ", ") + "'\t# what is loaded first\n"
			}},
	}
}

// learnedToo are the real servers that other tests know already.
func learnedToo() []realServer {
	return []realServer{
		{dialect: "bzflag", needs: []string{bzfs}, names: []string{"airspawn", "fastmap", "killall", "keepaway", "HoldTheFlag", "wwzones"}, start: bzfs + " -conf {dir}/bzfs.conf -ts -d -d -d", conf: "bzfs.conf",
			write: func(port string, list []entry) string {
				return "# mine\n-mp 10\n-i 127.0.0.1\n-p " + port + "\n" + lines(list, "# ", "-loadplugin NAME")
			}},
		{dialect: "minetest", needs: []string{minetestServer}, names: []string{"craftguide", "throwing", "moreores", "nether", "throwing_arrows"}, start: minetestServer + " --world {dir} --gameid minetest_game --info --color never --logfile ''", conf: "world.mt",
			write: func(_ string, list []entry) string {
				return "gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n" + lines(list, "", "load_mod_NAME = true")
			}},
	}
}

const postgres = "/usr/lib/postgresql/15/bin/postgres"

var emptyDatabase struct {
	once sync.Once
	err  error
	dir  string
}

// prepareDatabase puts an empty database into a folder.
func prepareDatabase(t *testing.T, dir string) {
	t.Helper()
	e := &emptyDatabase
	e.once.Do(func() {
		if e.dir, e.err = os.MkdirTemp("", "database-"); e.err != nil {
			return
		}
		e.err = os.Chmod(e.dir, 0o755)
		if e.err == nil {
			e.err = own(e.dir)
		}
		if e.err == nil {
			cmd := as("postgres", filepath.Join(filepath.Dir(postgres), "initdb"), "-D", filepath.Join(e.dir, "data"), "-A", "trust", "--no-sync")
			cmd.Dir = e.dir
			var out []byte
			if out, e.err = cmd.CombinedOutput(); e.err != nil {
				e.err = fmt.Errorf("%w\n%s", e.err, out)
			}
		}
	})
	insist.OK(t, e.err)
	insist.OK(t, exec.Command("cp", "-a", filepath.Join(e.dir, "data")+"/.", dir).Run())
}

// as is a command that another user runs, where this one is root.
func as(name, program string, args ...string) *exec.Cmd {
	if os.Getuid() != 0 || name == "" {
		return exec.Command(program, args...)
	}
	return exec.Command("setpriv", append([]string{"--reuid=" + name, "--regid=" + name, "--clear-groups", program}, args...)...)
}

// own gives a folder to the user who runs the database, where this one is root.
func own(dir string) error {
	if os.Getuid() != 0 {
		return nil
	}
	return exec.Command("chown", "-R", "postgres:postgres", dir).Run()
}

// operatorOf is somebody who may run a server.
func (s *realServer) operatorOf(t *testing.T) *operator {
	o := newOperator(t)
	if s.owner != "" && os.Getuid() == 0 {
		if _, err := user.Lookup(s.owner); err != nil {
			t.Skipf("there is no user %s", s.owner)
		}
		o.as = s.owner
		o.env = append(o.env, "TMPDIR="+filepath.Dir(o.home)) // that of the tests is another's
		insist.OK(t, os.Chmod(filepath.Dir(filepath.Dir(o.home)), 0o755))
		insist.OK(t, own(filepath.Dir(o.home)))
	}
	return o
}

// lay lays a server out with some mods.
func (s *realServer) lay(t *testing.T, dir, port string, list []entry) {
	t.Helper()
	insist.OK(t, os.MkdirAll(dir, 0o700))
	if s.prepare != nil {
		s.prepare(t, dir)
	}
	put(t, filepath.Join(dir, s.conf), s.write(port, list))
	if s.owner != "" {
		insist.OK(t, own(dir))
	}
}

// adoption are the words with which it is adopted.
func (s *realServer) adoption(port string) []string {
	words := []string{"--dialect", s.dialect}
	if s.port {
		words = append(words, "--set", "port="+port)
	}
	return words
}

// realTrial makes random line-ups of a real server.
type realTrial struct{ s realServer }

func (r realTrial) lay(t *testing.T, rnd *rand.Rand, dir string) []string {
	port := freePort(t)
	r.s.lay(t, dir, port, r.s.random(rnd))
	return append([]string{r.s.dialect}, r.s.adoption(port)[2:]...)
}

// random are some of the mods in some order, perhaps with one that is nowhere, and one twice.
func (s *realServer) random(r *rand.Rand) (list []entry) {
	names := some(r, s.names, 1+r.IntN(len(s.names)))
	if r.IntN(4) == 0 {
		names = append(names, fmt.Sprintf("ngx_no_such_%d", r.IntN(9)))
	}
	if r.IntN(6) == 0 && s.dialect != "postgresql" { // which takes no note of it
		names = append(names, names[0])
	}
	for _, name := range some(r, names, len(names)) {
		list = append(list, entry{name, r.IntN(5) == 0})
	}
	return list
}

// all are all mods of a server, in order.
func (s *realServer) all() (list []entry) {
	for i, name := range s.names {
		list = append(list, entry{name, i == 1})
	}
	return list
}

// TestLearnRealServers learns real servers from their folders and the name of a mod, with nothing
// written by hand, and holds them to what they then do.
func TestLearnRealServers(t *testing.T) {
	for _, s := range append(theRealServers(), learnedToo()...) {
		t.Run(s.dialect, func(t *testing.T) {
			needs(t, s.needs...)
			t.Parallel()
			o := s.operatorOf(t)
			dir := filepath.Join(filepath.Dir(o.home), "learned")
			s.lay(t, dir, freePort(t), s.all())
			var l learnedJSON
			o.json(0, &l, "learn", dir, s.called+s.names[0], "--try", "--json", "--trials", trialCount(), "--seed", trialSeed(), "--start", s.start)
			t.Logf("%d starts, %d of %d line-ups as foretold, %d of %d mods, of %d nothing is told: %s", l.Starts+l.Trial.Lineups, l.Trial.Exact, l.Trial.Lineups, l.Trial.Right, l.Trial.Shown, l.Trial.Mods-l.Trial.Shown, l.Ways[0])
			if 10*l.Trial.Exact < 9*l.Trial.Lineups || l.Trial.Lineups == 0 || len(l.Problems) > 0 {
				t.Errorf("%d of %d line-ups were as foretold:\n%s\n%s\nstill missing: %s\n%s", l.Trial.Exact, l.Trial.Lineups, strings.Join(l.Trial.Differed, "\n"), strings.Join(l.Unsaid, "\n"), strings.Join(l.Problems, "\n"), contents(t, filepath.Join(o.home, "dialects/learned.toml")))
			}
			unsaid := map[string]string{"prosody": "nothing tells that these load", "collectd": "without logfile the server says nothing"}[s.dialect]
			if got := strings.Join(l.Unsaid, "\n"); !strings.Contains(got, unsaid) || unsaid == "" && got != "" {
				t.Errorf("not found out: %q", l.Unsaid)
			}
		})
	}
}

// TestChangesOnRealServers makes random changes in the startup files of real servers, after which each
// still starts as it was foretold, and everything comes back to the byte. INITIUM_RUNS asks for another
// number of changes.
func TestChangesOnRealServers(t *testing.T) {
	count := 24
	if n := os.Getenv("INITIUM_RUNS"); n != "" {
		fmt.Sscan(n, &count)
	}
	for _, s := range theRealServers() {
		t.Run(s.dialect, func(t *testing.T) {
			needs(t, s.needs...)
			t.Parallel()
			o := s.operatorOf(t)
			r := rand.New(rand.NewPCG(7, uint64(len(s.names))))
			dir := filepath.Join(filepath.Dir(o.home), "changed")
			port := freePort(t)
			s.lay(t, dir, port, s.all())
			file := filepath.Join(dir, s.conf)
			before := contents(t, file)
			o.do(0, append([]string{"adopt", dir, "--as", "c"}, s.adoption(port)...)...)
			made := 0 // that were not refused
			for i := range count {
				mod, other := s.names[r.IntN(len(s.names))], s.names[r.IntN(len(s.names))]
				change := [][]string{{"off", "c", mod}, {"on", "c", mod}, {"unregister", "c", mod}, {"register", "c", mod}, {"move", "c", mod, "--before", other}, {"register", "c", mod, "--before", other}}[r.IntN(6)]
				if got := o.try(change...); got.status == 0 { // what is refused changes nothing
					made++
				}
				if i%8 == 7 || i == count-1 {
					var told forecastJSON
					decode(t, o.try("check", "c", "--json").out, &told)
					p := &proofJSON{}
					decode(t, o.try("prove", "c", "--json").out, p)
					if p.Verdict != "proved" {
						t.Fatalf("after %d changes the start is %s: %s\n%s\n%s", made, p.Verdict, p.Reason, p.outcomes(), contents(t, file))
					}
					for _, f := range told.Forecast {
						if m := p.mod(f.Mod); observed(m.Outcome) != f.Outcome {
							t.Errorf("after %d changes %s was foretold as %s and is %s", made, f.Mod, f.Outcome, m.Outcome)
						}
					}
				}
			}
			if made < count/4 {
				t.Errorf("only %d of %d changes were made", made, count)
			}
			o.do(0, "undo", "c", "0")
			insist.Same(t, "back at the beginning the file", contents(t, file), before)
		})
	}
}

// The probes and rules of the shipped dialects in full: what is told of a module that is not there, and
// what shows those that are.
func TestRealServersSayWhatIsWrong(t *testing.T) {
	for _, s := range theRealServers() {
		t.Run(s.dialect, func(t *testing.T) {
			needs(t, s.needs...)
			t.Parallel()
			o := s.operatorOf(t)
			dir := filepath.Join(filepath.Dir(o.home), "wrong")
			port := freePort(t)
			s.lay(t, dir, port, []entry{{s.names[0], false}, {"no_such_thing", false}})
			o.do(0, append([]string{"adopt", dir, "--as", "w"}, s.adoption(port)...)...)
			p := &proofJSON{}
			o.json(1, p, "prove", "w", "--json")
			if m := p.mod("no_such_thing"); m.Outcome != "failed" || m.Reason == "" || len(m.Evidence) == 0 {
				t.Errorf("of the one that is nowhere the start shows %+v (%s)", m, p.Reason)
			}
			o.do(0, "off", "w", "no_such_thing")
			p = &proofJSON{}
			o.json(0, p, "prove", "w", "--json")
			if m := p.mod(s.names[0]); m.Outcome != "confirmed" || !slices.Contains([]string{"log", "memory", "command"}, m.Evidence[0].Source) {
				t.Errorf("of %s it shows %+v", s.names[0], m)
			}
			if !p.Ready {
				t.Error("it is not ready")
			}
		})
	}
}
