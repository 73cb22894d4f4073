package library

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/storer"
	"github.com/go-git/go-git/v5/storage/memory"
)

// mostPacked is how many bytes of a repository are taken over the network, and
// mostInflated how many its objects may have altogether: packed data can stand for a
// thousand times as much.
const (
	mostPacked   = 32 << 20
	mostInflated = 2 * Largest
)

var (
	errPacked = fmt.Errorf("the repository sends more than %d MiB for one commit; keep templates in a repository "+
		"of their own", mostPacked>>20)
	errInflated = fmt.Errorf("the files of the repository have more than %d MiB; keep templates in a repository "+
		"of their own", mostInflated>>20)
)

// bounded keeps a repository in memory after it has measured what is sent.
type bounded struct{ *memory.Storage }

var _ storer.PackfileWriter = bounded{}

// PackfileWriter takes a pack as it comes.
func (b bounded) PackfileWriter() (io.WriteCloser, error) {
	return &pack{into: b.Storage}, nil
}

// pack is one that is being received.
type pack struct {
	bytes.Buffer
	into *memory.Storage
}

func (p *pack) Write(b []byte) (int, error) {
	if p.Len()+len(b) > mostPacked {
		return 0, errPacked
	}
	return p.Buffer.Write(b)
}

// Close measures the pack, and unpacks it if it is not too large.
func (p *pack) Close() error {
	if p.Len() == 0 {
		return nil
	}
	if err := measure(p.Bytes()); err != nil {
		return err
	}
	return packfile.UpdateObjectStorage(p.into, bytes.NewReader(p.Bytes()))
}

// measure adds up what the objects of a pack have once they are unpacked, without
// keeping any of it. Of a delta the size of its result stands in its first bytes.
func measure(pack []byte) error {
	s := packfile.NewScanner(bytes.NewReader(pack))
	defer s.Close()
	_, n, err := s.Header()
	if err != nil {
		return fmt.Errorf("what the repository sends cannot be read: %w", err)
	}
	total := int64(0)
	add := func(size int64) error {
		if size < 0 || size > mostInflated {
			return errInflated
		}
		if total += size; total > mostInflated {
			return errInflated
		}
		return nil
	}
	for range n {
		h, err := s.NextObjectHeader()
		if err != nil {
			return fmt.Errorf("what the repository sends cannot be read: %w", err)
		}
		if err := add(h.Length); err != nil {
			return err
		}
		head := &beginning{}
		if _, _, err := s.NextObject(head); err != nil {
			return fmt.Errorf("what the repository sends cannot be read: %w", err)
		}
		if h.Type != plumbing.OFSDeltaObject && h.Type != plumbing.REFDeltaObject {
			continue
		}
		size, err := resultOf(head.kept)
		if err != nil {
			return err
		}
		if err := add(size); err != nil {
			return err
		}
	}
	return nil
}

// beginning keeps the first bytes of what is written.
type beginning struct{ kept []byte }

func (b *beginning) Write(p []byte) (int, error) {
	if missing := 2*binary.MaxVarintLen64 - len(b.kept); missing > 0 {
		b.kept = append(b.kept, p[:min(missing, len(p))]...)
	}
	return len(p), nil
}

// resultOf reads the size of what a delta makes: two numbers lead it, the size of what it
// is made from and that of the result.
func resultOf(delta []byte) (int64, error) {
	_, n := binary.Uvarint(delta)
	if n <= 0 {
		return 0, errors.New("what the repository sends cannot be read")
	}
	size, n := binary.Uvarint(delta[n:])
	if n <= 0 || size > mostInflated {
		return 0, errInflated
	}
	return int64(size), nil
}
