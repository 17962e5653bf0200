package text_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

// said writes down what a start command was read as: its words in brackets, with a
// variable as its name and where in the word it stands, ~ for what only the running script
// knows; then its variables, and the places of what is not understood.
func said(l *text.Launch) string {
	var lines []string
	for _, c := range l.Commands {
		var b strings.Builder
		for i, w := range c.Words {
			fmt.Fprintf(&b, "[%s", w.Value)
			if u := c.Uses[i]; u != (text.Use{}) {
				if u.Name != "" {
					fmt.Fprintf(&b, " $%s@%d", u.Name, u.At)
				}
				if u.Mixed {
					b.WriteString(" ~")
				}
				if u.Cut {
					b.WriteString(" /")
				}
			}
			b.WriteString("]")
		}
		lines = append(lines, b.String())
	}
	var names []string
	for name, p := range l.Variables {
		names = append(names, name+"="+p.Value)
	}
	slices.Sort(names)
	lines = append(lines, names...)
	for _, f := range l.Faults {
		lines = append(lines, fmt.Sprintf("!%d:%d", f.Line, f.Column))
	}
	return strings.Join(lines, " ; ")
}

func TestLaunchIsRead(t *testing.T) {
	languages := map[string]func([]byte) *text.Launch{
		"shell": text.ReadPOSIX, "batch": text.ReadBatch, "unit": text.ReadUnit, "env": text.ReadEnv, "words": text.ReadWords,
		"compose": func(doc []byte) *text.Launch { return text.ReadCompose(doc, "run.command") },
	}
	for _, test := range []struct{ language, doc, want string }{
		{"shell", "run $A", "[run][ $A@0]"},
		{"shell", "run x$A", "[run][x $A@1]"},
		{"shell", "run $A$B", "[run][ $A@0 ~]"},
		{"shell", "run $A.x", "[run][.x $A@0 ~]"},
		{"shell", "run \"$A\"", "[run][ $A@0]"},
		{"shell", "run \"x $A\"", "[run][x  $A@2]"},
		{"shell", "run ${A}", "[run][ $A@0]"},
		{"shell", "run ${A:-b}", "[run][ ~]"},
		{"shell", "run ${#A}", "[run][ ~]"},
		{"shell", "run ${!A}", "[run][ ~]"},
		{"shell", "run ${A[1]}", "[run][ ~]"},
		{"shell", "run ${A:1:2}", "[run][ ~]"},
		{"shell", "run ${A/x/y}", "[run][ ~]"},
		{"shell", "run $(date)", "[run][ ~] ; [date]"},
		{"shell", "run $'a\\tb'", "[run][ ~]"},
		{"shell", "run $'a'b c", "[run][b ~][c]"},
		{"shell", "A=b run x", "[run][x] ; A=b"},
		{"shell", "A=b\nA+=c\nexport B=d C=\"$A\"\nreadonly D='e'\nexport E", "B=d ; D=e"},
		{"shell", "A[1]=b\nA=(x y)\nexport F=(x)", ""},
		{"shell", "A=$(x)\nA=$B\nrun", "[x] ; [run]"},
		{"shell", "run a\\\n  b", "[run][a][b]"},
		{"shell", "run \"a\\\nb\"", "[run][ab]"},
		{"shell", "run \"a\\xb\\$c\\`d\\\\e\\\"f\"", "[run][a\\xb$c`d\\e\"f]"},
		{"shell", "run 2>x", "[run]"},
		{"shell", "A=`B=c other 'd'` run `x` e; export F=`G=h; export I=j`", "[run][ ~][e]"},
		{"shell", "run a >x 2>&1 &", "[run][a]"},
		{"shell", "if true; then run a; fi; other b", "[true] ; [run][a] ; [other][b]"},
		{"shell", "run 'x", "!1:5"},
		{"shell", "run )", "!1:5"},
		{"shell", "run a\\", "[run][a\\]"},
		{"shell", "run \"a\\qb\"", "[run][a\\qb]"},
		{"shell", "A=b\nA=$(x)\nB=c\nB=$B:d\nC=d\nexport C=$X\nD=e\nD+=f\nE=f\nE[1]=g\nF=h\nF=(x)", "[x] ; E=f"},
		{"batch", "set A=b\r\nset A=%A%;c\r\nset B=c\r\nset B=d\r\n", "B=d"},
		{"env", "A=b\n=j\nexport =k\nwhat\nB =", "A=b ; B= ; export=k ; !2:1 ; !4:1"},
		{"batch", "\r\n@run a\r\n@@x\r\n", "[run][a] ; [@x]"},
		{"batch", "@\r\nrun", "[run]"},
		{"batch", "REM x\r\n:: y\r\n:label\r\nrem\r\nremark z\r\nrem\tq", "[remark][z]"},
		{"batch", "set A=\r\nset \"\r\n", "A="},
		{"batch", "set A=b;c\r\nset B=\"b c\"\r\nset \"C=b c\"\r\nrun %A% \"%A%\" %B% \"x%B%\" %C% \"%C%\"", "[run][ $A@0][ $A@0][ $B@0][x $B@1 /][ $C@0 /][ $C@0] ; A=b;c ; B=b c ; C=b c"},
		{"batch", "set A=\"b\"\r\nset B=b^&c\r\nrun \"%A%\" %B% \"%B%\"", "[run][ $A@0][ $B@0 /][ $B@0] ; A=b ; B=b&c"},
		{"batch", "run ^\r\n  a ^\r\n  b", "[run][a][b]"},
		{"batch", "run a^^\r\nnext b", "[run][a^] ; [next][b]"},
		{"batch", "run a^", "[run][a]"},
		{"batch", "run ^", "[run][]"},
		{"batch", "run \"a^\r\nrun ^\"b^\r\nc \"d\" ^^\"e ^\r\nf", "[run][a^] ; [run][\"b][c][d][^e ^] ; [f]"},
		{"batch", "run ^a \"b^c\" d^ e", "[run][a][b^c][d e]"},
		{"batch", "run \"a\"b \"c d\"e", "[run][ab][c de]"},
		{"batch", "run \"\"", "[run][]"},
		{"batch", "a & b && c | d", "[a] ; [b] ; [c] ; [d]"},
		{"batch", "a&b", "[a] ; [b]"},
		{"batch", "run \"a & b\"", "[run][a & b]"},
		{"batch", "run a^&b", "[run][a&b]"},
		{"batch", "run 100%%\r\n", "[run][100%]"},
		{"batch", "run %A% x%A% %A%x %A%%B% %A", "[run][ $A@0][x $A@1][x $A@0 ~][%B% $A@0 ~][%A ~]"},
		{"batch", "run \"%A%\"", "[run][ $A@0]"},
		{"batch", "run %%", "[run][%]"},
		{"batch", "run % x%", "[run][% ~][x% ~]"},
		{"batch", "set \"G=h\r\nset H=\"\r\nset \"I=\"\r\n", "G=h ; H= ; I="},
		{"batch", "^\r\nrun ^\r\n^\r\n a", "[run][a]"},
		{"batch", "run \"a\"\"b\" |c", "[run][ab] ; [c]"},
		{"batch", "@ run", "[run]"},
		{"batch", "set  J = k \r\nSET/A L=1\r\nset\r\nset\tM=n\r\nsetting x", "[setting][x] ; J= k ; M=n"},
		{"batch", "set A=1\r\nset B=2\r\nset C=3\r\nset D=4\r\nset /p A=Which? \r\nset /a \"B+=1, C = D\"\r\nset /", "D=4"},
		{"unit", "[Service]\nExecStart=/a \\\n  # no, \\\n  b\n  \\\n", "[/a][b] ; !5:3"},
		{"unit", "[Service]\nExecStart=/a @ $[ $` ${{ ${z} ${z", "[/a][@][$[ ~][$` ~][${{ ~][ $z@0][${z ~]"},
		{"words", "\\", "[\\]"},
		{"words", "a\\\nb", "[a\\][b]"},
		{"shell", "run \"a\\\\$b\" 'c'\"d\"$e", "[run][a\\ $b@2][cd $e@2]"},
		{"compose", "run:\n  command:\n    - $A\n    - b$c\n", "[$A ~][b$c ~]"},
		{"batch", "run %", "[run][% ~]"},
		{"batch", "set \"A=b\r\nset B=\"c\r\n", "A=b ; B=c"},
		{"batch", "run a^ b\r\nrun \"a\" ^& b^|c", "[run][a b] ; [run][a][&][b|c]"},
		{"shell", "run \"a\\\r\nb\"", "[run][ab]"},
		{"batch", "run a^\r\nb", "[run][a][b]"},
		{"unit", "[Service]\nExecStart=/a b\nExecStart=\nExecStart=/c", "[/c]"},
		{"unit", "[Unit]\nExecStart=/a\n[ Service ]\nExecStart = /b c", "[/b][c]"},
		{"unit", "# x\n; y\n\n[Service]\nExecStart=/a \\\n  b \\\n# c\n; d\n\n  e", "[/a][b] ; !10:3"},
		{"unit", "[Service]\nExecStart=/a \\\n# c\n  e", "[/a][e]"},
		{"unit", "[Service]\nExecStart=/a \\", "[/a][\\]"},
		{"unit", "[Service]\nExecStart=/a \\\n\\\n b", "[/a][b]"},
		{"unit", "[Service]\nwhat\nExecStart=/a", "[/a] ; !2:1"},
		{"unit", "[Service]\nExecStart=/a $A ${B} $A$B x${C} ${C}x $ $1 ${ $$ ${x", "[/a][ $A@0][ $B@0][$B $A@0 ~][x $C@1][x $C@0 ~][$ ~][$1 ~][${ ~][$][${x ~]"},
		{"unit", "[Service]\nExecStart=/a %h %% 5%", "[/a][%h ~][%][5% ~]"},
		{"unit", "[Service]\nExecStart=/a \"b c\" 'd \"e' f\"g h\"i", "[/a][b c][d \"e][fg hi]"},
		{"unit", "[Service]\nExecStart=/a \"b", "!2:14"},
		{"unit", "[Service]\nExecStart=/a \\x41\\u00e9\\U0001F600\\n\\s\\q\\x4 \\\"x\\'", "[/a][Aé😀\n \\q\\x4][\"x']"},
		{"unit", "[Service]\nEnvironment=A=b \"C=d e\" F G=$A H=%h\nEnvironment=\"I=j\\x41\"\nExecStart=/a $A_Z9z $9 $é", "[/a][ $A_Z9z@0][$9 ~][$é ~] ; A=b ; C=d e ; I=jA"},
		{"unit", "[Service]\nExecStart=/a $A1 $_b $Z $z ${Az}", "[/a][ $A1@0][ $_b@0][ $Z@0][ $z@0][ $Az@0]"},
		{"unit", "[Service]\nExecStart=/a x$", "[/a][x$ ~]"},
		{"unit", "[Service]\n[\nExecStart=/a", ""},
		{"env", "A=\"b\" c\nB=c\"d\"", "A=\"b\" c ; B=c\"d\""},
		{"words", "a b\tc\nd\r\ne", "[a][b][c][d][e]"},
		{"words", " ", ""},
		{"words", "\"a b\"c'd e'f", "[a bcd ef]"},
		{"words", "a\\ b a\\xb \\\"x\\\" \\' \\\\ \\", "[a b][a\\xb][\"x\"]['][\\][\\]"},
		{"words", "\"a\\\"b\" \"a\\\\\" \"a\\x\"", "[a\"b][a\\][a\\x]"},
		{"words", "'a\\' b", "[a\\][b]"},
		{"words", "\"a", "!1:1"},
		{"words", "'a", "!1:1"},
		{"words", "a \"b c", "!1:3"},
		{"words", "\"\"", "[]"},
		{"compose", "run:\n  command: ./a -x \"b c\" $D\n", "[./a][-x][b c][$D ~]"},
		{"compose", "run:\n  command: [./a, \"-x\", 5, b c]\n", "[./a][-x][5][b c]"},
		{"compose", "run:\n  command:\n    - ./a\n    - \"$X\"\n    - 1.50\n", "[./a][$X ~][1.50]"},
		{"compose", "run:\n  other: x\n", "!3:1"},
		{"compose", "run:\n  command: {a: b}\n", "!2:12"},
		{"compose", "run:\n  command: \"a 'b\"\n", "!2:12"},
		{"compose", "run: [\n", "!1:1"},
	} {
		got := said(languages[test.language]([]byte(test.doc)))
		insist.Same(t, fmt.Sprintf("%s %q is read as", test.language, test.doc), got, test.want)
	}
}

// What is to be typed into a shell is one word there, and means what it says.
func TestShellWord(t *testing.T) {
	for s, want := range map[string]string{"/srv/log-1.txt": "/srv/log-1.txt", "a b": "'a b'", "it's": `'it'\''s'`, "": "''", "$x": "'$x'", "50%": "50%", "é": "'é'", "a;b": "'a;b'"} {
		insist.Same(t, fmt.Sprintf("%q", s), text.ShellWord(s), want)
		if got := meaning(readers["shell"]([]byte("run " + text.ShellWord(s)))); s != "" && !strings.HasSuffix(got, s) {
			t.Errorf("%q means %q", s, got)
		}
	}
}
