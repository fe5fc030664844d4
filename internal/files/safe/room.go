package safe

import (
	"errors"
	"strings"
	"syscall"
)

// NoRoom reports whether an error says that a disk, or what somebody may use of it, is full.
func NoRoom(err error) bool {
	if err == nil {
		return false
	}
	// The SQLite driver has no error value for it: SQLITE_FULL (13).
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || strings.Contains(err.Error(), "database or disk is full")
}
