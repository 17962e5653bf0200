package table_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/table"
	"initium/internal/insist"
)

var (
	creatures = table.Kind{Format: dialect.FormatXML, At: "creatures.creature", ID: "@id"}
	nested    = table.Kind{Format: dialect.FormatXML, At: "world.types.type", ID: "@kind name"}
	list      = table.Kind{Format: dialect.FormatJSON, At: "mill.parts", ID: "name"}
	keyed     = table.Kind{Format: dialect.FormatJSON, At: "", ID: table.ByKey}
	rides     = table.Kind{Format: dialect.FormatYAML, At: "fair.rides", ID: "name"}
	stalls    = table.Kind{Format: dialect.FormatYAML, At: "stalls", ID: table.ByKey}
	sections  = table.Kind{Format: dialect.FormatINI, ID: table.ByKey}
	keys      = table.Kind{Format: dialect.FormatINI, At: "prices", ID: table.ByKey}
)

// tables are those of servers, what mods bring to them, and what comes of it.
var tables = []struct {
	name          string
	kind          table.Kind
	doc, brings   string
	now           string // "" where only what is said counts
	fresh, same   int
	differ        string
	refused, lost string
}{
	{name: "elements", kind: creatures, fresh: 1, same: 1,
		doc:    "<?xml version=\"1.0\"?>\r\n<creatures>\r\n\t<!-- our own -->\r\n\t<creature id=\"heron\" luck=\"2\"/> <!-- tall -->\r\n\t<creature id=\"eel\" luck=\"1\"/>\r\n</creatures>\r\n",
		brings: "<creatures>\n  <creature luck='1' id='eel'></creature>\n  <creature id=\"bittern\">\n    <call>boom</call>\n\n  </creature>\n</creatures>\n",
		now:    "<?xml version=\"1.0\"?>\r\n<creatures>\r\n\t<!-- our own -->\r\n\t<creature id=\"heron\" luck=\"2\"/> <!-- tall -->\r\n\t<creature id=\"eel\" luck=\"1\"/>\r\n\t<creature id=\"bittern\">\r\n\t  <call>boom</call>\r\n\r\n\t</creature>\r\n</creatures>\r\n"},
	{name: "bare elements", kind: creatures, fresh: 2, doc: "<creatures>\n    <creature id=\"a\"/>\n</creatures>", brings: "<creature id=\"b\"/>\n<creature id=\"c\"/>\n",
		now: "<creatures>\n    <creature id=\"a\"/>\n    <creature id=\"b\"/>\n    <creature id=\"c\"/>\n</creatures>"},
	{name: "on one line", kind: creatures, fresh: 1, doc: "<creatures><creature id=\"a\"/><creature id=\"x\"/></creatures>", brings: "<creature id=\"b\"/>", now: "<creatures><creature id=\"a\"/><creature id=\"x\"/><creature id=\"b\"/></creatures>"},
	{name: "none yet", kind: creatures, fresh: 2, doc: "<creatures>\n</creatures>\n", brings: "<creature id=\"b\"/>\n<creature id=\"c\"/>", now: "<creatures>\n  <creature id=\"b\"/>\n  <creature id=\"c\"/>\n</creatures>\n"},
	{name: "closed at once", kind: creatures, fresh: 1, doc: "<creatures/>\n", brings: "<creature id=\"b\"/>", now: "<creatures>\n  <creature id=\"b\"/>\n</creatures>\n"},
	{name: "by attribute and element", kind: nested, fresh: 1, differ: "tree oak",
		doc:    "<world>\n <types>\n  <type kind=\"tree\"><name>oak</name><tall>3</tall></type>\n </types>\n</world>\n",
		brings: "<types>\n\t<type kind=\"tree\"><name>oak</name><tall>9</tall></type>\n\t<type kind=\"bush\"><name>oak</name></type>\n</types>",
		now:    "<world>\n <types>\n  <type kind=\"tree\"><name>oak</name><tall>3</tall></type>\n  <type kind=\"bush\"><name>oak</name></type>\n </types>\n</world>\n"},
	{name: "texts as they are", kind: creatures, same: 1, differ: "b", doc: "<creatures><creature id=\"a\"><![CDATA[x]]></creature><creature id=\"b\"><![CDATA[x]]></creature></creatures>",
		brings: "<creature id=\"a\"><![CDATA[x]]></creature><creature id=\"b\"><![CDATA[y]]></creature>"},
	{name: "a list", kind: list, fresh: 2, same: 1, doc: "{\n  // the mill\n  \"mill\": {\n    \"parts\": [\n      {\"name\": \"gear\", \"n\": 1}, // old\n      {\"name\": \"axle\"}\n    ]\n  }\n}\n",
		brings: "[{\"n\": 1, \"name\": \"gear\"},\n {\"name\": \"cog\",\n  \"n\": 2}, {\"name\": \"pin\"}]",
		now:    "{\n  // the mill\n  \"mill\": {\n    \"parts\": [\n      {\"name\": \"gear\", \"n\": 1}, // old\n      {\"name\": \"axle\"},\n      {\"name\": \"cog\",\n       \"n\": 2},\n      {\"name\": \"pin\"}\n    ]\n  }\n}\n"},
	{name: "a list on one line", kind: list, fresh: 1, doc: `{"mill": {"parts": [{"name": "a"}]}}`, brings: `{"parts": [{"name": "b"}]}`, now: `{"mill": {"parts": [{"name": "a"}, {"name": "b"}]}}`},
	{name: "an empty list", kind: list, fresh: 2, doc: "{\n\t\"mill\": {\n\t\t\"parts\": []\n\t}\n}\n", brings: `[{"name": "a"}, {"name": "b"}]`, now: "{\n\t\"mill\": {\n\t\t\"parts\": [\n\t\t\t{\"name\": \"a\"},\n\t\t\t{\"name\": \"b\"}\n\t\t]\n\t}\n}\n"},
	{name: "keys", kind: keyed, fresh: 1, same: 1, differ: "b", doc: "{\n  \"a\": 1,\n  \"b\": {\"x\": 1}\n}\n", brings: `{"a": 1, "b": 2, "c": [3]}`, now: "{\n  \"a\": 1,\n  \"b\": {\"x\": 1},\n  \"c\": [3]\n}\n"},
	{name: "a block", kind: rides, fresh: 2, same: 1, doc: "fair:\n  rides:\n    - name: carousel\n      about: |\n        two\n        lines\n    - {name: slide}\n  open: yes\n",
		brings: "rides:\n- name: slide\n- name: train\n  about: >\n    folded\n    text\n- name: swing\n",
		now:    "fair:\n  rides:\n    - name: carousel\n      about: |\n        two\n        lines\n    - {name: slide}\n    - name: train\n      about: >\n        folded\n        text\n    - name: swing\n  open: yes\n"},
	{name: "an empty block", kind: rides, fresh: 2, doc: "fair:\n  rides: []\n  open: yes\n", brings: "- name: a\n  n: 1\n- name: b\n", now: "fair:\n  rides:\n    - name: a\n      n: 1\n    - name: b\n  open: yes\n"},
	{name: "keys of a block", kind: stalls, fresh: 1, same: 1, doc: "stalls:\n    candy:\n        price: 3\n    tea: {price: 1}\nopen: yes\n", brings: "stalls:\n  tea:\n    price: 1\n  cake:\n    price: 4\n    with: [cream, jam]\n",
		now: "stalls:\n    candy:\n        price: 3\n    tea: {price: 1}\n    cake:\n      price: 4\n      with: [cream, jam]\nopen: yes\n"},
	{name: "sections", kind: sections, fresh: 1, same: 1, differ: "c", doc: "; all\n[a]\nx = 1\n\n[c]\nx=1\n", brings: "[b]\n; its own\nx = 2\n[a]\nx=1\n[c]\nx=2\n", now: "; all\n[a]\nx = 1\n\n[c]\nx=1\n\n[b]\n; its own\nx = 2\n"},
	{name: "keys of a section", kind: keys, fresh: 1, same: 1, doc: "[prices]\ntea = 1\n\n[more]\nx=1\n", brings: "[prices]\ntea=1\ncake=4\n", now: "[prices]\ntea = 1\ncake=4\n\n[more]\nx=1\n"},
	{name: "nothing to tell them by", kind: creatures, doc: "<creatures><creature id=\"a\"/></creatures>", brings: "<creatures><creature luck=\"1\"/></creatures>", refused: "1 of its entries have no @id"},
	{name: "twice", kind: list, doc: `{"mill":{"parts":[]}}`, brings: `[{"name":"a"},{"name":"a"}]`, refused: "a stands in it twice"},
	{name: "no entry", kind: list, doc: `{"mill":{"parts":[]}}`, brings: `{"other": 1}`, refused: "there is no entry at mill.parts"},
	{name: "torn", kind: creatures, doc: "<creatures><creature id=\"a\"/></creatures>", brings: "<creatures><creature id=\"a\">", refused: "line 1"},
	{name: "no table", kind: list, doc: `{"other": 1}`, brings: `[{"name":"a"}]`, lost: "there is no table at mill.parts"},
	{name: "no section", kind: keys, doc: "[other]\n", brings: "[prices]\na=1\n", lost: "no section [prices]"},
	{name: "a torn table", kind: creatures, doc: "<creatures>", brings: "<creature id=\"a\"/>", lost: "never closed"},
}

