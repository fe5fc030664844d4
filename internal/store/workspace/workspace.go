// Package workspace finds and reads a workspace: the folder with anagram.yaml,
// catalog.yaml, the library of parcels and the dockets.
//
// The contract: Open reads the configuration and refuses what it does not know, with
// file, line and the nearest valid word. Nothing secret is ever kept in a workspace.
package workspace

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"anagram/internal/core/catalog"
	"anagram/internal/core/limit"
	"anagram/internal/core/show"
	"anagram/internal/core/yamldoc"
	"anagram/internal/files/safe"
)

// ConfigName is the file that makes a folder a workspace.
const ConfigName = "anagram.yaml"

// Workspace is an open workspace. Its catalog is read when first asked for.
type Workspace struct {
	Dir          string
	Environments []Environment // in the file's order
	MustAgree    []Setting     // that have to be equal on both sides
	Selections   map[string]Selection
	Standing     []Rule   // decisions by rule
	People       []string // whose approvals count; empty where anybody's do
	catalogPath  string
	catalogFile  string // where another file than the workspace's is asked for
}

// Environment is a place where records live, as anagram.yaml describes it.
type Environment struct {
	Name     string
	Connect  string // scheme:address
	Password Password
	Release  Release
	Guard    Guard
	Zone     *time.Location // of times without zone; nil asks the environment
	// Approvers say who may approve which record types or areas, "*" for everything else; nil
	// lets everybody.
	Approvers map[string][]string
	NoImports bool // it is only ever a source
	Around    Around
	TLSOff    bool // a password may go over a connection that is not proven to be the server's
	Web       Web
	MadeFrom  MadeFrom
	Line      int
}

// Setting is a record that holds one value, and the field it is in; "" is the only one.
type Setting struct{ Setting, Field string }

// Name is what messages call it.
func (s Setting) Name() string {
	if s.Field == "" {
		return s.Setting
	}
	return s.Setting + " (" + s.Field + ")"
}

// Release says where an environment's release is to be had: a text, or a setting.
type Release struct {
	Text    string
	Setting string // address of the record that holds it
	Field   string // that holds it there; "" is the only one
}

// Web says how a service is reached over the web, beyond its address.
type Web struct {
	Token          bool              `yaml:"token"`    // the password is a token
	Header         string            `yaml:"header"`   // in which the password is sent
	Client         string            `yaml:"client"`   // whose secret the password is; a token is had for it at TokenAt
	TokenAt        string            `yaml:"token_at"` // URL
	Scope          string            `yaml:"scope"`
	Certificate    string            `yaml:"certificate"`     // file, relative to the workspace, as the next two
	CertificateKey string            `yaml:"certificate_key"` // file; "" is the same
	Authority      string            `yaml:"authority"`       // file with the certificates that are believed
	Headers        map[string]string `yaml:"headers"`         // sent with each request
	PerSecond      float64           `yaml:"requests_a_second"`
	AtOnce         int               `yaml:"at_once"`
	Page           int               `yaml:"page"`  // rows asked for at a time
	Wait           int               `yaml:"wait"`  // seconds for an answer
	Batch          string            `yaml:"batch"` // how it takes several requests at a time; "" finds out
}

// Around is what is done before and after an import into an environment.
type Around struct {
	// Before and After are statements for the database: After runs whatever became of the import.
	Before, After []string
	// RemindBefore and RemindAfter are things for people to do.
	RemindBefore, RemindAfter []string
}

// Statements reports whether anything is run.
func (a Around) Statements() bool { return len(a.Before)+len(a.After) > 0 }

// Any reports whether there is anything at all.
func (a Around) Any() bool { return a.Statements() || len(a.RemindBefore)+len(a.RemindAfter) > 0 }

// Same reports whether it is the same as another.
func (a Around) Same(b Around) bool {
	return slices.Equal(a.Before, b.Before) && slices.Equal(a.After, b.After) && slices.Equal(a.RemindBefore, b.RemindBefore) &&
		slices.Equal(a.RemindAfter, b.RemindAfter)
}

// IsServer reports whether an environment is reached over a connection, not in files.
func (e Environment) IsServer() bool { return e.Scheme() != "sqlite" && e.Scheme() != "folder" }

// Given reports whether there is a way to a password at all.
func (p Password) Given() bool {
	return p.Env != "" || p.File != "" || len(p.Command) > 0 || p.Keystore
}

