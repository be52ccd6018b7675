package volume

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// Spool keeps pieces in a file of its own until they are asked for. It is gone once it is closed.
type Spool struct {
	f  *os.File
	mu sync.Mutex
	at map[string][2]int64 // where each piece begins, and its length
	to int64
}

// spoolBase stands for all spools in the names of their files.
const spoolBase = "spool"

// NewSpool makes one in a folder.
func NewSpool(dir string) (*Spool, error) {
	Sweep(filepath.Join(dir, spoolBase)) // of a run that was killed
	f, err := os.CreateTemp(dir, partOf(spoolBase)+"*")
	if err != nil {
		return nil, err
	}
	return &Spool{f: f, at: make(map[string][2]int64)}, nil
}

// Put keeps a piece under a name.
func (s *Spool) Put(name string, piece []byte) error {
	s.mu.Lock()
	at := s.to
	s.to += int64(len(piece))
	s.at[name] = [2]int64{at, int64(len(piece))}
	s.mu.Unlock()
	_, err := s.f.WriteAt(piece, at)
	return err
}

// Get returns the piece that was kept under a name; fs.ErrNotExist if none was.
func (s *Spool) Get(name string) ([]byte, error) {
	s.mu.Lock()
	at, ok := s.at[name]
	s.mu.Unlock()
	if !ok {
		return nil, fs.ErrNotExist
	}
	piece := make([]byte, at[1])
	_, err := s.f.ReadAt(piece, at[0])
	return piece, err
}

// Close removes the file.
func (s *Spool) Close() error {
	err := s.f.Close()
	if gone := os.Remove(s.f.Name()); !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}
