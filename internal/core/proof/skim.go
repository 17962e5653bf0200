package proof

import (
	"bytes"
	"encoding/binary"
	"io"
	"math"
	"time"

	"initium/internal/core/dialect"
)

// windowSize is how many bytes are looked at together, and so the least length of
// a text that can be looked for.
const windowSize = 3

// finder looks for several texts at once. It looks at one place in as many as the
// shortest text allows, and asks of the bytes there whether any text has them in
// its beginning; only then texts are compared. (The idea is Wu's and Manber's, of
// 1994.)
type finder struct {
	step  int
	marks [1 << 16 / 64]uint64 // a bit for each sum of a window that some text has
	texts map[uint32][]window
}

// window is a place in a text where its bytes are some given ones.
type window struct {
	text   []byte
	offset int
}

// newFinder makes a finder; nil when a text is too short to be looked for.
func newFinder(texts [][]byte) *finder {
	shortest := math.MaxInt
	for _, t := range texts {
		shortest = min(shortest, len(t))
	}
	if shortest < windowSize || len(texts) == 0 {
		return nil
	}
	f := &finder{step: shortest - windowSize + 1, texts: map[uint32][]window{}}
	for _, t := range texts {
		for at := range f.step {
			w := windowAt(t[at:])
			f.texts[w] = append(f.texts[w], window{t, at})
			sum := windowSum(w)
			f.marks[sum>>6] |= 1 << (sum & 63)
		}
	}
	return f
}

// windowAt is the window that some bytes begin with.
func windowAt(b []byte) uint32 { return uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16 }

// windowSum spreads windows over 16 bits (Knuth's multiplicative hashing).
func windowSum(w uint32) uint32 { return w * 2654435761 >> 16 }

// next is where one of the texts begins, from some place on; math.MaxInt for
// nowhere.
func (f *finder) next(b []byte, from int) int {
	at := from
	for ; at+4 <= len(b); at += f.step { // four bytes are read faster than three
		w := binary.LittleEndian.Uint32(b[at:]) & 0xffffff
		if sum := windowSum(w); f.marks[sum>>6]&(1<<(sum&63)) != 0 {
			if start := f.textAt(b, from, at, w); start >= 0 {
				return start
			}
		}
	}
	if at+windowSize <= len(b) {
		if start := f.textAt(b, from, at, windowAt(b[at:])); start >= 0 {
			return start
		}
	}
	return math.MaxInt
}

// textAt is where the text begins of which a window is a part, not before from; -1 when
// it is of none.
func (f *finder) textAt(b []byte, from, at int, w uint32) int {
	for _, t := range f.texts[w] {
		if start := at - t.offset; start >= from && bytes.HasPrefix(b[start:], t.text) {
			return start
		}
	}
	return -1
}

// finderFor looks for the texts without which no line fits a rule; nil when some
// rule has none, so that every line has to be looked at.
func finderFor(rules []*dialect.Rule, besides ...[]byte) *finder {
	texts := besides
	for _, rule := range rules {
		if rule.Means != dialect.MeansIgnore { // such lines change nothing
			texts = append(texts, []byte(rule.Pattern().Longest()))
		}
	}
	return newFinder(texts)
}

// hit is a line that may fit a rule: where it is in a piece of a log, and which
// line of the piece it is, from 0.
type hit struct{ start, stop, line int }

// skimmed is a piece of a log that ends with a line's end, with the lines in it
// that may fit a rule.
type skimmed struct {
	region []byte
	hits   []hit
	lines  int
}

// skim finds the lines that may fit a rule. It touches nothing but its arguments.
func (f *finder) skim(region []byte, hits []hit) skimmed {
	s := skimmed{region: region, hits: hits[:0]}
	text, escape := -1, -1 // where there is a text that is looked for, or a control sequence, next
	for cursor := 0; cursor < len(region); {
		if text < cursor {
			text = f.next(region, cursor)
		}
		if escape < cursor { // a text may be in pieces in a line that has one
			if escape = bytes.IndexByte(region[cursor:], 0x1b); escape < 0 {
				escape = math.MaxInt
			} else {
				escape += cursor
			}
		}
		at := min(text, escape)
		if at == math.MaxInt {
			s.lines += bytes.Count(region[cursor:], newline)
			break
		}
		start := bytes.LastIndexByte(region[cursor:at], '\n') + cursor + 1
		s.lines += bytes.Count(region[cursor:start], newline)
		stop := start + bytes.IndexByte(region[start:], '\n')
		s.hits = append(s.hits, hit{start, stop, s.lines})
		s.lines++
		cursor = stop + 1
	}
	return s
}

