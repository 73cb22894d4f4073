package guest

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path"
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
		h.guest.remove(r.Filepath)
		return nil
	case "Mkdir":
		h.guest.makeDir(r.Filepath)
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (h *fileHandlers) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	g, at := h.guest, path.Clean(r.Filepath)
	one := func(at string) (entry, bool) {
		text, file := g.read(at)
		return entry{path.Base(at), int64(len(text)), !file}, file || g.isDir(at)
	}
	if r.Method != "List" {
		e, there := one(at)
		if !there {
			return nil, fs.ErrNotExist
		}
		return entries{e}, nil
	}
	out := entries{}
	for _, base := range g.list(at) {
		e, _ := one(path.Join(at, base))
		out = append(out, e)
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
	u.guest.write(u.path, string(u.text))
	return nil
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
	dir  bool
}

func (e entry) Name() string { return e.name }
func (e entry) Size() int64  { return e.size }
func (e entry) Mode() fs.FileMode {
	if e.dir {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
func (e entry) ModTime() time.Time { return time.Time{} }
func (e entry) IsDir() bool        { return e.dir }
func (e entry) Sys() any           { return nil }
