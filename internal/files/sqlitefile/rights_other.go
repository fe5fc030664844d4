//go:build !unix

package sqlitefile

import "os"

// MayWrite reports whether this account may write to a file.
func MayWrite(path string) bool {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return false
	}
	return f.Close() == nil
}
