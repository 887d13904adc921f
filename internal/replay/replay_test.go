package replay_test

import (
	"errors"
	"os"
	"runtime"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/replay"
)

// TestMain has the test program be what instructions are counted of, if it is called with the name of an exchange and
// how often it is to be answered.
func TestMain(m *testing.M) {
	if len(os.Args) == 3 {
		for _, x := range replay.Exchanges {
			if n, err := strconv.Atoi(os.Args[2]); err == nil && x.Name == os.Args[1] {
				if err := replay.Run(x, n); err != nil {
					panic(err)
				}
				return
			}
		}
	}
	os.Exit(m.Run())
}

func kept(t testing.TB, x replay.Exchange) *replay.Larder {
	l, err := replay.New(x)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	require.NoError(t, l.Cache(x))
	return l
}

func TestAHitAllocatesNothing(t *testing.T) {
	for _, x := range replay.Exchanges {
		t.Run(x.Name, func(t *testing.T) {
			each, err := replay.Allocations(x)
			require.NoError(t, err)
			assert.Less(t, each, 0.01, "the rest of the program allocates a little now and then")
		})
	}
}

// The most instructions that a hit may take: about a twentieth more than it does. When it takes fewer for good, they
// are to be lowered.
var most = map[string]float64{"simple": 6200, "prepared": 7500, "MariaDB text": 6950, "MariaDB prepared": 6750}

func TestInstructionsOfAHit(t *testing.T) {
	if runtime.GOARCH != "amd64" {
		t.Skip("what is known is known of amd64")
	}
	for _, x := range replay.Exchanges {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel() // they count, and do not measure
			got, err := replay.Count(os.Args[0], x.Name)
			if errors.Is(err, replay.ErrNoValgrind) && os.Getenv("CI") != "true" {
				t.Skip(err)
			}
			require.NoError(t, err)
			t.Logf("%.0f", got.Total)
			assert.Less(t, got.Total, most[x.Name])
			assert.Greater(t, got.Total, most[x.Name]/2, "not all was counted")
		})
	}
}

func BenchmarkHit(b *testing.B) {
	for _, x := range replay.Exchanges {
		b.Run(x.Name, func(b *testing.B) {
			l := kept(b, x)
			b.ReportAllocs()
			b.ResetTimer()
			require.NoError(b, l.Ask(x, b.N))
		})
	}
}
