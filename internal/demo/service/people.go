package service

import (
	"fmt"
	"strings"
)

// FillDirectory puts the people of the demo's laboratory into a directory, as one of its two
// sides has them. All of them are invented.
func FillDirectory(d *Directory, role string) {
	names := []string{"Mara Lindqvist", "Jonas Adeyemi", "Ida Fenwick", "Tomasz Oyelaran", "Nadia Brandt", "Felix Marchetti",
		"Ruth Okonjo", "Samir Holt", "Greta Nakamura", "Oskar Petrov", "Lena Duarte", "Amos Keller"}
	sandbox := role == "sandbox"
	ids := map[string]string{}
	for i, name := range names {
		if i == 9 && !sandbox || i == 11 && sandbox {
			continue // one is new in the sandbox, one left there and stayed in production
		}
		given, family, _ := strings.Cut(name, " ")
		user := strings.ToLower(given)
		title := "Laboratory staff"
		if i < 2 || i == 4 && sandbox {
			title = "Functional administrator"
		}
		ids[user] = d.Put("Users", map[string]any{"userName": user, "displayName": name, "title": title, "active": true,
			"name":   map[string]any{"givenName": given, "familyName": family},
			"emails": []any{map[string]any{"value": user + "@fernhollow.example", "type": "work", "primary": true}}})
	}
	member := func(name, kind string) any { return map[string]any{"value": ids[name], "type": kind} }
	for _, group := range []struct {
		name    string
		members []string
	}{{"Night shift", []string{"tomasz", "felix", "ruth"}}, {"Setup", []string{"mara", "jonas", "nadia"}},
		{"Prices", []string{"ida"}}, {"Validation", []string{"samir", "greta", "oskar"}}} {
		var members []any
		for _, name := range group.members {
			if ids[name] != "" && (name != "nadia" || sandbox) {
				members = append(members, member(name, "User"))
			}
		}
		ids[group.name] = d.Put("Groups", map[string]any{"displayName": group.name, "members": members})
	}
	d.Put("Groups", map[string]any{"displayName": "Everybody", "members": []any{member("Night shift", "Group"), member("Setup", "Group")}})
	for i, code := range []string{"ADMIN", "TECH", "READ"} {
		rights := []any{"results.read"}
		if i < 2 {
			rights = append(rights, "results.write")
		}
		if i == 0 || i == 1 && sandbox {
			rights = append(rights, "setup.read")
		}
		d.Put("Roles", map[string]any{"code": code, "displayName": fmt.Sprintf("Role %s", strings.ToLower(code)), "level": 3 - i,
			"rights": rights})
	}
}