// Password says where the password of an environment is to be had; the password itself
// is never in the workspace. At most one member is set.
type Password struct {
	Env      string   // name of an environment variable
	File     string   // path of a file, relative to the workspace
	Command  []string // program and arguments that print it
	Keystore bool     // the operating system's key store, filled by anagram env login
}

// Scheme gives the part of Connect before the colon, and Address the rest.
func (e Environment) Scheme() string { scheme, _, _ := strings.Cut(e.Connect, ":"); return scheme }

// Address gives the part of Connect after the scheme.
func (e Environment) Address() string { _, rest, _ := strings.Cut(e.Connect, ":"); return rest }

// Error is a workspace that is not as it has to be.
type Error struct {
	Message string
	Cause   error
}

func (e *Error) Error() string { return e.Message }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

type configForm struct {
	Catalog      string                     `yaml:"catalog"`
	MustAgree    []settingForm              `yaml:"must_agree"`
	Environments map[string]environmentForm `yaml:"environments"`
	Selections   map[string]Selection       `yaml:"selections"`
	Standing     []ruleForm                 `yaml:"standing"`
	People       []string                   `yaml:"people"`
}

type environmentForm struct {
	Connect   string              `yaml:"connect"`
	Password  passwordForm        `yaml:"password"`
	Release   releaseForm         `yaml:"release"`
	Guard     guardForm           `yaml:"guard"`
	Zone      string              `yaml:"zone"`
	TLS       string              `yaml:"tls"`
	Approvers map[string][]string `yaml:"approvers"`
	Imports   string              `yaml:"imports"`
	Around    aroundForm          `yaml:"around_import"`
	Web       Web                 `yaml:"web"`
	MadeFrom  madeFromForm        `yaml:"made_from"`
}

type aroundForm struct {
	Before []string `yaml:"before"`
	After  []string `yaml:"after"`
	Remind struct {
		Before []string `yaml:"before"`
		After  []string `yaml:"after"`
	} `yaml:"remind"`
}

// releaseForm is a text, or the setting that holds it.
type releaseForm struct {
	Text    string `yaml:"-"`
	Setting string `yaml:"setting"`
	Field   string `yaml:"field"`
}

// settingForm is the address of a setting, or with its field.
type settingForm struct {
	Setting string `yaml:"setting"`
	Field   string `yaml:"field"`
}

// UnmarshalYAML reads a text or a map.
func (f *settingForm) UnmarshalYAML(decode func(any) error) error {
	type plain settingForm
	return yamldoc.TextOr(decode, &f.Setting, (*plain)(f))
}

// UnmarshalYAML reads a text or a map.
func (f *releaseForm) UnmarshalYAML(decode func(any) error) error {
	type plain releaseForm
	return yamldoc.TextOr(decode, &f.Text, (*plain)(f))
}

type passwordForm struct {
	Env      string   `yaml:"env"`
	File     string   `yaml:"file"`
	Command  []string `yaml:"command"`
	Keystore bool     `yaml:"keystore"`
}

// ways counts how many ways to the password are given.
func (p passwordForm) ways() int {
	n := 0
	for _, given := range []bool{p.Env != "", p.File != "", len(p.Command) > 0, p.Keystore} {
		if given {
			n++
		}
	}
	return n
}

// Find gives the nearest folder with an anagram.yaml, from a folder upwards.
func Find(from string) (string, error) {
	start, err := filepath.Abs(from)
	if err != nil {
		return "", err
	}
	for dir := start; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, ConfigName)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "",
				&Error{Message: fmt.Sprintf("There is no %s in %s or above it. Start a workspace with: anagram init, or name one with --workspace.", ConfigName, start)}
		}
	}
}

