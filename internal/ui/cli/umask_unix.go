//go:build unix

package cli

import "golang.org/x/sys/unix"

// ownFilesOnly makes whatever this run writes readable by its person alone, files that
// libraries make included.
func ownFilesOnly() { unix.Umask(unix.Umask(0o077) | 0o077) }