// TestMerge adds what mods bring, and takes it out again: the file is then what it was, to the byte, where
// the table was not empty before.
func TestMerge(t *testing.T) {
	for _, c := range tables {
		brings, fault := table.Shipped([]byte(c.brings), c.kind)
		if c.refused != "" {
			insist.That(t, fault != nil && strings.Contains(fault.Error(), c.refused), "%s: refused with %v", c.name, fault)
			continue
		}
		insist.Need(t, fault == nil, "%s: what comes: %v", c.name, fault)
		have, fault := table.Read([]byte(c.doc), c.kind)
		if c.lost != "" {
			insist.That(t, fault != nil && strings.Contains(fault.Error(), c.lost), "%s: the table: %v", c.name, fault)
			continue
		}
		insist.Need(t, fault == nil, "%s: the table: %v", c.name, fault)
		was := len(have.Entries)
		got := have.Compare(brings)
		var differ []string
		for _, p := range got.Differ {
			differ = append(differ, p.Brings.ID)
		}
		insist.Same(t, c.name, fmt.Sprintf("%d %d %s", len(got.Fresh), len(got.Same), strings.Join(differ, ",")), fmt.Sprintf("%d %d %s", c.fresh, c.same, c.differ))
		now, err := have.Change(got.Fresh, nil, nil)
		insist.OK(t, err)
		if c.now != "" {
			insist.Same(t, c.name, string(now), c.now)
		}
		after, fault := table.Read(now, c.kind)
		insist.Need(t, fault == nil, "%s: afterwards: %v", c.name, fault)
		insist.Same(t, c.name+": entries", len(after.Entries), was+c.fresh)
		var ids []string
		for _, e := range got.Fresh {
			ids = append(ids, e.ID)
		}
		back, err := after.Change(nil, nil, ids)
		if was == 0 {
			continue // how it was written that nothing is there, nobody knows any more
		}
		insist.That(t, err == nil, "%s: taken out: %v", c.name, err)
		if c.kind != sections { // the blank line before it stays
			insist.Same(t, c.name+": taken out", string(back), c.doc)
		}
		other, err := have.Change(nil, brings, nil)
		if err == nil {
			swapped, fault := table.Read(other, c.kind)
			insist.Need(t, fault == nil, "%s: swapped: %v", c.name, fault)
			all := swapped.Compare(brings)
			insist.Same(t, c.name+": in the place of others", len(all.Differ), 0)
		}
	}
}

