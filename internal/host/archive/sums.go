package archive

import (
	"crypto/sha256"
	"runtime"
	"sync"

	"initium/internal/core/intake"
)

// wholeFile is the size up to which files are read as a whole, and their sums
// worked out beside the reading, in bytes.
const wholeFile = 1 << 20

// sums works out the sums of small files on several processors.
type sums struct {
	jobs    chan sumJob
	buffers sync.Pool
	workers sync.WaitGroup
	pending []pendingSum
}

type sumJob struct {
	data []byte
	sum  *intake.Sum
}

type pendingSum struct {
	at  int // of the builder's entries
	sum *intake.Sum
}

func newSums() *sums {
	s := &sums{jobs: make(chan sumJob, 8), buffers: sync.Pool{New: func() any { b := make([]byte, wholeFile+1); return &b }}}
	for range runtime.GOMAXPROCS(0) {
		s.workers.Go(func() {
			for j := range s.jobs {
				*j.sum = sha256.Sum256(j.data)
				b := j.data[:cap(j.data)]
				s.buffers.Put(&b)
			}
		})
	}
	return s
}

// later works a sum out for the entry that comes next into a builder.
func (s *sums) later(at int, data []byte) {
	p := pendingSum{at, new(intake.Sum)}
	s.pending = append(s.pending, p)
	s.jobs <- sumJob{data, p.sum}
}

// into waits for all sums and puts them into the builder.
func (s *sums) into(b *intake.Builder) {
	s.stop()
	for _, p := range s.pending {
		b.SetSum(p.at, *p.sum)
	}
}

func (s *sums) stop() {
	close(s.jobs)
	s.workers.Wait()
}
