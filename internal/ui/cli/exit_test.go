package cli

import (
	"errors"
	"io/fs"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/environment"
)

func TestAFullDiskIsNamed(t *testing.T) {
	assert.Equal(t, "There is no room left on the disk of /work/parcels. Make room there and try again; nothing is half-written.",
		withRoom(&fs.PathError{Op: "write", Path: "/work/parcels/x", Err: syscall.ENOSPC}, "x"))
	assert.Contains(t, withRoom(errors.New("database or disk is full (13)"), "x"), "the workspace, or on that of temporary files")
	own := &environment.Error{Message: "its disk is full.", Cause: syscall.ENOSPC}
	assert.Equal(t, "x", withRoom(own, "x"), "an environment says so itself")
	assert.Equal(t, "x", withRoom(errors.New("other"), "x"))
}
