package session_test

import (
	"errors"
	"io/fs"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment"
	"anagram/internal/flow/session"
)

func TestAFullDiskIsNamed(t *testing.T) {
	assert.Equal(t, "There is no room left on the disk of /lab/parcels. Make room there and try again; nothing is half-written.",
		session.WithRoom(&fs.PathError{Op: "write", Path: "/lab/parcels/x", Err: syscall.ENOSPC}, "x"))
	assert.Contains(t, session.WithRoom(errors.New("database or disk is full (13)"), "x"), "the workspace, or on that of temporary files")
	own := &environment.Error{Message: "its disk is full.", Cause: syscall.ENOSPC}
	assert.Equal(t, "x", session.WithRoom(own, "x"), "an environment says so itself")
	assert.Equal(t, "x", session.WithRoom(errors.New("other"), "x"))
}
