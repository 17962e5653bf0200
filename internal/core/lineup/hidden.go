package lineup

import (
	"strings"

	"initium/internal/core/text"
)

// hiddenBlock is a part of a YAML file that somebody has put into comments, line by line: an item
// of a list or a key, with all that belongs to it.
type hiddenBlock struct {
	marks    []text.Span // to take away to bring it back
	lines    text.Span
	firstEnd int    // of the first of them
	body     []byte // without the marks and the indentation
	from     []int  // where in the document each line of the body begins
}

// at is where in the document an offset of the body stands.
func (h *hiddenBlock) at(offset int) int {
	line := strings.Count(string(h.body[:offset]), "\n")
	start := strings.LastIndexByte(string(h.body[:offset]), '\n') + 1
	return h.from[line] + offset - start
}

// first is the first line of a block alone.
func (h *hiddenBlock) first() hiddenBlock {
	end := strings.IndexByte(string(h.body), '\n') + 1
	return hiddenBlock{h.marks[:1], text.Span{Start: h.lines.Start, End: h.firstEnd}, h.firstEnd, h.body[:end], h.from[:1]}
}

// hiddenBlocks finds what is hidden at a column in lines of a document; begins tells the first
// line of such a block, and what follows it is deeper.
func hiddenBlocks(doc []byte, lines []text.Line, column int, begins func(body string) bool) (blocks []hiddenBlock) {
	open := false
	for _, line := range lines {
		raw := string(line.Text.In(doc))
		body, ok := strings.CutPrefix(strings.TrimLeft(raw, " "), "# ")
		if indent := len(raw) - len(strings.TrimLeft(raw, " ")); !ok || indent != column {
			if strings.TrimSpace(raw) != "" {
				open = false
			}
			continue
		}
		mark := text.Span{Start: line.Text.Start + column, End: line.Text.Start + column + len("# ")}
		deeper := strings.HasPrefix(body, " ")
		switch {
		case !deeper && begins(body):
			blocks, open = append(blocks, hiddenBlock{lines: line.Span, firstEnd: line.End}), true
		case !deeper || !open:
			open = false
			continue
		}
		h := &blocks[len(blocks)-1]
		h.marks, h.from = append(h.marks, mark), append(h.from, mark.End)
		h.lines.End = line.End
		h.body = append(append(h.body, body...), '\n')
	}
	return blocks
}

// hide are the edits that put lines of a YAML file into comments at a column; ok is false where
// one of them begins further left.
func hide(doc []byte, lines text.Span, column int) (edits []text.Edit, ok bool) {
	for _, line := range text.Lines(doc) {
		if line.Start < lines.Start || line.Start >= lines.End {
			continue
		}
		raw := string(line.Text.In(doc))
		if strings.TrimSpace(raw) == "" {
			continue
		}
		if len(raw)-len(strings.TrimLeft(raw, " ")) < column {
			return nil, false
		}
		edits = append(edits, text.Insert(line.Text.Start+column, "# "))
	}
	return edits, true
}

// shown are the edits that bring it back.
func (h *hiddenBlock) shown() (edits []text.Edit) {
	for _, mark := range h.marks {
		edits = append(edits, text.Delete(mark))
	}
	return edits
}
