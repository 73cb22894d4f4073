package library

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
)

// Dir reads the files of a folder, and nothing else: regular files below it, through no
// link. A link could lead to a file that whoever wrote the template may not read. Close
// is not needed: the folder is held open as long as it is used.
func Dir(at string) (fs.FS, error) {
	root, err := os.OpenRoot(at)
	if err != nil {
		return nil, fmt.Errorf("open folder: %w", err)
	}
	return plain{root, root.FS()}, nil
}

// LinkError says that a link stands where a file is wanted.
type LinkError struct{ Path string }

func (e *LinkError) Error() string {
	return fmt.Sprintf("%s is a link; templates and what they embed must be files", e.Path)
}

// plain is a folder without links. Its root keeps everything inside, also when somebody
// puts a link into it between looking and opening.
type plain struct {
	root  *os.Root
	files fs.FS
}

// Open opens a regular file or a folder.
func (p plain) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	parts := strings.Split(name, "/")
	for i := range parts {
		at := path.Join(parts[:i+1]...)
		info, err := p.root.Lstat(at)
		if err != nil {
			return nil, err
		}
		switch mode := info.Mode(); {
		case mode&fs.ModeSymlink != 0:
			return nil, &LinkError{at}
		case !mode.IsRegular() && !mode.IsDir():
			return nil, fmt.Errorf("%s is neither a file nor a folder", at)
		}
	}
	return p.files.Open(name)
}
