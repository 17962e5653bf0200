package intake

// Owners knows whose the files of a server are: those that it had before any mod,
// and those that came with mods.
type Owners struct {
	clean map[string]struct{}
	mods  map[string]string
}

// NewOwners makes an index for about as many files.
func NewOwners(clean, mods int) *Owners {
	return &Owners{make(map[string]struct{}, clean), make(map[string]string, mods)}
}

// Clean notes a file of the clean server.
func (o *Owners) Clean(path string) { o.clean[path] = struct{}{} }

// Put notes a file that came with a mod. It returns the mod whose file it was
// before, "" for none.
func (o *Owners) Put(path, mod string) (before string) {
	before = o.mods[path]
	o.mods[path] = mod
	return before
}

// Of tells whose a file is.
func (o *Owners) Of(path string) Owner {
	_, clean := o.clean[path]
	return Owner{Clean: clean, Mod: o.mods[path]}
}
