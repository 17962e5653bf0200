package check

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"go.yaml.in/yaml/v3"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// wellFormed reads a whole document as strictly as any parser may, and says where it is
// broken: a server's own parser may stop at what another passes over.
func wellFormed(format dialect.Format, data []byte) *text.Fault {
	switch format {
	case dialect.FormatJSON:
		return wholeJSON(data)
	case dialect.FormatYAML:
		return wholeYAML(data)
	case dialect.FormatTOML:
		_, fault := text.ReadTOML(data)
		return fault
	case dialect.FormatXML:
		return wholeXML(data)
	}
	return nil
}

func wholeJSON(data []byte) *text.Fault {
	var v any
	err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), &v)
	if syntax := new(json.SyntaxError); errors.As(err, &syntax) {
		return text.FaultAt(data, int(syntax.Offset)-1, "%v", syntax)
	}
	root, fault := text.ReadJSON(data)
	if fault != nil {
		return fault
	}
	return keyTwice(data, root)
}

// wholeYAML reads every document of the file.
func wholeYAML(data []byte) *text.Fault {
	root, fault := text.ReadYAML(data)
	if fault != nil {
		return fault
	}
	if fault := keyTwice(data, root); fault != nil {
		return fault
	}
	for all := yaml.NewDecoder(bytes.NewReader(data)); ; {
		var document yaml.Node
		switch err := all.Decode(&document); {
		case err == io.EOF:
			return nil
		case err != nil:
			return text.YAMLFault(err)
		}
	}
}

// keyTwice finds a key that stands twice in one object: of which value holds then, parsers are
// of different minds.
func keyTwice(data []byte, n *text.Node) *text.Fault {
	seen := map[string]bool{}
	for _, m := range n.Members {
		if seen[m.Name] {
			return text.FaultAt(data, m.Key.Start, "%q stands here for the second time", text.Clean(m.Name))
		}
		seen[m.Name] = true
		if fault := keyTwice(data, m.Value); fault != nil {
			return fault
		}
	}
	for _, item := range n.Items {
		if fault := keyTwice(data, item); fault != nil {
			return fault
		}
	}
	return nil
}

// withoutLine is what a reader of XML says, without the line, which is told apart.
func withoutLine(err error) string {
	if syntax := new(xml.SyntaxError); errors.As(err, &syntax) {
		return syntax.Msg
	}
	return err.Error()
}

// attributeTwice is the first attribute of an element that stands there a second time, or "".
func attributeTwice(list []xml.Attr) string {
	seen := map[xml.Name]bool{}
	for _, a := range list {
		if seen[a.Name] {
			return a.Name.Local
		}
		seen[a.Name] = true
	}
	return ""
}

func wholeXML(data []byte) *text.Fault {
	d := xml.NewDecoder(bytes.NewReader(data))
	for depth, roots := 0, 0; ; {
		at := int(d.InputOffset())
		token, err := d.Token()
		if err == io.EOF {
			if roots == 0 {
				return text.FaultAt(data, len(data), "there is no element in it")
			}
			return nil
		}
		if err != nil {
			return text.FaultAt(data, int(d.InputOffset()), "%s", withoutLine(err))
		}
		switch t := token.(type) {
		case xml.StartElement:
			if depth++; depth == 1 {
				roots++
			}
			if roots > 1 {
				return text.FaultAt(data, at, "<%s> stands behind the end of the document", text.Clean(t.Name.Local))
			}
			if twice := attributeTwice(t.Attr); twice != "" {
				return text.FaultAt(data, at, "the attribute %s stands twice in <%s>", text.Clean(twice), text.Clean(t.Name.Local))
			}
		case xml.EndElement:
			depth--
		case xml.CharData:
			body := strings.TrimLeft(strings.TrimPrefix(string(t), "\ufeff"), " \t\r\n")
			if depth == 0 && body != "" {
				return text.FaultAt(data, at+bytes.Index(data[at:], []byte(body[:1])), "text stands outside of every element")
			}
		}
	}
}
