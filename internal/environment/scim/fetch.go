package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/mirror"
)

// inOne is how many values one filter asks for.
const inOne = 25

// Count asks how many resources there are.
func (d *directory) Count(ctx context.Context, set string) (int, error) {
	p, err := d.find(set)
	if err != nil || p.to != "" {
		return -1, err
	}
	var l list
	if gone, err := d.get(ctx, p.endpoint+"?count=0", &l); err != nil || gone || l.TotalResults == nil {
		return -1, err
	}
	return *l.TotalResults, nil
}

// Requests counts what it takes to read.
func (d *directory) Requests(_ context.Context, rows, values int) (whole, narrowed int, err error) {
	return (rows + d.page - 1) / d.page, (values + inOne - 1) / inOne, nil
}

// Narrows tries once whether resources are found by an attribute, and others left out.
func (d *directory) Narrows(ctx context.Context, set, name string) (bool, error) {
	p, err := d.find(set)
	if err != nil {
		return false, err
	}
	c, there := p.column(name)
	if !there || p.to != "" || !d.config.Filter.Supported || c.urn != "" || name == changedColumn {
		return false, nil
	}
	id := set + "\x00" + name
	if known, ok := d.narrows[id]; ok {
		return known, nil
	}
	d.narrows[id] = false
	var first list
	if gone, err := d.get(ctx, p.endpoint+"?count=5", &first); err != nil || gone {
		return false, err
	}
	for _, raw := range first.Resources {
		row, err := p.row(raw)
		if err != nil {
			return false, d.broken(p, err)
		}
		text, ok := c.literal(row.Values[name])
		if !ok {
			continue
		}
		found := false
		only := true
		err = d.filtered(ctx, p, name+" eq "+text, func(other mirror.Row) error {
			found = found || other.Ref == row.Ref
			have, _ := other.Values[name].(string)
			want, _ := row.Values[name].(string)
			only = only && strings.EqualFold(have, want)
			return nil
		})
		if err != nil {
			if ctx.Err() != nil {
				return false, ctx.Err()
			}
			return false, nil //nolint:nilerr // what is refused is not used
		}
		d.narrows[id] = found && only
		return found && only, nil
	}
	return false, nil
}

func (d *directory) broken(p *place, err error) error {
	return d.fail(fmt.Sprintf("%s of %s: %v.", p.endpoint, d.web.Base(), err), "Ask who runs the directory.")
}

// filtered gives the resources of a filter.
func (d *directory) filtered(ctx context.Context, p *place, filter string, give func(mirror.Row) error) error {
	return d.pages(ctx, p, "filter="+strings.ReplaceAll(url.QueryEscape(filter), "+", "%20")+"&", func(raw json.RawMessage) error {
		row, err := p.row(raw)
		if err != nil {
			return d.broken(p, err)
		}
		return give(row)
	})
}

// pages gives resources page by page; what moved between pages comes twice, or is asked for
// once more.
func (d *directory) pages(ctx context.Context, p *place, options string, give func(json.RawMessage) error) error {
	for try := 0; ; try++ {
		seen, total := map[string]bool{}, 0
		for start := 1; ; {
			var l list
			gone, err := d.get(ctx, fmt.Sprintf("%s?%sstartIndex=%d&count=%d", p.endpoint, options, start, d.page), &l)
			if err != nil {
				return err
			}
			if gone || l.TotalResults == nil || *l.TotalResults < 0 {
				return d.fail(fmt.Sprintf("%s does not list its %s.", d.web.Base(), p.endpoint), "Ask who runs the directory.")
			}
			fresh := 0
			for _, raw := range l.Resources {
				var of resource
				var id string
				if json.Unmarshal(raw, &of) != nil || json.Unmarshal(of.attribute(idColumn), &id) != nil || id == "" {
					return d.broken(p, errNoID)
				}
				if !seen[id] {
					fresh++
				}
				seen[id] = true
				if err := give(raw); err != nil {
					return err
				}
			}
			total = *l.TotalResults
			if start += len(l.Resources); fresh == 0 || start > total {
				break
			}
		}
		if len(seen) >= total {
			return nil
		}
		if try == 2 {
			return d.fail(fmt.Sprintf("%s says that there are %d of its %s, and gives %d.", d.web.Base(), total, p.endpoint,
				len(seen)), "Try again; if it stays so, use an account that may see all.")
		}
	}
}

