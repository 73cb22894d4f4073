package guest

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pkg/sftp"
)

// takeFiles serves the files of the machine over SFTP on a channel.
func (g *Guest) takeFiles(channel io.ReadWriteCloser) {
	h := &fileHandlers{g}
	server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
	server.Serve()
	server.Close()
}

type fileHandlers struct{ guest *Guest }

func (h *fileHandlers) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	content, ok := h.guest.read(r.Filepath)
	if !ok {
		return nil, fs.ErrNotExist
	}
	return strings.NewReader(content), nil
}

func (h *fileHandlers) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	return &upload{guest: h.guest, path: r.Filepath}, nil
}

func (h *fileHandlers) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Setstat":
		return nil
	case "Remove":
		h.guest.mu.Lock()
		defer h.guest.mu.Unlock()
		delete(h.guest.files, r.Filepath)
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (h *fileHandlers) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	h.guest.mu.Lock()
	defer h.guest.mu.Unlock()
	var out entries
	for at, content := range h.guest.files {
		if r.Method == "List" && path.Dir(at) == path.Clean(r.Filepath) || r.Method != "List" && at == r.Filepath {
			out = append(out, entry{path.Base(at), int64(len(content))})
		}
	}
	slices.SortFunc(out, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	if r.Method != "List" && len(out) == 0 {
		return nil, fs.ErrNotExist
	}
	return out, nil
}

// upload gathers what is written to a file and keeps it when it is closed.
type upload struct {
	guest *Guest
	path  string
	text  []byte
}

// mostFile is how large a file of a machine may be.
const mostFile = 16 << 20

func (u *upload) WriteAt(b []byte, at int64) (int, error) {
	end := at + int64(len(b))
	if end > mostFile {
		return 0, sftp.ErrSSHFxFailure
	}
	if more := end - int64(len(u.text)); more > 0 {
		u.text = append(u.text, bytes.Repeat([]byte{0}, int(more))...)
	}
	return copy(u.text[at:], b), nil
}

func (u *upload) Close() error {
	u.guest.mu.Lock()
	defer u.guest.mu.Unlock()
	u.guest.files[u.path] = string(u.text)
	return nil
}

// read gives a file of the machine.
func (g *Guest) read(path string) (string, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	content, ok := g.files[path]
	return content, ok
}

type entries []os.FileInfo

func (e entries) ListAt(into []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(e)) {
		return 0, io.EOF
	}
	n := copy(into, e[at:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

type entry struct {
	name string
	size int64
}

func (e entry) Name() string       { return e.name }
func (e entry) Size() int64        { return e.size }
func (e entry) Mode() fs.FileMode  { return 0o644 }
func (e entry) ModTime() time.Time { return time.Time{} }
func (e entry) IsDir() bool        { return false }
func (e entry) Sys() any           { return nil }
