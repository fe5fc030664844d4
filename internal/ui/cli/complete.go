package cli

import (
	"context"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/parcel"
)

// Completion in the shell, from what the workspace has on disk: no environment is reached for
// it, and whatever goes wrong completes nothing.

// words gives what can stand somewhere, and what of it to complete further.
type words func(s *session.Session, begun string) []string

// mostCompleted and completeWithin bound a completion.
const (
	mostCompleted  = 200
	completeWithin = 2 * time.Second
)

// complete adds completion to every command: by the words of its usage, and by its options.
func complete(a *app, root *cobra.Command) {
	kinds := map[string]words{
		"ENV": environments, "SOURCE": environments, "TARGET": environments, "NAME...": environments, "ENV...": environments,
		"P": parcelsOr(nil), "PARCEL": parcelsOr(nil), "ENV_OR_PARCEL": parcelsOr(environments),
		"DOCKET": dockets, "TYPE": types, "PATTERN...": addresses, "RECORD": addresses, "ADDRESS": addresses, "ADDRESS...": addresses,
		"TYPE/OLD": addresses, "TYPE/NEW": addresses,
	}
	options := map[string]words{
		"against": parcelsOr(environments), "like": parcelsOr(environments), "agreed": parcelsOr(nil), "parcel": parcelsOr(nil),
		"to":     environments,
		"docket": dockets, "type": types, "area": areas, "selection": selections, "record": addresses, "leave-out": addresses,
		"only": addresses, "group": addresses, "field": fields,
		"where": conditions, "status": fixed(statuses()...), "decision": fixed("open", "approved", "declined", "held"),
		"check": fixed(check.Codes()...), "sort": fixed(decide.Sorts()...),
		"take": fixed("source", "target"), "related": fixed(parcel.RelatedAll, parcel.RelatedParts, parcel.RelatedNone),
		"form": fixed("csv", "jsonl", "sql"), "changed-since": since,
	}
	for _, c := range allCommands(root) {
		if c.Name() == "selection" || c.Parent() != nil && c.Parent().Name() == "selection" {
			kinds := maps.Clone(kinds)
			kinds["NAME"] = selections
			completeCommand(a, c, kinds, options)
			continue
		}
		if c.Name() == "login" {
			kinds := maps.Clone(kinds)
			kinds["NAME"] = environments
			completeCommand(a, c, kinds, options)
			continue
		}
		completeCommand(a, c, kinds, options)
	}
}

func allCommands(c *cobra.Command) []*cobra.Command {
	out := []*cobra.Command{c}
	for _, sub := range c.Commands() {
		out = append(out, allCommands(sub)...)
	}
	return out
}

func completeCommand(a *app, c *cobra.Command, kinds, options map[string]words) {
	var usage []string
	var optional []bool
	for _, word := range strings.Fields(strings.ReplaceAll(c.Use, "|", " "))[1:] {
		usage = append(usage, strings.Trim(word, "[]"))
		optional = append(optional, strings.HasPrefix(word, "[") || strings.HasSuffix(word, "]"))
	}
	if len(usage) > 0 && !strings.HasPrefix(usage[0], "--") {
		c.ValidArgsFunction = func(_ *cobra.Command, given []string, begun string) ([]string, cobra.ShellCompDirective) {
			var out []string
			// What may be left out may be followed by what comes next.
			at := len(given)
			if at > 0 && at >= len(usage) && strings.HasSuffix(usage[len(usage)-1], "...") {
				at = len(usage) - 1
			}
			for i := at; i < len(usage) && !strings.HasPrefix(usage[i], "--"); i++ {
				if kind := kinds[usage[i]]; kind != nil {
					out = append(out, completed(a, kind, begun)...)
				}
				if !optional[i] {
					break
				}
			}
			return unused(out, given), directive(out)
		}
		if usage[0] == "DIR" || usage[0] == "FOLDER" {
			c.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
				return nil, cobra.ShellCompDirectiveFilterDirs
			}
		}
	}
	for name, kind := range options {
		if c.Flags().Lookup(name) != nil && c.LocalFlags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
				out := completed(a, kind, begun)
				return out, directive(out)
			})
		}
	}
}

// directive leaves no blank behind words that go on.
func directive(words []string) cobra.ShellCompDirective {
	if slices.ContainsFunc(words, func(w string) bool { return strings.HasSuffix(w, "/") || strings.HasSuffix(w, " ") }) {
		return cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	}
	return cobra.ShellCompDirectiveNoFileComp
}

