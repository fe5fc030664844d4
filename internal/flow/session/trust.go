package session

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anagram/internal/core/limit"
	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/environment/connect"
	"anagram/internal/files/safe"
	"anagram/internal/store/trust"
	"anagram/internal/store/workspace"
)

// A workspace says where passwords come from and which servers get them. One that somebody
// else made is believed in that only once the person at work has looked at it.

// Stakes is what a workspace puts at stake.
type Stakes struct {
	Folder      string
	Parts       []trust.Part
	Fingerprint string
	Any         bool // something is at stake at all
	Given       bool // the person trusts it as it is
}

// Stakes tells what the workspace puts at stake.
func (s *Session) Stakes() (Stakes, error) {
	out := Stakes{Folder: s.Workspace.Dir}
	for _, e := range s.Workspace.Environments {
		where, err := s.where(e)
		if err != nil {
			return out, err
		}
		out.Parts = append(out.Parts, trust.Part{Environment: e.Name, Facts: s.facts(e, where)})
		out.Any = out.Any || atStake(e, where)
	}
	out.Fingerprint = trust.Fingerprint(out.Parts)
	var err error
	out.Given, err = trust.Given(s.Config, s.Workspace.Dir, out.Fingerprint)
	return out, err
}

// Trust keeps that the person trusts the workspace as it is.
func (s *Session) Trust(stakes Stakes) error {
	return trust.Give(s.Config, s.Workspace.Dir, stakes.Fingerprint, s.Stamp())
}

func (s *Session) where(e workspace.Environment) (environment.Where, error) {
	address := e.Connect
	if !e.IsServer() {
		address = s.Workspace.Path(e.Address())
	}
	return connect.Where(s.around(), e.Name, e.Scheme(), address)
}

// atStake reports whether opening an environment could give away what is the person's: a
// password from wherever the workspace says, or one that a driver finds by itself for a
// server that is not this machine; or an import could run what the workspace says.
func atStake(e workspace.Environment, where environment.Where) bool {
	return e.Password.Given() || e.IsServer() && !where.Here || e.Around.Statements() || e.Web.Certificate != ""
}

// facts says what an environment puts at stake, in words.
func (s *Session) facts(e workspace.Environment, where environment.Where) []string {
	if !e.IsServer() {
		return append([]string{"connects to " + e.Connect}, aroundFacts(e.Around)...)
	}
	text := "connects to " + where.Server
	if where.Account != "" {
		text += " as " + where.Account
	}
	if where.Database != "" {
		text += ", database " + where.Database
	}
	out := []string{text}
	for _, file := range where.Files {
		out = append(out, "uses the file "+file)
	}
	switch p := e.Password; {
	case p.Env != "":
		out = append(out, "sends the password that is in the environment variable "+p.Env)
	case p.File != "":
		out = append(out, "sends the password that is in the file "+p.File)
	case len(p.Command) > 0:
		words := make([]string, len(p.Command))
		for i, word := range p.Command {
			words[i] = show.Arg(word)
		}
		out = append(out, "runs the command "+strings.Join(words, " ")+" and sends what it prints as the password")
	case p.Keystore:
		out = append(out, "sends the password that the key store has for it")
	}
	out = append(out, s.webFacts(e.Web)...)
	if e.TLSOff {
		out = append(out, "takes a connection that is not proven to be the server's (tls: off)")
	}
	out = append(out, s.guardFacts(e)...)
	for _, of := range slices.Sorted(maps.Keys(e.Approvers)) {
		out = append(out, fmt.Sprintf("lets approve %s: %s", of, strings.Join(e.Approvers[of], ", ")))
	}
	for _, rule := range s.Workspace.Standing {
		if rule.Decide == "approve" {
			out = append(out, "decides in dockets: "+rule.String())
		}
	}
	if e.NoImports {
		out = append(out, "refuses imports")
	}
	return append(out, aroundFacts(e.Around)...)
}

// webFacts says what a service on the web gets.
func (s *Session) webFacts(w workspace.Web) []string {
	var out []string
	if w.Client != "" {
		out = append(out,
			fmt.Sprintf("sends the password as the secret of the client %s to %s, and what it gets for it to the service",
				show.Harmless(w.Client), show.Harmless(w.TokenAt)))
	}
	if w.Token {
		out = append(out, "sends the password as a token")
	}
	if w.Header != "" {
		out = append(out, "sends the password in the header "+w.Header)
	}
	for _, file := range []struct{ what, name string }{{"signs in with the certificate in ", w.Certificate},
		{"uses the key in ", w.CertificateKey}, {"believes the certificates in ", w.Authority}} {
		if file.name != "" {
			out = append(out, fmt.Sprintf("%s%s (%s)", file.what, file.name, s.sumOf(file.name)))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(w.Headers)) {
		out = append(out, "sends the header "+name+": "+show.Harmless(w.Headers[name]))
	}
	return out
}

// aroundFacts says what is run around an import.
func aroundFacts(a workspace.Around) []string {
	var out []string
	for _, of := range []struct {
		when       string
		statements []string
	}{{"before", a.Before}, {"after", a.After}} {
		for _, statement := range of.statements {
			out = append(out, "runs "+of.when+" an import: "+show.Harmless(statement))
		}
	}
	return out
}

// sumOf names the content of a small file, so that another one is noticed.
func (s *Session) sumOf(path string) string {
	text, err := safe.ReadSmall(s.Workspace.Path(path), limit.Configuration)
	if err != nil {
		return "not there"
	}
	sum := sha256.Sum256(text)
	return "sha256:" + hex.EncodeToString(sum[:8])
}

// trusted refuses an environment with something at stake that the person has not looked at.
func (s *Session) trusted(e workspace.Environment) error {
	where, err := s.where(e)
	if err != nil {
		return err
	}
	if !atStake(e, where) {
		return nil
	}
	stakes, err := s.Stakes()
	if err != nil {
		return fmt.Errorf("whether this workspace is trusted cannot be told: %w", err)
	}
	if stakes.Given {
		return nil
	}
	return Usage("%s %s. You have not said yet that you trust this workspace, or it changed since. Look at what it does, and say so, with: anagram trust", e.Name, strings.Join(s.facts(e, where), ", "))
}

// guardFacts says what an environment demands of what is imported into it.
func (s *Session) guardFacts(e workspace.Environment) []string {
	var out []string
	if e.Guard.Release != "" && e.Guard.Release != "off" {
		out = append(out, "guards imports: release "+e.Guard.Release)
	}
	if e.Guard.Approvals > 0 {
		out = append(out, fmt.Sprintf("guards imports: %d approvals", e.Guard.Approvals))
	}
	if e.Guard.Differs {
		out = append(out, "guards imports: who exported or matched does not count as an approver")
	}
	if e.Guard.Signed {
		out = append(out, fmt.Sprintf("guards imports: approvals are signed by keys of %s (%s)", e.Guard.Signers, s.sumOf(e.Guard.Signers)))
	}
	if len(e.Guard.Overrule) > 0 {
		out = append(out, "lets overrule declines: "+strings.Join(e.Guard.Overrule, ", "))
	}
	return out
}
