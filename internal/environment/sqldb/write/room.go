package write

import (
	"context"
	"fmt"
	"strings"
)

// How much is written at a time.

// maxWaiting bounds the bytes of values that are written at a time: large attachments go
// one by one, and no statement is longer than servers take as they are usually set up.
const maxWaiting = 2 << 20

// size is how many bytes the values of a statement have.
func (st statement) size() int {
	n := 0
	for _, stored := range st.Args {
		switch v := stored.(type) {
		case string:
			n += len(v)
		case []byte:
			n += len(v)
		}
	}
	return n
}

// tooLong refuses a statement that the server would not take: it would end the connection.
func (w *writer) tooLong(ctx context.Context, st statement) error {
	if w.Can.LongestStatement == nil {
		return nil
	}
	if w.longest == 0 {
		var err error
		if w.longest, err = w.Can.LongestStatement(ctx, w.Q); err != nil {
			return w.Explain(err)
		}
	}
	if n := st.written(); n > w.longest {
		return st.fail("",
			fmt.Errorf("its values need %d bytes in one statement, and the server takes at most %d. Raise max_allowed_packet there, or decline the record", n, w.longest))
	}
	return nil
}

// room is how many bytes may wait for one statement.
func (w *writer) room() int {
	if w.longest > 0 {
		return min(maxWaiting, w.longest/4)
	}
	return maxWaiting
}

// written is how long a statement is at most with its values in it.
func (st statement) written() int {
	n := len(st.Query) + 1024
	for _, more := range st.more { // a value may not be larger than a statement either
		n += int(more.left)
	}
	for _, stored := range st.Args {
		n += 32
		var text string
		switch v := stored.(type) {
		case string:
			text = v
		case []byte:
			text = string(v)
		default:
			continue
		}
		n += len(text)
		for _, c := range []string{"'", `"`, "\\", "\x00", "\n", "\r", "\x1a"} {
			n += strings.Count(text, c)
		}
	}
	return n
}