// Of those that go, whichever they are, nothing is left, and all others stay.
func TestAnyGo(t *testing.T) {
	docs := map[string]struct {
		kind table.Kind
		doc  string
	}{
		"list":     {list, "{\"mill\": {\"parts\": [\n  {\"name\": \"a\"}, // first\n  {\"name\": \"b\"},\n  {\"name\": \"c\"}, {\"name\": \"d\"},\n]}}\n"},
		"keys":     {keyed, `{"a": 1, "b": {"c": 2}, "c": [], "d": null}`},
		"elements": {creatures, "<creatures>\n  <creature id=\"a\"/>\n  <creature id=\"b\"/><creature id=\"c\"/>\n  <creature id=\"d\">\n  </creature>\n</creatures>\n"},
		"block":    {rides, "fair:\n  rides:\n  - name: a\n  - name: b\n    n: 1\n  - name: c\n  - name: d\n  more: 1\n"},
		"sections": {sections, "[a]\nx=1\n[b]\n[c]\ny=1\n\n[d]\nz=1"},
	}
	for name, c := range docs {
		for set := range 16 {
			have, fault := table.Read([]byte(c.doc), c.kind)
			insist.Need(t, fault == nil, "%s: %v", name, fault)
			var gone, stay []string
			for i, id := range []string{"a", "b", "c", "d"} {
				if set&(1<<i) != 0 {
					gone = append(gone, id)
				} else {
					stay = append(stay, id)
				}
			}
			now, err := have.Change(nil, nil, gone)
			if len(stay) == 0 {
				continue // some tables are never left without an entry
			}
			insist.That(t, err == nil, "%s without %v: %v", name, gone, err)
			after, fault := table.Read(now, c.kind)
			insist.Need(t, fault == nil, "%s without %v: %v\n%s", name, gone, fault, now)
			var left []string
			for _, e := range after.Entries {
				left = append(left, e.ID)
			}
			insist.Same(t, fmt.Sprintf("%s without %v", name, gone), strings.Join(left, " "), strings.Join(stay, " "))
		}
	}
}

