package golang

import (
	"crypto/sha256"
	"encoding/gob"
	"fernrelay/internal/adapter/golang/source"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"fernrelay/internal/wholefile"
)

// cacheVersion changes with what source means.
const cacheVersion = 5

// worthKeeping is how much must have been read again for the cache to be written, in bytes: reading less takes no
// time.
const worthKeeping = 100 << 10

// cache keeps what files say by their content, so that a large module is parsed
// once. A cache that cannot be read or written is none: everything is in the
// files.
type cache struct {
	path string
	keep func() (string, error)
	old  map[[sha256.Size]byte]source.File

	mu   sync.Mutex
	new  map[[sha256.Size]byte]source.File // of the files that there are now
	read int                               // bytes of those that were not in old
}

func (a *Adapter) openCache() *cache {
	c := &cache{path: filepath.Join(a.Store, "found.gob"), keep: a.Keep, new: map[[sha256.Size]byte]source.File{}}
	file, err := os.Open(c.path)
	if err != nil {
		return c
	}
	defer file.Close()
	if err := gob.NewDecoder(file).Decode(&c.old); err != nil {
		c.old = nil
	}
	return c
}

// source returns the content of a file, and reads it if it is not known.
func (c *cache) source(suite, group, shown string, src []byte, read func() source.File) source.File {
	sum := sha256.New()
	fmt.Fprintf(sum, "%d %q %q %q\n", cacheVersion, suite, group, shown)
	sum.Write(src)
	key := [sha256.Size]byte(sum.Sum(nil))
	s, known := c.old[key]
	if !known {
		s = read()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.new[key] = s
	if !known {
		c.read += len(src)
	}
	return s
}

// close writes the cache if that is worth it. Another process may read it at the same time.
func (c *cache) close() {
	if c.read < worthKeeping || c.keep == nil {
		return
	}
	if _, err := c.keep(); err != nil {
		return
	}
	if err := os.MkdirAll(filepath.Dir(c.path), 0o755); err != nil {
		return
	}
	_ = wholefile.Write(c.path, func(w io.Writer) error { return gob.NewEncoder(w).Encode(c.new) }) // else the next call reads the files again
}
