package safe_test

import (
	"errors"
	"fmt"
	"io/fs"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/files/safe"
)

func TestADiskThatIsFull(t *testing.T) {
	for _, err := range []error{syscall.ENOSPC, fmt.Errorf("copying: %w", &fs.PathError{Op: "write", Path: "x", Err: syscall.EDQUOT}),
		errors.New("database or disk is full (13)")} {
		assert.True(t, safe.NoRoom(err), err)
	}
	for _, err := range []error{nil, syscall.EACCES, errors.New("the field is full")} {
		assert.False(t, safe.NoRoom(err), err)
	}
}
