package check_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

// TestNearNames compares what is said of registered mods that are not there with a plain
// search through all mods, name by name.
func TestNearNames(t *testing.T) {
	ending := regexp.MustCompile(`^[-_. ]?(?i:main|master|dev|develop|trunk|release|latest|stable|v?\d+([._-]\d+)*([-_.]?(alpha|beta|rc)\d*)?)$`)
	plain := func(s string) string {
		return strings.NewReplacer("-", "", "_", "", " ", "", ".", "").Replace(strings.ToLower(s))
	}
	near := func(a, b string) bool { // by trying all slips of the hand
		if a == b || len(a) > len(b)+1 || len(b) > len(a)+1 {
			return a == b
		}
		for i := range len(a) + 1 {
			for j := range len(b) + 1 {
				if i < len(a) && (a[:i]+a[i+1:] == b || j < len(b) && a[:i]+a[i+1:] == b[:j]+b[j+1:] && i == j) || j < len(b) && a == b[:j]+b[j+1:] {
					return true
				}
			}
			if i+1 < len(a) && a[:i]+a[i+1:i+2]+a[i:i+1]+a[i+2:] == b {
				return true
			}
		}
		return false
	}
	r := rand.New(rand.NewPCG(3, 9))
	letters := []string{"a", "b", "B", "c", "-", "é", "K", "\u212a"}
	name := func() string {
		var b strings.Builder
		for range 2 + r.IntN(3) {
			b.WriteString(letters[r.IntN(len(letters))])
		}
		return strings.Trim(b.String(), "-") + []string{"", "", "", "-main", "1.2", "_v3"}[r.IntN(6)]
	}
	hits := map[string]int{}
	for range 150 {
		w := world{"start.conf": ""}
		var start strings.Builder
		for range 12 {
			fmt.Fprintf(&start, "use %s\n", name())
			w["mods/"+name()+"/main"] = ""
		}
		w["start"] = start.String()
		s := survey.Take(w.input(t, pier))
		said := map[string]string{}
		for _, f := range check.Run(s, check.Surroundings{}).Findings {
			if strings.HasPrefix(string(f.Code), "mod-") && said[f.Mod] == "" {
				said[f.Mod] = string(f.Code) + ": " + f.Message
			}
		}
		for i := range s.Mods {
			m := &s.Mods[i]
			if m.Path != "" {
				continue
			}
			want := "mod-missing: " + m.Name + " is registered and not there: no folder"
			slips := 0
			for _, o := range s.Mods {
				if o.Path != "" && o.Name != m.Name && !o.Base && len(m.Name) >= 4 && near(plain(o.Name), plain(m.Name)) {
					slips++
					want = "mod-missing: " + m.Name + " is registered and not there; " + o.Name + " is"
				}
			}
			if slips > 1 {
				want = "mod-missing: " + m.Name + " is registered and not there: no folder"
			}
			for i := range s.Mods {
				o := &s.Mods[len(s.Mods)-1-i]
				if o.Path == "" || o.Name == m.Name {
					continue
				}
				if rest, ok := strings.CutPrefix(m.Name, o.Name); ok && ending.MatchString(rest) {
					want = "mod-suffix: " + m.Name + " is registered with an archive's ending; the mod is called " + o.Name
				}
				if rest, ok := strings.CutPrefix(o.Folder, m.Name); ok && ending.MatchString(rest) {
					want = "mod-suffix: " + m.Name + " is not there, but a folder " + o.Folder
				}
			}
			for i := range s.Mods {
				if o := &s.Mods[len(s.Mods)-1-i]; o.Path != "" && o.Name != m.Name && strings.EqualFold(o.Name, m.Name) {
					want = "mod-case: " + m.Name + " is registered, but the mod is called " + o.Name
				}
			}
			if got := said[m.Name]; !strings.HasPrefix(got, want) {
				t.Fatalf("%s\nwant %s\nwith %q and %v", got, want, start.String(), w)
			}
			hits[strings.SplitN(want, ":", 2)[0]]++
		}
	}
	for _, code := range []string{"mod-case", "mod-suffix", "mod-missing"} {
		insist.That(t, hits[code] >= 5, "only %d of %s were seen", hits[code], code)
	}
}

// BenchmarkMissing20k checks a list of 20,000 mods of which none is there under its name.
func BenchmarkMissing20k(b *testing.B) {
	dir, in := b.TempDir(), world{}.input(b, pier)
	in.FS = os.DirFS(dir)
	var start strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&start, "use missing_%05d\n", i)
		mod := filepath.Join(dir, "srv", "mods", fmt.Sprintf("there-%05d-main", i))
		insist.OK(b, errors.Join(os.MkdirAll(mod, 0o755), os.WriteFile(filepath.Join(mod, "main"), nil, 0o644)))
	}
	insist.OK(b, os.WriteFile(filepath.Join(dir, "srv", "start"), []byte(start.String()), 0o644))
	s := survey.Take(in)
	b.ResetTimer()
	for b.Loop() {
		check.Run(s, check.Surroundings{})
	}
}
