package postgres

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/analysis"
)

// What nobody has reviewed may change results: only what is known to change none changes nothing.
func TestWhatChangingASettingDoes(t *testing.T) {
	for sql, does := range map[string]analysis.Effect{
		"set datestyle = german": analysis.Settings, "set DateStyle to iso": analysis.Settings, "reset datestyle": analysis.Settings, "set local timezone = 'UTC'": analysis.Settings,
		"set time zone 'UTC'": analysis.Settings, "set names 'latin1'": analysis.Settings, "set role clerk": analysis.Settings, "set session authorization clerk": analysis.Settings,
		"set plpgsql.variable_conflict = 'error'": analysis.Settings, `set "jollylarder.caching" = off`: analysis.Settings, "reset all": analysis.Settings,
		"set a_setting_of_tomorrow = on": analysis.Settings, `set "A_Setting" = 1`: analysis.Settings, "reset a_setting_of_tomorrow": analysis.Settings, "set local a_setting_of_tomorrow to default": analysis.Settings,
		"set work_mem = '8MB'": 0, "set Work_Mem to default": 0, "reset enable_seqscan": 0, "set application_name = 'desk'": 0, "set local enable_sort = off": 0,
		"set harbour.desk = 'north'": 0, "reset harbour.desk": 0, "set Statement_Timeout = 5": analysis.Patience, "reset statement_timeout": analysis.Patience,
	} {
		assert.Equal(t, does, Facts(sql).Effect&(analysis.Settings|analysis.Patience), sql)
	}
}

// What is in the key, or decides in another way, is not called harmless as well.
func TestSettingsAreInOneListEach(t *testing.T) {
	for _, name := range slices.Concat(ResultSettings, otherSettings, []string{patience}) {
		assert.False(t, harmlessSettings[strings.ToLower(name)], name)
	}
}

func TestUnreviewedSettings(t *testing.T) {
	for _, name := range []string{"a_setting_of_tomorrow", "sql_inheritance", "operator_precedence_warning", "date style", "work_mem2"} {
		assert.True(t, Unreviewed(name), name)
	}
	for _, name := range append([]string{"work_mem", "WORK_MEM", "statement_timeout", "standard_conforming_strings", "harbour.desk", "datestyle", "timezone"}, ResultSettings...) {
		assert.False(t, Unreviewed(name), name)
	}
}
