package check

import (
	"fmt"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/insist"
)

// A document is read as strictly as the strictest parser would read it, and what is wrong has
// its place.
func TestWellFormed(t *testing.T) {
	for _, test := range []struct {
		format    dialect.Format
		doc, want string // "" for well formed
	}{
		{dialect.FormatXML, "<?xml version=\"1.0\"?>\n<!-- t -->\n<a x=\"1\" y='1'><b/><b/>text</a>\n<!-- end -->\n", ""},
		{dialect.FormatXML, "\ufeff<a/>", ""},
		{dialect.FormatXML, "<a>\n</a>\n<entry/>\n", "3:1 <entry> stands behind the end of the document"},
		{dialect.FormatXML, "<a>\n</a>\n  more\n", "3:3 text stands outside of every element"},
		{dialect.FormatXML, "more <a/>", "1:1 text stands outside of every element"},
		{dialect.FormatXML, "<a>\n<b x=\"1\" y=\"2\" x=\"3\"/></a>", "2:1 the attribute x stands twice in <b>"},
		{dialect.FormatXML, "<a xmlns:p=\"u\" p:x=\"1\" x=\"2\"/>", ""},
		{dialect.FormatXML, "<a><b></a>", "1:11 element <b> closed by </a>"},
		{dialect.FormatXML, "<!-- nothing -->\n", "2:1 there is no element in it"},
		{dialect.FormatXML, "<a>", "1:4 unexpected EOF"},
		{dialect.FormatJSON, "{\"a\": {\"x\": 1}, \"b\": [{\"x\": 1}, {\"x\": 2}]}\n", ""},
		{dialect.FormatJSON, "{\"a\": 1,\n \"b\": 2,\n \"a\": 3}", "3:2 \"a\" stands here for the second time"},
		{dialect.FormatJSON, "{\"a\": [\n{\"x\": 1, \"x\": 1}]}", "2:10 \"x\" stands here for the second time"},
		{dialect.FormatJSON, "{\"a\": 1,}", "1:9 invalid character '}' looking for beginning of object key string"},
		{dialect.FormatJSON, "{} {}", "1:4 invalid character '{' after top-level value"},
		{dialect.FormatYAML, "a: 1\nb:\n  x: 1\n  y: 2\n---\nc: 1\n", ""},
		{dialect.FormatYAML, "a: 1\nb: 2\na: 3\n", "3:1 \"a\" stands here for the second time"},
		{dialect.FormatYAML, "a: 1\n---\nb: [\n", "3:1 did not find expected node content"},
		{dialect.FormatTOML, "a = 1\n[b]\na = 2\n", ""},
		{dialect.FormatTOML, "a = 1\na = 2\n", "2:1 key a is already defined"},
	} {
		got := ""
		if fault := wellFormed(test.format, []byte(test.doc)); fault != nil {
			got = fmt.Sprintf("%d:%d %s", fault.Line, fault.Column, fault.Message)
		}
		insist.Same(t, fmt.Sprintf("%s %q", test.format, test.doc), got, test.want)
	}
}
