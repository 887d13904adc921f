package rules

import (
	"reflect"
	"slices"
	"strings"
)

// Change is one difference between two lists of rules.
type Change struct {
	// Kind is added, removed, changed or moved.
	Kind string
	// Rule is the rule's name: in the earlier list if it is gone, else in the later.
	Rule string
	// Before and After are the rule in either list, or nil.
	Before, After *Rule
	// Keys are those of a changed rule that differ, with their values as the file has them; an empty value is none.
	Keys []KeyChange
}

// KeyChange is one key's values.
type KeyChange struct{ Key, Before, After string }

// The kinds of changes.
const (
	Added    = "added"
	Removed  = "removed"
	Changed  = "changed"
	Moved    = "moved" // it stands behind another rule than before, of those that are in both lists
	Declared = "declarations changed"
)

// Difference gives what makes the later of two sets of the earlier one, in the order of the rules.
func Difference(before, after *Set) (out []Change) {
	var common []string // names in both, as the earlier list has them
	for i := range before.List() {
		r := &before.rules[i]
		if after.Named(r.Name) == nil {
			out = append(out, Change{Kind: Removed, Rule: r.Name, Before: r})
		} else {
			common = append(common, r.Name)
		}
	}
	for i := range after.List() {
		r := &after.rules[i]
		old := before.Named(r.Name)
		if old == nil {
			out = append(out, Change{Kind: Added, Rule: r.Name, After: r})
			continue
		}
		if keys := keysChanged(old, r); len(keys) > 0 {
			out = append(out, Change{Kind: Changed, Rule: r.Name, Before: old, After: r, Keys: keys})
		}
		if common[0] != r.Name {
			out = append(out, Change{Kind: Moved, Rule: r.Name, Before: old, After: r})
		}
		common = slices.DeleteFunc(common, func(name string) bool { return name == r.Name })
	}
	if !reflect.DeepEqual(before.Declarations(), after.Declarations()) &&
		len(before.Declarations())+len(after.Declarations()) > 0 {
		out = append(out, Change{Kind: Declared})
	}
	return out
}

func keysChanged(before, after *Rule) (out []KeyChange) {
	old, now := before.pairs(), after.pairs()
	value := func(list []pair, key string) string {
		for _, p := range list {
			if p.key == key {
				return p.value
			}
		}
		return ""
	}
	for _, p := range old {
		if v := value(now, p.key); v != p.value && p.key != "name" {
			out = append(out, KeyChange{p.key, p.value, v})
		}
	}
	for _, p := range now {
		if value(old, p.key) == "" && p.key != "name" {
			out = append(out, KeyChange{p.key, "", p.value})
		}
	}
	return out
}

// Tell says changes in words, a line for each.
func Tell(changes []Change) (out []string) {
	for _, c := range changes {
		line := c.Kind + " " + c.Rule
		switch {
		case c.Kind == Declared:
			line = Declared
		case c.Kind == Added:
			var keys []string
			for _, p := range c.After.pairs() {
				if p.key != "name" && p.key != "note" && p.key != "statement" &&
					!(p.key == "pattern" && string(c.After.Pattern) == c.Rule) {
					keys = append(keys, p.key+" "+p.value)
				}
			}
			line += ": " + strings.Join(keys, ", ")
		case len(c.Keys) > 0:
			var keys []string
			for _, k := range c.Keys {
				keys = append(keys, k.Key+" "+orNone(k.Before)+" → "+orNone(k.After))
			}
			line += ": " + strings.Join(keys, ", ")
		}
		out = append(out, line)
	}
	return out
}

func orNone(value string) string {
	if value == "" {
		return "none"
	}
	return value
}