// Open reads the configuration of the workspace in a folder.
func Open(dir string) (*Workspace, error) {
	path := filepath.Join(dir, ConfigName)
	source, err := safe.ReadSmall(path, limit.Configuration)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &Error{Message: fmt.Sprintf("There is no %s in %s. Start a workspace there with: anagram init %s", ConfigName,
			dir, show.Arg(dir)), Cause: err}
	}
	if err != nil {
		return nil, &Error{Message: err.Error() + ".", Cause: err}
	}
	doc, err := yamldoc.Parse(ConfigName, source)
	if err != nil {
		return nil, err
	}
	var form configForm
	if err := doc.Decode(&form); err != nil {
		return nil, err
	}
	w := &Workspace{Dir: dir, Selections: form.Selections, catalogPath: "catalog.yaml"}
	if form.Catalog != "" {
		w.catalogPath = form.Catalog
	}
	for i, one := range form.MustAgree {
		if one.Setting == "" {
			return nil, doc.Errorf([]string{"must_agree", fmt.Sprint(i)},
				"must_agree: names no setting; write its address, or {setting: ADDRESS, field: FIELD}")
		}
		w.MustAgree = append(w.MustAgree, Setting(one))
	}
	for _, name := range doc.Names("environments") {
		e, err := readEnvironment(doc, name, form.Environments[name])
		if err != nil {
			return nil, err
		}
		w.Environments = append(w.Environments, e)
	}
	if err := w.copies(doc); err != nil {
		return nil, err
	}
	if w.People, err = readPeople(doc, form.People); err != nil {
		return nil, err
	}
	if w.Standing, err = readRules(doc, form.Standing); err != nil {
		return nil, err
	}
	return w, nil
}

func readEnvironment(doc *yamldoc.Document, name string, described environmentForm) (Environment, error) {
	e := Environment{Name: name, Connect: described.Connect, Password: Password(described.Password),
		Release: Release(described.Release), Guard: Guard(described.Guard), Line: doc.Line("environments", name, "connect")}
	at := []string{"environments", name, "connect"}
	switch {
	case e.Connect == "":
		return e, doc.Errorf(at, "environment %s has no connect:, such as connect: sqlite:data/%s.db", name, name)
	case !slices.Contains(Schemes(), e.Scheme()):
		if !plainWord.MatchString(e.Scheme()) {
			return e, doc.Errorf(at, "environment %s: connect: begins with none of %s", name, strings.Join(withColon(Schemes()), ", "))
		}
		return e, doc.Unknown(at, "way to connect", e.Scheme()+":", withColon(Schemes()))
	case e.Address() == "":
		return e, doc.Errorf(at, "environment %s: nothing follows %s:", name, e.Scheme())
	case wrongAddress(e) != "":
		return e, doc.Errorf(at, "environment %s: %s", name, wrongAddress(e))
	case !slices.Contains([]string{"", "exact", "minor", "off"}, described.Guard.Release):
		return e, doc.Unknown([]string{"environments", name, "guard", "release"}, "release policy", described.Guard.Release,
			[]string{"exact", "minor", "off"})
	case described.Password.ways() > 1:
		return e, doc.Errorf([]string{"environments", name, "password"},
			"environment %s: password: names more than one way; keep one of them", name)
	}
	if described.TLS != "" && described.TLS != "off" {
		return e, doc.Unknown([]string{"environments", name, "tls"}, "word for tls:", described.TLS, []string{"off"})
	}
	e.TLSOff = described.TLS == "off"
	if err := readGuard(doc, name, described, &e); err != nil {
		return e, err
	}
	if err := readAround(doc, name, described.Around, &e); err != nil {
		return e, err
	}
	if err := readWeb(doc, name, described.Web, &e); err != nil {
		return e, err
	}
	if described.Zone != "" {
		var err error
		if e.Zone, err = time.LoadLocation(described.Zone); err != nil || described.Zone == "Local" {
			return e, doc.Errorf([]string{"environments", name, "zone"},
				"environment %s: zone: %q is not known; it looks like Europe/Berlin or UTC", name, described.Zone)
		}
	}
	return e, readMadeFrom(doc, name, described.MadeFrom, &e)
}

// readAround reads what is done before and after an import.
func readAround(doc *yamldoc.Document, name string, described aroundForm, e *Environment) error {
	e.Around = Around{Before: described.Before, After: described.After, RemindBefore: described.Remind.Before,
		RemindAfter: described.Remind.After}
	at := []string{"environments", name, "around_import"}
	for _, text := range slices.Concat(e.Around.Before, e.Around.After, e.Around.RemindBefore, e.Around.RemindAfter) {
		if strings.TrimSpace(text) == "" {
			return doc.Errorf(at, "environment %s: around_import: holds an empty text", name)
		}
		if len(text) > limit.Words*4 {
			return doc.Errorf(at, "environment %s: around_import: holds a text of %d bytes; %d are the most", name, len(text),
				limit.Words*4)
		}
	}
	if e.Around.Statements() && e.Scheme() == "folder" {
		return doc.Errorf(at, "environment %s: around_import: a folder of files runs no statements; only remind: goes with it", name)
	}
	if e.Around.Statements() && e.IsWeb() {
		return doc.Errorf(at, "environment %s: around_import: a service on the web runs no statements; only remind: goes with it", name)
	}
	return nil
}

