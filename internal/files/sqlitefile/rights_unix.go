//go:build unix

package sqlitefile

import "golang.org/x/sys/unix"

// MayWrite reports whether this account may write to a file, without opening it.
func MayWrite(path string) bool {
	return unix.Faccessat(unix.AT_FDCWD, path, unix.W_OK, unix.AT_EACCESS) == nil
}
