package test

import (
	"fmt"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/demo/service"
)

const directoryCatalog = `types:
  user: {at: Users, key: [userName], id: id, fold_case: [userName], retired: {field: active, values: ["false"]}, title: displayName}
  group: {at: Groups, key: [displayName], id: id}
  role: {at: Roles, key: [code], id: id}
  group_user: {at: Groups/users, key: [group, member], refers: {group: group, member: user}, part_of: group}
  group_group: {at: Groups/groups, key: [group, member], refers: {group: group, member: group}, part_of: group}
`

// directories are a workspace of two directories, as the demo fills them.
func directories(t *testing.T, o service.DirectoryOptions) (p *place, target *service.Directory) {
	t.Helper()
	p = &place{t: t, dir: t.TempDir(), user: "mara"}
	text := "environments:\n"
	for _, role := range []string{"sandbox", "production"} {
		o.Prefix = role[:1]
		d := service.NewDirectory(o)
		service.FillDirectory(d, role)
		server := httptest.NewServer(d)
		t.Cleanup(server.Close)
		text += fmt.Sprintf("  %s: {connect: \"scim+%s\", web: {requests_a_second: 10000}}\n", role, server.URL)
		target = d
	}
	p.write("anagram.yaml", text)
	p.write("catalog.yaml", directoryCatalog)
	return p, target
}

// people gives what a directory holds, without ids.
func people(d *service.Directory) []string {
	var out []string
	names := map[string]string{}
	for _, endpoint := range []string{"Users", "Groups", "Roles"} {
		for id, values := range d.All(endpoint) {
			names[id] = fmt.Sprint(values["userName"], values["displayName"])
		}
	}
	for _, endpoint := range []string{"Users", "Groups", "Roles"} {
		for _, values := range d.All(endpoint) {
			line := endpoint
			for _, name := range []string{"userName", "displayName", "code", "title", "active", "emails", "name", "level", "rights"} {
				line += fmt.Sprint(" ", values[name])
			}
			var members []string
			list, _ := values["members"].([]any)
			for _, m := range list {
				members = append(members, names[m.(map[string]any)["value"].(string)])
			}
			slices.Sort(members)
			out = append(out, line+" "+strings.Join(members, ","))
		}
	}
	slices.Sort(out)
	return out
}

// Users, groups, who is in which, and roles are brought over and taken back, whatever a
// directory can do beyond the least.
func TestDirectoriesArePutInOrder(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]service.DirectoryOptions{
		"as it is": {}, "without bulk": {NoBulk: true}, "that cannot patch": {NoPatch: true}, "that ignores filters": {NoFilter: true}, "that lists no members": {NoMembers: true}, "with pages of three": {Most: 3},
	} {
		if !thorough && name != "as it is" && name != "that cannot patch" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, target := directories(t, o)
			before := people(target)
			assert.Contains(t, words(p.must(0, "env", "test").out), "SCIM 2.0 directory")
			p.must(0, "catalog", "check")
			p.must(3, "match", "sandbox", "--against", "production", "--name", "p")
			found := p.review()
			assert.Equal(t, "changed", found["user/nadia"].Status)
			assert.Equal(t, "new", found["group_user/Validation/oskar"].Status)
			assert.Equal(t, "target-only", found["user/amos"].Status)
			assert.Equal(t, "changed", found["role/TECH"].Status)
			p.must(0, "approve", "*", "--status", "new,changed")
			done := p.json(0, "import")
			require.Empty(t, done["left_out"])
			p.must(0, "match", "p", "--against", "production")
			assert.Len(t, p.review(), 1, "who is only in production")
			p.must(matched, "restore", "1")
			docket := fmt.Sprint(docketsIn(p))
			p.must(0, "approve", docket, "*", "--take", "source")
			p.must(0, "import", docket)
			assert.Equal(t, before, people(target))
		})
	}
}

// However a directory fails, what was approved is there in the end, and nothing else.
func TestADirectoryThatFails(t *testing.T) {
	t.Parallel()
	inGate(t, "services on the web in many variants")
	whole, reference := directories(t, service.DirectoryOptions{})
	whole.must(3, "match", "sandbox", "--against", "production")
	whole.must(0, "approve", "*", "--status", "new,changed")
	whole.must(0, "import")
	want := people(reference)
	for name, fail := range map[string]service.Fail{"before": {Before: 0.15}, "after": {After: 0.15}, "busy": {Busy: 0.15}, "error": {Error: 0.15}, "late": {Late: 0.15}} {
		for _, bulk := range tries(t.Name()+name, true, false) {
			t.Run(fmt.Sprintf("%s, bulk %t", name, bulk), func(t *testing.T) {
				t.Parallel()
				for round := range full(1, 2) {
					p, target := directories(t, service.DirectoryOptions{NoBulk: !bulk})
					p.must(3, "match", "sandbox", "--against", "production")
					p.must(0, "approve", "*", "--status", "new,changed")
					fail.Seed = uint64(round + 3)
					target.SetFail(fail)
					importUnder(p, "1")
					target.SetFail(service.Fail{})
					assert.Equal(t, want, people(target))
				}
			})
		}
	}
}