func unused(all, given []string) []string {
	return slices.DeleteFunc(all, func(word string) bool { return slices.Contains(given, word) })
}

// completed gives the words that go on from what was begun.
func completed(a *app, kind words, begun string) []string {
	s, err := a.session()
	if err != nil {
		return nil
	}
	var out []string
	for _, word := range kind(s, begun) {
		if strings.HasPrefix(word, begun) && !strings.ContainsAny(word, "\n\r\t\x00\x1b") && !slices.Contains(out, word) {
			out = append(out, word)
		}
		if len(out) == mostCompleted {
			break
		}
	}
	return out
}

func fixed(all ...string) words {
	return func(*session.Session, string) []string { return all }
}

func statuses() (out []string) {
	for _, s := range match.Statuses() {
		out = append(out, string(s))
	}
	return out
}

func environments(s *session.Session, _ string) []string { return s.EnvironmentNames() }

// parcelsOr gives the parcels of the library, by their files' names alone, and other words.
func parcelsOr(other words) words {
	return func(s *session.Session, begun string) []string {
		var out []string
		if other != nil {
			out = other(s, begun)
		}
		entries, _ := os.ReadDir(s.Workspace.Path("parcels"))
		for _, e := range entries {
			if name := strings.TrimSuffix(e.Name(), ".parcel"); !strings.HasPrefix(name, ".") {
				out = append(out, name)
			}
		}
		return out
	}
}

func dockets(s *session.Session, _ string) []string {
	numbers, _ := s.Workspace.DocketNumbers()
	var out []string
	for _, n := range slices.Backward(numbers) {
		out = append(out, strconv.Itoa(n))
	}
	return out
}

func fromCatalog(s *session.Session, give func(*catalog.Catalog) []string) []string {
	c, err := s.Workspace.Catalog()
	if err != nil {
		return nil
	}
	return give(c)
}

func types(s *session.Session, _ string) []string {
	return fromCatalog(s, func(c *catalog.Catalog) []string { return c.Names() })
}

func areas(s *session.Session, _ string) []string {
	return fromCatalog(s, func(c *catalog.Catalog) (out []string) {
		for _, a := range c.Areas {
			out = append(out, a.Name)
		}
		return out
	})
}

func selections(s *session.Session, _ string) []string {
	return slices.Sorted(maps.Keys(s.Workspace.Selections))
}

func since(s *session.Session, _ string) (out []string) {
	for _, e := range s.EnvironmentNames() {
		out = append(out, "last-import:"+e)
	}
	return out
}

// conditions gives the beginning of one: a type, then its colon.
func conditions(s *session.Session, _ string) (out []string) {
	for _, name := range types(s, "") {
		out = append(out, name+": ")
	}
	return out
}

// inNewest works with the newest docket of the workspace, for a short while.
func inNewest(s *session.Session, do func(context.Context, *docket.Docket)) {
	ctx, cancel := context.WithTimeout(context.Background(), completeWithin)
	defer cancel()
	numbers, _ := s.Workspace.DocketNumbers()
	if len(numbers) == 0 {
		return
	}
	d, err := s.OpenDocket(ctx, strconv.Itoa(numbers[len(numbers)-1]))
	if err != nil {
		return
	}
	defer d.Close()
	do(ctx, d)
}

// addresses gives types first, and behind one the records of the newest docket.
func addresses(s *session.Session, begun string) (out []string) {
	typ, _, whole := strings.Cut(begun, "/")
	if !whole {
		for _, name := range types(s, begun) {
			out = append(out, name+"/")
		}
		return out
	}
	inNewest(s, func(ctx context.Context, d *docket.Docket) {
		for f, err := range d.Found.Findings(ctx, docket.Filter{Types: []string{typ}}) {
			if err != nil || len(out) >= mostCompleted {
				return
			}
			if strings.HasPrefix(f.Address, begun) {
				out = append(out, f.Address)
			}
		}
	})
	return out
}

// fields gives those of the newest docket.
func fields(s *session.Session, _ string) (out []string) {
	inNewest(s, func(_ context.Context, d *docket.Docket) {
		for _, t := range d.Types {
			for _, f := range t.Fields {
				if !slices.Contains(out, f.Name) {
					out = append(out, f.Name)
				}
			}
		}
	})
	slices.Sort(out)
	return out
}
