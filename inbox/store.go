package inbox

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
)

// Letters over this many bytes are kept in files, also by an inbox in memory.
const inMemory = 4 << 20

// A spool takes what a client sends: in memory, and from some size on in a file.
type spool struct {
	dir  string
	head bytes.Buffer
	file *os.File
	size int64
}

// Write implements [io.Writer].
func (s *spool) Write(p []byte) (int, error) {
	s.size += int64(len(p))
	if s.file == nil && s.head.Len()+len(p) <= inMemory {
		return s.head.Write(p)
	}
	if s.file == nil {
		f, err := os.CreateTemp(s.dir, "letter-*.part")
		if err != nil {
			return 0, err
		}
		s.file = f
		if _, err := f.Write(s.head.Bytes()); err != nil {
			return 0, err
		}
		s.head = bytes.Buffer{}
	}
	return s.file.Write(p)
}

// source returns what was written, from its beginning.
func (s *spool) source() (io.Reader, error) {
	if s.file == nil {
		return bytes.NewReader(s.head.Bytes()), nil
	}
	_, err := s.file.Seek(0, io.SeekStart)
	return s.file, err
}

// close removes what no letter has taken.
func (s *spool) close() {
	if s.file != nil {
		s.file.Close()
		os.Remove(s.file.Name())
	}
}

// keep stores a letter's source: in a file of its own if the inbox has a folder or the letter is large.
func (in *Inbox) keep(l *Letter, s *spool) error {
	l.Size = s.size
	if s.file == nil {
		l.Raw = s.head.Bytes()
	}
	if in.cfg.Dir == "" && s.file == nil {
		return nil
	}
	from, err := s.source()
	if err != nil {
		return err
	}
	if in.dir = cmp.Or(in.dir, in.cfg.Dir); in.dir == "" {
		if in.dir, err = os.MkdirTemp("", "illumicode-inbox-"); err != nil {
			return err
		}
	}
	name := filepath.Join(in.dir, fmt.Sprintf("%06d.eml", l.ID))
	to, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	if err = errors.Join(err, to.Close()); err != nil {
		os.Remove(name)
		return err
	}
	l.file = name
	return nil
}

// Open returns the letter's source. It fails once the letter has been removed to make room.
func (l *Letter) Open() (io.ReadCloser, error) {
	if l.Raw != nil {
		return io.NopCloser(bytes.NewReader(l.Raw)), nil
	}
	f, err := os.Open(l.file)
	if err != nil {
		return nil, fmt.Errorf("inbox: letter %d: %w", l.ID, err)
	}
	return f, nil
}

// weight is what a letter takes of the memory.
func (l *Letter) weight() int64 { return int64(len(l.Raw) + len(l.Text) + len(l.HTML)) }

// add takes a letter, and removes the oldest until all have room.
func (in *Inbox) add(l *Letter) {
	in.letters = append(in.letters, l)
	in.memory += l.weight()
	if l.file != "" {
		in.disk += l.Size
	}
	gone := 0
	for ; gone < len(in.letters)-1 && (len(in.letters)-gone > most || in.memory > in.cfg.Memory ||
		in.disk > in.cfg.Disk); gone++ {
		old := in.letters[gone]
		in.memory -= old.weight()
		if old.file != "" {
			in.disk -= old.Size
			os.Remove(old.file)
		}
	}
	in.letters = slices.Delete(in.letters, 0, gone)
}
