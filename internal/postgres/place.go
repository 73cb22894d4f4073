package postgres

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// place makes the directory for the server. Below a directory that the server's
// user cannot enter (a 0700 temporary folder, /root) it would fail, so then it
// goes to a new folder in /var/tmp, whose path is kept in the wanted directory:
// whoever removes that directory begins with an empty database.
//
// The directory stays ours, and only the data in it is the server's: with the log and the
// passwords beside it the server's user, and whoever gets to be that by way of the database,
// could plant links that we would follow.
func place(dir string, owner *syscall.Credential) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return "", fmt.Errorf("make database directory: %w", err)
	}
	if owner == nil {
		return dir, os.Chmod(dir, 0o700)
	}
	if !enterable(filepath.Dir(dir), owner) {
		if dir, err = elsewhere(filepath.Join(dir, "place")); err != nil {
			return "", err
		}
	}
	info, err := os.Lstat(dir)
	if err != nil {
		return "", fmt.Errorf("the database was in %s: %w", dir, err)
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || !info.IsDir() || st.Uid != 0 && st.Uid != owner.Uid {
		return "", fmt.Errorf("%s belongs to somebody else", dir)
	}
	if st.Uid != 0 { // as older programs left it: what is no plain file there is not ours
		if err := os.Lchown(dir, 0, 0); err != nil {
			return "", err
		}
		for _, name := range []string{"server.log", "password"} {
			path := filepath.Join(dir, name)
			if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
				return "", fmt.Errorf("%s is no plain file; look into who put it there", path)
			} else if err == nil {
				if err := os.Lchown(path, 0, 0); err != nil {
					return "", err
				}
			}
		}
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return "", err
	}
	data := filepath.Join(dir, "data")
	if err := os.Mkdir(data, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	if info, err := os.Lstat(data); err != nil || !info.IsDir() {
		return "", fmt.Errorf("%s is no directory", data)
	}
	return dir, os.Lchown(data, int(owner.Uid), int(owner.Gid))
}

// elsewhere reads the folder that a file names, or makes one and names it.
func elsewhere(pointer string) (string, error) {
	known, err := os.ReadFile(pointer)
	if err == nil {
		return strings.TrimSpace(string(known)), nil
	}
	made, err := os.MkdirTemp("/var/tmp", "undersail-database-")
	if err != nil {
		return "", fmt.Errorf("make database directory: %w", err)
	}
	return made, os.WriteFile(pointer, []byte(made+"\n"), 0o600)
}

func enterable(dir string, owner *syscall.Credential) bool {
	for {
		info, err := os.Stat(dir)
		if err == nil {
			st, _ := info.Sys().(*syscall.Stat_t)
			mode := info.Mode().Perm()
			if !(mode&0o001 != 0 || st != nil && st.Uid == owner.Uid && mode&0o100 != 0 ||
				st != nil && st.Gid == owner.Gid && mode&0o010 != 0) {
				return false
			}
		}
		if dir == "/" {
			return true
		}
		dir = filepath.Dir(dir)
	}
}
