package standing

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/yamldoc"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
)

// Demand is what the target's guard asks of approvals. The zero value asks for nothing.
type Demand struct {
	target    string
	approvals int
	apart     map[string]string // people whose approval does not count, and why
	signed    bool              // only signed approvals count
	signers   sshsig.Allowed
	now       time.Time
	may       func(typ string) (people []string, limited bool)
	people    []string // whose approvals count at all; empty where anybody's do
}

// Demanded gives what the workspace demands of the approvals of a docket; nothing where it
// does not know the target. A name under approvers: that is no type, no area and not "*" is an
// error.
func Demanded(s *session.Session, of *docket.Docket) (Demand, error) {
	e, err := s.Workspace.Environment(of.Header.Target)
	if err != nil || of.Header.TargetParcel != "" {
		return Demand{}, nil //nolint:nilerr // whoever has the docket alone reviews it all the same
	}
	h, c := of.Header, of.Catalog
	for _, name := range slices.Sorted(maps.Keys(e.Approvers)) {
		_, isType := c.Type(name)
		if _, isArea := c.Area(name); !isType && !isArea && name != "*" {
			return Demand{},
				session.Usage("%s: environment %s: approvers: names %q, which is neither a record type nor an area of the catalog%s", workspace.ConfigName, e.Name, name, yamldoc.Nearest(name, namesOf(c)))
		}
	}
	d := Demand{target: e.Name, approvals: e.Guard.Approvals, apart: map[string]string{}, signed: e.Guard.Signed, now: s.Now(),
		people: s.Workspace.People}
	if e.Guard.Signed {
		if d.signers, err = readSigners(s, e.Name, e.Guard.Signers); err != nil {
			return d, err
		}
	}
	if e.Guard.Differs {
		for _, one := range h.Resealed {
			d.apart[decision.Name(one.By)] = "edited"
		}
		d.apart[decision.Name(h.MatchedBy)] = "matched"
		if decision.Name(h.ExportedBy) == decision.Name(h.MatchedBy) {
			d.apart[decision.Name(h.ExportedBy)] = "exported and matched"
		} else {
			d.apart[decision.Name(h.ExportedBy)] = "exported"
		}
	}
	if len(e.Approvers) > 0 {
		d.may = func(typ string) ([]string, bool) { return decision.MayApprove(e.Approvers, c, typ), true }
	}
	if d.approvals == 0 && (len(d.people) > 0 || e.Guard.Differs || e.Guard.Signed || len(e.Approvers) > 0) {
		d.approvals = 1
	}
	return d, nil
}

func namesOf(c *catalog.Catalog) []string {
	names := []string{"*"}
	for _, t := range c.Types {
		names = append(names, t.Name)
	}
	for _, area := range c.Areas {
		names = append(names, area.Name)
	}
	return names
}

// spoken is what people said of approved findings.
type spoken struct {
	by       map[personOn]*decision.Person
	people   map[int64][]string  // by finding, in the order in which they first spoke
	unsigned map[int64][]string  // whose approvals do not count as they are not signed
	keys     map[personOn]string // the key under a person's approval
	proofs   signatures
}

type personOn struct {
	finding int64
	who     string
}

// listen reads the log for what people said of approved findings. An approval that would have
// to be signed and is not takes nothing back that was said before.
func (d Demand) listen(ctx context.Context, of *docket.Docket, approved []*Approval) (spoken, error) {
	out := spoken{by: map[personOn]*decision.Person{}, people: map[int64][]string{}, unsigned: map[int64][]string{},
		keys: map[personOn]string{}}
	log, err := of.Log(ctx)
	if err != nil {
		return out, err
	}
	if d.signed {
		if out.proofs, err = readSignatures(ctx, of, d.signers, d.now); err != nil {
			return out, err
		}
	}
	wanted := map[int64]*Approval{}
	for _, a := range approved {
		wanted[a.ID] = a
	}
	for i, e := range log {
		a := wanted[e.Finding]
		switch {
		case a == nil || e.Rule:
		case d.signed && e.Decision == decision.Approved && !out.proofs.counts(a.Address, e):
			if !slices.Contains(out.unsigned[e.Finding], e.Who) {
				out.unsigned[e.Finding] = append(out.unsigned[e.Finding], e.Who)
			}
		default:
			if d.signed && e.Decision == decision.Approved {
				out.keys[personOn{e.Finding, decision.Name(e.Who)}] = out.proofs.keyOf(a.Address, e)
			}
			out.hear(e, i+1)
		}
	}
	return out, nil
}

