package form

import (
	"errors"
	"io"

	"anagram/internal/core/record"
)

// Attachments stand in a docket in parts, so that none of them is ever held whole.

// PartSize is how many bytes a part has, but the last.
const PartSize = 1 << 20

// Content gives the parts of a value's content to save; there is one at least.
func Content(v record.Value, save func(part int, data []byte) error) error {
	if v.Content() == nil {
		return nil
	}
	in, err := v.Content().Open()
	if err != nil {
		return err
	}
	defer in.Close()
	buffer := make([]byte, PartSize)
	for part := 0; ; part++ {
		n, err := io.ReadFull(in, buffer)
		end := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !end {
			return err
		}
		if n > 0 || part == 0 {
			if err := save(part, append([]byte{}, buffer[:n]...)); err != nil {
				return err
			}
		}
		if end {
			return nil
		}
	}
}