// Fetch gives rows.
func (d *directory) Fetch(ctx context.Context, q mirror.Query, give func(mirror.Row) error) error {
	p, err := d.find(q.Set)
	if err != nil {
		return err
	}
	rows := func(raw json.RawMessage) error {
		row, err := p.row(raw)
		if err != nil {
			return d.broken(p, err)
		}
		return give(row)
	}
	switch {
	case p.to != "":
		return d.members(ctx, p, q, give)
	case q.Refs != nil:
		for _, ref := range q.Refs {
			var raw json.RawMessage
			gone, err := d.get(ctx, p.endpoint+"/"+url.PathEscape(ref), &raw)
			if err != nil {
				return err
			}
			if gone {
				continue
			}
			if err := rows(raw); err != nil {
				return err
			}
		}
		return nil
	case q.In != nil:
		c, _ := p.column(q.By)
		var parts []string
		for _, v := range q.In {
			if text, ok := c.literal(v); ok {
				parts = append(parts, q.By+" eq "+text)
			}
		}
		for some := range slices.Chunk(parts, inOne) {
			err := d.filtered(ctx, p, strings.Join(some, " or "), give)
			var said *environment.Error
			for _, one := range some { // it may not take several values in one filter
				if !errors.As(err, &said) || len(some) == 1 {
					break
				}
				if one := d.filtered(ctx, p, one, give); one != nil {
					return one
				}
			}
			if err != nil && (!errors.As(err, &said) || len(some) == 1) {
				return err
			}
		}
		return nil
	}
	return d.pages(ctx, p, "", rows)
}

// memberSign stands between group and member in the reference of a membership.
const memberSign = "\x1f"

// members gives who is in which group. A list that leaves the members out is filled up group by
// group.
func (d *directory) members(ctx context.Context, p *place, q mirror.Query, give func(mirror.Row) error) error {
	one := func(raw json.RawMessage) error { return d.membersOf(ctx, p, raw, q.Refs, give) }
	if q.Refs == nil {
		return d.pages(ctx, p, "", one)
	}
	asked := map[string]bool{}
	for _, ref := range q.Refs {
		group, _, _ := strings.Cut(ref, memberSign)
		if asked[group] {
			continue
		}
		asked[group] = true
		var raw json.RawMessage
		gone, err := d.get(ctx, p.from+"/"+url.PathEscape(group), &raw)
		if err != nil {
			return err
		}
		if !gone {
			if err := one(raw); err != nil {
				return err
			}
		}
	}
	return nil
}

// membersOf gives the members of one group, of those that are wanted where some are.
func (d *directory) membersOf(ctx context.Context, p *place, raw json.RawMessage, refs []string, give func(mirror.Row) error) error {
	var of resource
	var group string
	if json.Unmarshal(raw, &of) != nil || json.Unmarshal(of.attribute(idColumn), &group) != nil || group == "" {
		return d.broken(p, errNoID)
	}
	list := of.attribute("members")
	if list == nil {
		var whole resource
		if gone, err := d.get(ctx, p.from+"/"+url.PathEscape(group)+"?attributes=members", &whole); err != nil || gone {
			return err
		}
		list = whole.attribute("members")
	}
	var all []struct {
		Value string
		Type  string
		Ref   string `json:"$ref"`
	}
	if list != nil && json.Unmarshal(list, &all) != nil {
		return d.broken(p, fmt.Errorf("the members of a group are no list"))
	}
	for _, m := range all {
		nested := strings.EqualFold(m.Type, "Group") || m.Type == "" && strings.Contains(m.Ref, "/Groups/")
		if m.Value == "" || nested != (p.to == "Groups") {
			continue
		}
		row := mirror.Row{Ref: group + memberSign + m.Value, Values: map[string]any{"group": group, "member": m.Value}}
		if refs != nil && !slices.Contains(refs, row.Ref) {
			continue
		}
		if err := give(row); err != nil {
			return err
		}
	}
	return nil
}
