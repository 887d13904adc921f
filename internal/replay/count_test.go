package replay

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What callgrind_annotate prints of each function is told apart by its package, whatever its name holds.
func TestByPackage(t *testing.T) {
	got := byPackage([]byte(`--------------------------------------------------------------------------------
Ir
--------------------------------------------------------------------------------
214,971,607 (100.0%)  PROGRAM TOTALS

        Ir            file:function
1,056,087 (49.13%)  internal/wire/postgres/batch.go:jollylarder/internal/wire/postgres.(*batch).unit'2 [/tmp/a b]
      913 ( 0.20%)  ???:jollylarder/internal/wire/postgres.serve [/tmp/x]
    2,000 ( 0.01%)  /root/go/pkg/mod/a@v2.1/cache_impl.go:github.com/a/cache/v2.(*cache[go.shape.string,go.shape.*uint8]).get [/tmp/x]
       10 ( 0.00%)  time/time.go:time.Time.Add [/tmp/x]
        5 ( 0.00%)  ???:0x0000000000401000 [???]
        7 ( 0.00%)  aeshashbody [/tmp/x]
`))
	assert.Equal(t, map[string]float64{
		"jollylarder/internal/wire/postgres": 1_057_000, "github.com/a/cache/v2": 2000, "time": 10, "the processor's own": 12,
	}, got)
}
