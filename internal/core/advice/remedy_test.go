package advice

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/reason"
)

// Of every reason for which a call passes at one moment it is known what would help, or that nothing would.
func TestEveryReasonOfAMomentHasARemedy(t *testing.T) {
	for c := reason.NoRule; c <= reason.NoRoom; c++ {
		if _, generic := remedies[c]; !generic {
			assert.NotEmpty(t, Remedy(reason.Of(c), postgres.Dialect), reason.Of(c).String())
		}
	}
}

func TestRemediesGoByTheReasonAndNotByItsWay(t *testing.T) {
	through := reason.Of(reason.ReadsSetting).Behind(reason.Way("").View("public.open_sailings").Calls().Within("current_setting"))
	assert.Equal(t, "reads the view public.open_sailings, which calls current_setting(), which reads a setting", through.String())
	assert.Equal(t, parameter, Remedy(through))
	assert.Empty(t, Remedy(reason.About(reason.NotUnderstood, "no rule caches this pattern")), "what a reason speaks of is nobody's remedy")
}
