package cli

import (
	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/intake"
	"initium/internal/core/mod"
	"initium/internal/core/plan"
)

// The shapes of what look --json prints. Paths in what came have slashes and no
// beginning; those on the server are absolute.
type (
	jsonInside struct {
		Source    string              `json:"source"`
		Form      string              `json:"form"`
		Files     int                 `json:"files"`
		Bytes     int64               `json:"bytes"`
		Family    string              `json:"family"` // "" when no dialect finds a mod in it
		Also      []string            `json:"also"`
		Mods      []jsonFound         `json:"mods"`
		Notes     []string            `json:"notes"`
		Surplus   []string            `json:"surplus"`
		Server    string              `json:"server,omitempty"`
		Problems  []string            `json:"problems,omitempty"`
		Questions []jsonQuestion      `json:"questions,omitempty"`
		Overlaps  []jsonOverlap       `json:"overlaps,omitempty"`
		Keys      []string            `json:"keys_there,omitempty"`
		Steps     []jsonStep          `json:"left_to_you,omitempty"`
		Stays     []jsonStep          `json:"stays,omitempty"` // of an earlier release
		Lacking   map[string][]string `json:"lacking,omitempty"`
		Aged      map[string]string   `json:"old,omitempty"`
		Parts     []jsonPart          `json:"parts,omitempty"`
		Plan      *jsonPlan           `json:"plan,omitempty"`
		Comes     []check.Finding     `json:"findings_new,omitempty"`
		Mended    []check.Finding     `json:"findings_gone,omitempty"`
	}
	jsonLooked struct {
		Sources []jsonInside `json:"sources"`
		Shared  []jsonShared `json:"shared"`
	}
	jsonShared struct {
		Path  string   `json:"path"`
		Mods  []string `json:"mods"`
		Clean bool     `json:"clean"` // the clean server has a file there
	}
	jsonFound struct {
		Name    string   `json:"name"`
		Why     string   `json:"name_why"`
		CameAs  string   `json:"came_as,omitempty"`
		Release string   `json:"release"`
		Root    string   `json:"root"`
		RootWhy string   `json:"root_why"`
		Bundle  string   `json:"bundle,omitempty"`
		Needs   []string `json:"needs"`
		Side    string   `json:"side,omitempty"`
		Files   int      `json:"files"`
		Bytes   int64    `json:"bytes"`
		Path    string   `json:"path,omitempty"`    // where it goes
		Instead string   `json:"instead,omitempty"` // the release that is there
	}
	jsonQuestion struct {
		About string   `json:"about"`
		Text  string   `json:"text"`
		Say   []string `json:"say"`
	}
	jsonOverlap struct {
		Path   string `json:"path"`
		Mod    string `json:"mod"`
		Same   bool   `json:"same"`
		Whose  string `json:"whose"`
		Choice string `json:"choice"`
	}
	jsonStep struct {
		Path  string `json:"path"`
		About string `json:"about"`
	}
	jsonPart struct {
		Path  string       `json:"path"`
		Mod   string       `json:"mod"`
		What  string       `json:"what"`
		New   bool         `json:"new"`
		Gone  bool         `json:"gone"`
		Files int          `json:"files"`
		Bytes int64        `json:"bytes"`
		Notes []jsonChange `json:"changes"`
	}
	jsonChange struct {
		File string `json:"file"`
		Kind string `json:"kind"`
		Why  string `json:"why,omitempty"`
	}
)

func lookedJSON(looked []*app.Inspection, shared []intake.Shared) jsonLooked {
	j := jsonLooked{Sources: []jsonInside{}, Shared: []jsonShared{}}
	for _, in := range looked {
		j.Sources = append(j.Sources, insideJSON(in))
	}
	for _, s := range shared {
		j.Shared = append(j.Shared, jsonShared(s))
	}
	return j
}

func insideJSON(in *app.Inspection) jsonInside {
	f := in.Found
	j := jsonInside{Source: in.Source, Form: string(in.Form), Files: f.Tree.Files, Bytes: f.Tree.Total, Server: in.Server,
		Also: append([]string{}, in.Also...), Mods: []jsonFound{}, Notes: append([]string{}, f.Notes...), Surplus: append([]string{}, f.Surplus...),
		Lacking: in.Lacking, Aged: in.Aged, Comes: in.Comes, Mended: in.Mended}
	if f.Dialect != nil {
		j.Family = f.Dialect.Name
	}
	for i := range f.Mods {
		m := &f.Mods[i]
		found := jsonFound{Name: m.Name, Why: m.Why, CameAs: m.Mended, Release: m.Manifest.Release, Root: m.Root, RootWhy: m.RootWords(),
			Needs: append([]string{}, mod.Names(m.Manifest.Needs)...), Side: m.Manifest.Side, Files: m.Files, Bytes: m.Bytes}
		if m.In != nil {
			found.Bundle = m.In.Name
		}
		if in.Intake != nil {
			found.Path, found.Instead = placeOf(in.Intake, m)
		}
		j.Mods = append(j.Mods, found)
	}
	if in.Intake == nil {
		return j
	}
	j.Problems, j.Keys = in.Intake.Problems, in.Intake.Keys
	for _, q := range in.Intake.Questions {
		j.Questions = append(j.Questions, jsonQuestion{q.About, q.Text, flagsOf(&q)})
	}
	for _, o := range in.Intake.Overlaps {
		j.Overlaps = append(j.Overlaps, jsonOverlap{o.Path, o.Mod, o.Same, o.Whose, string(o.Choice)})
	}
	for _, s := range in.Intake.Steps {
		j.Steps = append(j.Steps, jsonStep{s.Path, s.About})
	}
	for _, l := range in.Intake.Left {
		j.Stays = append(j.Stays, jsonStep{l.Path, l.About})
	}
	j.Parts = partsJSON(in.Intake.Parts)
	if in.Plan != nil {
		p := planJSON(in.Server, in.Plan)
		j.Plan = &p
	}
	return j
}

func placeOf(in *intake.Intake, m *intake.Mod) (path, instead string) {
	for _, p := range in.Mods {
		if p.Mod == m {
			if p.There != nil {
				instead = p.There.Release
			}
			return p.Path, instead
		}
	}
	return "", ""
}

func partsJSON(parts []plan.Part) []jsonPart {
	list := []jsonPart{}
	for i := range parts {
		p := &parts[i]
		files, bytes := p.Size()
		part := jsonPart{p.Path, p.Mod, p.What, p.Old == "", p.New == "", files, bytes, []jsonChange{}}
		for _, n := range p.Notes {
			part.Notes = append(part.Notes, jsonChange{n.Rel, string(n.Kind), n.Why})
		}
		list = append(list, part)
	}
	return list
}
