package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

func TestWhatRowsSay(t *testing.T) {
	ports, quays := fullName{"public", "ports"}, fullName{"north", "quays"}
	row := func(what, flags, other string) Row {
		return Row{What: what, Schema: "public", Name: "ports", Flags: flags, OtherSchema: "north", OtherName: other}
	}
	for _, c := range []struct {
		row  Row
		says record
	}{
		{row("relation", "r", ""), relationRecord{ports, 'r', 0}},
		{row("relation", "pSZIUTXDF", ""), relationRecord{ports, 'p', rowSecurity | timeTZ | inherits | hasRules | triggers | defining | calling | functional}},
		{row("child", "", "quays"), childRecord{ports, quays}},
		{row("reference", "ac", "quays"), referenceRecord{ports, quays, 'a', 'c', nil}},
		{row("reference", "nd id\nberth", "quays"), referenceRecord{ports, quays, 'n', 'd', []string{"id", "berth"}}},
		{row("trigger", "21", "quays"), triggerRecord{ports, quays, analysis.Insert | analysis.Update, false}},
		{row("trigger", "7", "quays"), triggerRecord{ports, quays, analysis.Insert, true}},
		{row("trigger", "?", "quays"), triggerRecord{ports, quays, analysis.Insert | analysis.Update | analysis.Delete | analysis.Truncate, true}},
		{row("part", "v", "quays"), partRecord{ports, byView, quays}},
		{row("call", "w", "quays"), callRecord{ports, byWrite, quays}},
		{row("call", "t", "quays"), checkRecord{ports, quays}},
		{row("view", "", "select 1"), viewRecord{ports, "select 1"}},
		{row("policy", "", "true, true"), policyRecord{ports, "true, true"}},
		{row("rule", "4", "create rule"), ruleRecord{ports, analysis.Delete, "create rule"}},
		{row("columns", "", "ni id\ndo at\nh tide\ng made\n name with blanks\nno-blank"), columnsRecord{ports, []column{
			{Name: "id", Type: freshness.Integer, Identity: true}, {Name: "at", Dated: true, Stamp: true, Odd: true}, {Name: "tide", Dated: true},
			{Name: "made", Generated: true}, {Name: "name with blanks"},
		}}},
		{row("key", "ports_pkey", "id\nberth"), keyRecord{ports, "ports_pkey", []string{"id", "berth"}}},
		{row("granted", "k1", ""), grantedRecord{ports, "k1"}},
		{row("readers", "", "10\n11"), readersRecord{"ports", []string{"10", "11"}}},
		{row("function", "sfp", "create function"), functionRecord{ports, 's', 'f', true, "north", "create function"}},
		{row("function", "", ""), functionRecord{ports, 'v', 0, false, "north", ""}},
		{row("aggregate", "", "quays"), aggregateRecord{ports, quays}},
		{row("operator", "i", "quays"), operatorRecord{"ports", quays, 'i'}},
		{row("operator", "", "quays"), operatorRecord{"ports", quays, 0}},
		{row("type", "di", "quays"), typeRecord{ports, 'd', 'i', quays}},
		{row("type", "", "quays"), typeRecord{ports, 0, 0, quays}},
		{row("typed", "", "quays"), typedRecord{ports, quays}},
		{row("number", "16400", ""), numberRecord{ports, 16400}},
		{row("numbers", "", "31 abs\n?"), numbersRecord{31: "abs"}},
		{row("system", "", "pg_catalog.pg_class\ninformation_schema.tables"), systemRecord{"pg_catalog.pg_class", "information_schema.tables"}},
		{row("builtin", "", "i abs\nv nextval\nodd"), builtinRecord{"abs": 'i', "nextval": 'v'}},
		{row("event", "", ""), hasEventTriggers}, {row("restricted", "", ""), isRestricted}, {row("reach", "", ""), reachesOthers}, {row("equality", "", ""), hasEquality},
		{row("schemas", "", ""), otherRecord{}}, {row("settings", "", "jit"), otherRecord{}},
	} {
		says, err := c.row.read()
		assert.NoError(t, err, "%v", c.row)
		assert.Equal(t, c.says, says, "%v", c.row)
	}
}

func TestRowsThatSayNothingKnown(t *testing.T) {
	for _, r := range []Row{
		{}, {What: "relations", Name: "ports", Flags: "r"}, {What: "relation", Name: "ports"}, {What: "relation", Name: "ports", Flags: "r?"},
		{What: "reference", Name: "ports", Flags: "a"}, {What: "part", Name: "ports"}, {What: "call", Name: "ports", Flags: "vw"}, {What: "number", Name: "ports", Flags: "-1"},
	} {
		assert.ErrorIs(t, Check([]Row{{What: "event"}, r}), errRow, "%v", r)
	}
	assert.NoError(t, Check(nil))
}

// Whatever rows hold, a schema is made of those that can be read, and of the others it knows nothing.
func TestAnyRowsMakeASchema(t *testing.T) {
	kinds := []string{"relation", "child", "reference", "trigger", "part", "call", "view", "policy", "rule", "columns", "key", "function", "granted", "readers",
		"event", "aggregate", "operator", "type", "typed", "system", "schemas", "reach", "equality", "restricted", "number", "numbers", "builtin", "odd"}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom([]string{"", "a", "b", "r", "v", "w", "t", "ac", "rS", "1", "i x", "n id\n name"})
		rows := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Row {
			return Row{rapid.SampledFrom(kinds).Draw(t, "what"), text.Draw(t, "schema"), text.Draw(t, "name"), text.Draw(t, "flags"), text.Draw(t, "other schema"), text.Draw(t, "other")}
		}), 0, 20).Draw(t, "rows")
		var sound []Row
		for _, r := range rows {
			if _, err := r.read(); err == nil {
				sound = append(sound, r)
			}
		}
		assert.NoError(t, Check(sound))
		assert.Equal(t, len(sound) == len(rows), Check(rows) == nil)
		assert.Equal(t, New(sound).Tables(), New(rows).Tables())
	})
}
