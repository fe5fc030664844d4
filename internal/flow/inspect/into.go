package inspect

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"anagram/internal/core/catalog"
	"anagram/internal/core/draft"
	"anagram/internal/core/limit"
	"anagram/internal/files/safe"
	"anagram/internal/flow/session"
)

// DraftInto brings what is new in the environments into a catalog that there is, and leaves
// all else in it as it stands. Name is the file's for messages.
func DraftInto(ctx context.Context, s *session.Session, of Drafting, path, name string) (draft.Brought, error) {
	source, err := safe.ReadSmall(path, limit.Configuration)
	if errors.Is(err, os.ErrNotExist) {
		return draft.Brought{}, session.Usage("There is no %s; a new catalog is written with --out %s", name, name)
	}
	if err != nil {
		return draft.Brought{}, err
	}
	c, err := catalog.Parse(name, source)
	if err != nil {
		return draft.Brought{}, err
	}
	d, err := drafted(ctx, s, of)
	if err != nil {
		return draft.Brought{}, err
	}
	brought, err := d.Into(c, of.Environments, of.Wish.With)
	if err != nil {
		return brought, session.Usage("Nothing was brought into %s: %s", name, strings.TrimSuffix(err.Error(), "."))
	}
	if len(brought.Added) == 0 {
		return brought, nil
	}
	if now, err := safe.ReadSmall(path, limit.Configuration); err != nil || string(now) != string(source) {
		return brought, session.Usage("%s was changed while it was drafted; nothing was brought into it. Try again", name)
	}
	return brought, safe.Replace(filepath.Dir(path), path, brought.Text)
}