// hear takes one entry of a log.
func (s spoken) hear(e docket.LogEntry, seq int) {
	k := personOn{e.Finding, decision.Name(e.Who)}
	if s.by[k] == nil {
		s.by[k] = &decision.Person{}
		s.people[e.Finding] = append(s.people[e.Finding], e.Who)
	}
	s.by[k].Hear(decision.Word{Decision: e.Decision, Field: e.Field, At: e.At}, seq)
}

// lacks gives for each approval what is missing of what is demanded, in words and in people.
func (d Demand) lacks(ctx context.Context, of *docket.Docket, approved []*Approval) (map[int64]check.Check, map[int64]int, error) {
	if d.approvals == 0 {
		return nil, nil, nil
	}
	heard, err := d.listen(ctx, of, approved)
	if err != nil {
		return nil, nil, err
	}
	out, missing := map[int64]check.Check{}, map[int64]int{}
	for _, a := range approved {
		var count, apart []string
		withKey := map[string]string{}
		for _, who := range heard.people[a.ID] {
			if !heard.by[personOn{a.ID, decision.Name(who)}].Wants(a.writing()) {
				continue
			}
			key := heard.keys[personOn{a.ID, decision.Name(who)}]
			if why := d.discounts(who, a.Type); why != "" {
				apart = append(apart, why)
			} else if other, twice := withKey[key]; key != "" && twice {
				apart = append(apart, fmt.Sprintf("%s signed with the same key as %s and does not count beside them.", who, other))
			} else {
				withKey[key] = who
				count = append(count, who)
			}
		}
		for _, who := range heard.unsigned[a.ID] {
			if !slices.Contains(count, who) {
				apart = append(apart, heard.proofs.not(who, a.Address))
			}
		}
		if c, bad := check.Approvals(a.Address, d.target, d.approvals, count, apart); bad {
			out[a.ID], missing[a.ID] = c, d.approvals-len(count)
		}
	}
	return out, missing, nil
}

// Discounts reports whether a person's approval of records of a type does not count.
func (d Demand) Discounts(who, typ string) bool {
	return d.approvals > 0 && d.discounts(who, typ) != ""
}

// Counts tells how many people have to approve a record, 0 where it is not asked for.
func (d Demand) Counts() int { return d.approvals }

// discounts says why a person's approval does not count; "" where it does.
func (d Demand) discounts(who, typ string) string {
	if did, ok := d.apart[decision.Name(who)]; ok {
		return fmt.Sprintf("%s %s it and does not count.", who, did)
	}
	if len(d.people) > 0 && !slices.ContainsFunc(d.people, func(p string) bool { return decision.Name(p) == decision.Name(who) }) {
		return fmt.Sprintf("%s is none of people: in anagram.yaml and does not count.", who)
	}
	if d.may == nil {
		return ""
	}
	if people, limited := d.may(typ); limited && !slices.ContainsFunc(people,
		func(p string) bool { return decision.Name(p) == decision.Name(who) }) {
		if len(people) == 0 {
			return fmt.Sprintf("%s may not approve %s; nobody may.", who, typ)
		}
		return fmt.Sprintf("%s may not approve %s; %s may.", who, typ, strings.Join(people, ", "))
	}
	return ""
}

// writing is what is going to be written of an approval.
func (a *Approval) writing() decision.Writing {
	return decision.Writing{Whole: a.adds || a.Removes, Fields: a.fields, Proposed: a.proposed, Writes: a.Writes}
}

// Refuses says why the target does not take signatures of a person with a key, "" where it does or
// asks for none.
func (d Demand) Refuses(person string, key ssh.PublicKey) string {
	if !d.signed {
		return ""
	}
	return d.signers.Refuses(person, Namespace, key, d.now)
}

// Unsigned reports whether a signature is worth nothing to the target.
func (d Demand) Unsigned(one docket.Signature) bool {
	if !d.signed {
		return false
	}
	key, err := sshsig.Verify([]byte(one.Signature), []byte(one.Text), Namespace)
	return err != nil || d.Refuses(one.Who, key) != ""
}