// Schemes lists the ways to connect.
func Schemes() []string {
	return []string{"sqlite", "postgres", "mysql", "folder", "odata+https", "odata+http", "scim+https", "scim+http"}
}

// IsWeb reports whether an environment is a service on the web.
func (e Environment) IsWeb() bool { return strings.Contains(e.Scheme(), "+http") }

func withColon(words []string) []string {
	out := make([]string, len(words))
	for i, word := range words {
		out[i] = word + ":"
	}
	return out
}

// Environment finds an environment by name.
func (w *Workspace) Environment(name string) (Environment, error) {
	names := map[string]bool{}
	for _, e := range w.Environments {
		if e.Name == name {
			return e, nil
		}
		names[e.Name] = true
	}
	return Environment{}, &Error{Message: fmt.Sprintf("%s describes no environment %q%s", ConfigName, name,
		yamldoc.Nearest(name, slices.Collect(maps.Keys(names))))}
}

// Path makes a path of the configuration absolute; it is relative to the workspace.
func (w *Workspace) Path(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(w.Dir, path)
}

// CatalogName is the catalog's path as messages name it.
func (w *Workspace) CatalogName() string { return w.catalogPath }

// Catalog reads the workspace's catalog.
func (w *Workspace) Catalog() (*catalog.Catalog, error) {
	path := w.Path(w.catalogPath)
	if w.catalogFile != "" {
		path = w.catalogFile
	}
	source, err := safe.ReadSmall(path, limit.Configuration)
	if errors.Is(err, os.ErrNotExist) {
		return nil,
			&Error{Message: fmt.Sprintf("There is no catalog %s in %s. Write one; docs/formats.md shows its form, and anagram init makes an example.", w.catalogPath, w.Dir), Cause: err}
	}
	if err != nil {
		return nil, &Error{Message: err.Error() + ".", Cause: err}
	}
	return catalog.Again(w.catalogPath, source)
}

// Folders of a workspace, made when first needed.
func (w *Workspace) folder(name string) (string, error) {
	dir := filepath.Join(w.Dir, name)
	at := w.Dir
	for part := range strings.SplitSeq(filepath.ToSlash(name), "/") {
		at = filepath.Join(at, part)
		if info, err := os.Lstat(at); err == nil && !info.IsDir() {
			return dir,
				&Error{Message: fmt.Sprintf("%s is a link or a file, not a folder of this workspace; nothing is written through it. Remove it and try again.", at)}
		}
	}
	return dir, os.MkdirAll(dir, 0o700)
}

// Parcels gives the folder of the library.
func (w *Workspace) Parcels() (string, error) { return w.folder("parcels") }

// Dockets gives the folder of the dockets.
func (w *Workspace) Dockets() (string, error) { return w.folder("dockets") }

// Scratch gives the folder for temporary files, on the same file system as the rest.
func (w *Workspace) Scratch() (string, error) { return w.folder(filepath.Join(".anagram", "scratch")) }

// Agreed gives the folder of the agreed values.
func (w *Workspace) Agreed() (string, error) { return w.folder(filepath.Join(".anagram", "agreed")) }

// DocketPath gives the file of a docket.
func (w *Workspace) DocketPath(number int) string {
	return filepath.Join(w.Dir, "dockets", fmt.Sprintf("%04d.docket", number))
}

// DocketNumbers lists the dockets of the workspace, oldest first.
func (w *Workspace) DocketNumbers() ([]int, error) {
	entries, err := os.ReadDir(filepath.Join(w.Dir, "dockets"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []int
	for _, entry := range entries {
		base, ok := strings.CutSuffix(entry.Name(), ".docket")
		if n, err := strconv.Atoi(base); ok && err == nil {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out, nil
}

// FirstDocket gives the lowest number that a docket has, 0 where there is none.
func (w *Workspace) FirstDocket() (int, error) {
	numbers, err := w.DocketNumbers()
	if err != nil || len(numbers) == 0 {
		return 0, err
	}
	return numbers[0], nil
}
