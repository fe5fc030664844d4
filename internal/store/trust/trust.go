// Package trust keeps which workspaces a person has looked at: what is in a shared one says
// where passwords come from and where they go.
//
// The contract: what a person trusts is a workspace's folder together with a fingerprint of
// everything that is at stake in it. It is kept in the person's own configuration folder,
// readable by nobody else, never in the workspace. A part that changed makes another
// fingerprint, which is asked for again.
package trust

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"anagram/internal/core/limit"
	"anagram/internal/files/safe"
)

// Part is what one environment of a workspace puts at stake.
type Part struct {
	Environment string
	Facts       []string // in words, each of them in the fingerprint
}

// Fingerprint tells parts from any others.
func Fingerprint(parts []Part) string {
	text, err := json.Marshal(parts)
	if err != nil {
		panic(err) // texts alone
	}
	sum := sha256.Sum256(append([]byte("anagram trust 1\n"), text...))
	return hex.EncodeToString(sum[:16])
}

// given is one line of what a person trusts.
type given struct {
	Folder      string `json:"folder"`
	Fingerprint string `json:"fingerprint"`
	At          string `json:"at"`
}

// path is the file in the person's configuration folder.
func path(config string) (string, error) {
	if !filepath.IsAbs(config) {
		return "", errors.New("your configuration folder is not known: set XDG_CONFIG_HOME or HOME to a folder of yours")
	}
	return filepath.Join(config, "anagram", "trusted.json"), nil
}

func read(config string) ([]given, error) {
	file, err := path(config)
	if err != nil {
		return nil, err
	}
	text, err := safe.ReadSmall(file, limit.Configuration)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []given
	if err := json.Unmarshal(text, &out); err != nil {
		return nil, fmt.Errorf("%s is damaged (%w). Remove it; what was trusted is asked for again", file, err)
	}
	return out, nil
}

// folderOf is a workspace's folder as it is kept, whatever way leads there.
func folderOf(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(dir)
}

// Given reports, from the person's configuration folder, whether the person trusts the workspace in a folder with this fingerprint.
func Given(config, dir, fingerprint string) (bool, error) {
	folder, err := folderOf(dir)
	if err != nil {
		return false, err
	}
	list, err := read(config)
	for _, one := range list {
		if one.Folder == folder && one.Fingerprint == fingerprint {
			return true, nil
		}
	}
	return false, err
}

// Give keeps that the person trusts the workspace in a folder with this fingerprint, and no
// longer with another one.
func Give(config, dir, fingerprint, at string) error {
	folder, err := folderOf(dir)
	if err != nil {
		return err
	}
	list, err := read(config)
	if err != nil {
		return err
	}
	out := []given{{folder, fingerprint, at}}
	for _, one := range list {
		if one.Folder != folder {
			out = append(out, one)
		}
	}
	const most = 1000 // workspaces; the oldest are asked for again
	text, err := json.MarshalIndent(out[:min(len(out), most)], "", "  ")
	if err != nil {
		return err
	}
	file, err := path(config)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return safe.Replace(filepath.Dir(file), file, append(text, '\n'))
}