// FuzzMerge merges anything into anything: what is written has all entries that were there, to the byte where
// they stand, and those that came.
func FuzzMerge(f *testing.F) {
	kinds := []table.Kind{creatures, nested, list, keyed, rides, stalls, sections, keys}
	for _, c := range tables {
		for i := range kinds {
			f.Add(i, []byte(c.doc), []byte(c.brings))
		}
	}
	f.Fuzz(func(t *testing.T, kind int, doc, brings []byte) {
		k := kinds[uint(kind)%uint(len(kinds))]
		have, fault := table.Read(doc, k)
		if fault != nil {
			return
		}
		entries, fault := table.Shipped(brings, k)
		if fault != nil {
			return
		}
		got := have.Compare(entries)
		now, err := have.Change(got.Fresh, nil, nil)
		if err != nil {
			return
		}
		after, fault := table.Read(now, k)
		if fault != nil {
			t.Fatalf("%q with %q gives %q, which cannot be read: %v", doc, brings, now, fault)
		}
		if len(after.Entries) != len(have.Entries)+len(got.Fresh) {
			t.Fatalf("%q with %q gives %q: %d entries, want %d and %d", doc, brings, now, len(after.Entries), len(have.Entries), len(got.Fresh))
		}
		if again := after.Compare(entries); len(again.Fresh) > 0 {
			t.Fatalf("%q with %q gives %q, which has not all of them", doc, brings, now)
		}
	})
}

// big is a table of so many entries, of about 500 bytes each.
func big(from, n int) []byte {
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\"?>\n<creatures>\n")
	for i := range n {
		fmt.Fprintf(&b, "    <creature id=\"kind-%d\" luck=\"%d\">\n        <call volume=\"3\">boom</call>\n        <about>%s</about>\n    </creature>\n", from+i, i%7, strings.Repeat("It walks the moor at night. ", 14))
	}
	b.WriteString("</creatures>\n")
	return []byte(b.String())
}

// BenchmarkMerge merges 2,000 entries into a table of 50,000 (25 MB). INITIUM_TABLE and INITIUM_BRINGS are files
// to write them to, for others to do the same with.
func BenchmarkMerge(b *testing.B) {
	doc, brings := big(0, 50_000), big(49_000, 2_000)
	for name, data := range map[string][]byte{"INITIUM_TABLE": doc, "INITIUM_BRINGS": brings} {
		if file := os.Getenv(name); file != "" {
			insist.OK(b, os.WriteFile(file, data, 0o644))
		}
	}
	b.SetBytes(int64(len(doc)))
	b.ReportAllocs()
	for b.Loop() {
		have, _ := table.Read(doc, creatures)
		entries, _ := table.Shipped(brings, creatures)
		got := have.Compare(entries)
		now, err := have.Change(got.Fresh, nil, nil)
		if err != nil || len(got.Fresh) != 1_000 || len(now) <= len(doc) {
			b.Fatal(err, len(got.Fresh))
		}
	}
}