var newline = []byte{'\n'}

// consume reads the lines of a piece that may fit a rule; the others are counted.
func (r *Reader) consume(s skimmed, at time.Duration) {
	r.clock.begin(r, s.region)
	before, cursor := r.lines, 0
	// Whatever the line after a failure says is its reason, and a message may have
	// more lines than one.
	reasons := func() {
		for (r.thread.opener != nil || r.message.open) && cursor < len(s.region) {
			stop := cursor + bytes.IndexByte(s.region[cursor:], '\n')
			r.whole(s.region[cursor:stop], at)
			cursor = stop + 1
		}
	}
	reasons()
	for _, h := range s.hits {
		if h.start < cursor {
			continue
		}
		r.lines = before + h.line
		r.whole(s.region[h.start:h.stop], at)
		cursor = h.stop + 1
		reasons()
	}
	r.lines = before + s.lines
}

// blockSize is how much of a log is read at a time, in bytes.
const blockSize = 1 << 19

// block is what one side of ReadFrom hands to the other.
type block struct {
	buf  []byte
	raw  []byte // a part of a line longer than a block, or the end of one
	skim skimmed
	done chan struct{} // closed when it is skimmed; nil for raw
	err  error
}

// ReadFrom reads a whole log. Lines that may fit a rule are looked for beside the
// reading of those that were found. It returns how many bytes there were.
func (r *Reader) ReadFrom(in io.Reader) (n int64, err error) {
	r.begin()
	if r.finder == nil {
		buf := make([]byte, blockSize)
		for err == nil {
			var got int
			got, err = in.Read(buf)
			r.Feed(buf[:got], 0)
			n += int64(got)
		}
		if err == io.EOF {
			err = nil
		}
		return n, err
	}
	const ahead = 6
	free, full := make(chan *block, ahead), make(chan *block, ahead)
	for range ahead {
		free <- &block{buf: make([]byte, blockSize)}
	}
	go readBlocks(in, r.finder, free, full)
	for b := range full {
		if b.raw != nil {
			r.Feed(b.raw, 0)
		} else {
			<-b.done
			r.consume(b.skim, 0)
		}
		n += int64(len(b.raw) + len(b.skim.region))
		if b.err != nil && b.err != io.EOF {
			err = b.err
		}
		if b.buf != nil {
			free <- b
		}
	}
	return n, err
}

// readBlocks reads a log in pieces of whole lines. What is no whole line, because
// it is longer than a block or the last, goes by itself.
func readBlocks(in io.Reader, f *finder, free <-chan *block, full chan<- *block) {
	defer close(full)
	raw := func(data []byte) {
		if len(data) > 0 {
			full <- &block{raw: bytes.Clone(data)}
		}
	}
	var rest []byte // of a line that has begun
	long := false   // in an earlier block, which has been handed on
	for {
		b := <-free
		kept := copy(b.buf, rest)
		got, err := in.Read(b.buf[kept:])
		data := b.buf[:kept+got]
		if long {
			end := bytes.IndexByte(data, '\n') + 1
			if long = end == 0; long {
				end = len(data)
			}
			raw(data[:end])
			data = data[end:]
		}
		end := bytes.LastIndexByte(data, '\n') + 1
		if rest = append(rest[:0], data[end:]...); end == 0 && len(rest) == len(b.buf) {
			raw(rest)
			rest, long = rest[:0], true
		}
		b.err, b.done = err, make(chan struct{})
		go func() {
			b.skim = f.skim(data[:end], b.skim.hits)
			close(b.done)
		}()
		full <- b
		if err != nil {
			raw(rest)
			return
		}
	}
}
