package replay_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/replay"
)

func BenchmarkHit(b *testing.B) {
	for _, x := range []replay.Exchange{replay.Simple, replay.Prepared} {
		b.Run(x.Name, func(b *testing.B) {
			l, err := replay.New()
			require.NoError(b, err)
			defer l.Close()
			require.NoError(b, l.Keep(x))
			b.ReportAllocs()
			b.ResetTimer()
			require.NoError(b, l.Ask(x, b.N))
		})
	}
}
