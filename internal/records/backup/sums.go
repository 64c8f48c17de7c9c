package backup

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"sync"
)

// sums adds up checksums beside the reading and writing: on machines without
// instructions for SHA-256 it takes as long as everything else together.
type sums struct {
	work chan summed
	over sync.WaitGroup
	pool sync.Pool
}

// summed is a block of a file; the last of a file says what to do with its sum.
type summed struct {
	block *[]byte
	size  int
	end   func(sum string)
}

const (
	blockBytes = 256 << 10
	ahead      = 16 // blocks under way
)

func newSums() *sums {
	s := &sums{work: make(chan summed, ahead), pool: sync.Pool{New: func() any {
		b := make([]byte, blockBytes)
		return &b
	}}}
	s.over.Add(1)
	go func() {
		defer s.over.Done()
		hash := sha256.New()
		for w := range s.work {
			if w.block != nil {
				hash.Write((*w.block)[:w.size])
				s.pool.Put(w.block)
			}
			if w.end != nil {
				w.end(hex.EncodeToString(hash.Sum(nil)))
				hash.Reset()
			}
		}
	}()
	return s
}

// copy copies a file, and has its sum told once that is known, by wait at the
// latest.
func (s *sums) copy(to io.Writer, from io.Reader, end func(sum string)) (int64, error) {
	total := int64(0)
	for {
		block := s.pool.Get().(*[]byte)
		n, err := io.ReadFull(from, *block)
		if n > 0 {
			if _, err := to.Write((*block)[:n]); err != nil {
				return total, err
			}
			total += int64(n)
			s.work <- summed{block: block, size: n}
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			s.work <- summed{end: end}
			return total, nil
		}
		if err != nil {
			return total, err
		}
	}
}

// wait waits until every sum was told. Nothing can be copied after it.
func (s *sums) wait() {
	if s.work != nil {
		close(s.work)
		s.over.Wait()
		s.work = nil
	}
}
