package safe

import (
	"fmt"
	"io"
	"os"
)

// ReadSmall reads a plain file of at most so many bytes. What is no plain file, and could
// hang or never end, is refused.
func ReadSmall(path string, most int64) ([]byte, error) {
	f, err := OpenPlain(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = fmt.Errorf("%s is larger than %d bytes, which is the most that is read", path, most)
	}
	return text, err
}

// OpenPlain opens a plain file for reading. Nothing else is: a pipe would wait for somebody
// to write.
func OpenPlain(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", path)
	}
	return os.Open(path)
}
